//! What a client would say of a chain: by its library's procedure where that was measured, by rules where it was not.

use crate::check::client::case::Input;
use crate::check::client::{self, Client, Verdict};
use crate::check::{suites, verify};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::chain::name_match;
use crate::vocabulary::client_id::Library;
use crate::vocabulary::name::Name;

/// What a client would say of a chain.
pub fn predict(client: Client, input: &Input<'_>) -> Verdict {
    predict_without(client, input, None)
}

/// The same with one of the library's objections left out: what would it say if it did not mind this?
pub fn predict_without(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    if let Some(refused) = suites::refused(client, input) {
        return refused;
    }
    // Nothing to judge: no procedure begins.
    if input.served.is_empty() {
        return client::by_policy(&client::standard::POLICY, client, input);
    }
    match client.library() {
        Library::OpenSsl | Library::BoringSsl => verify::openssl::predict(client, input, without),
        Library::Gnutls => verify::gnutls::predict(client, input, without),
        Library::Jvm => verify::java::predict(input, without),
        Library::Go => verify::go::predict(input, without),
        Library::Chromium => verify::chromium::predict(input, without),
        Library::Mozilla => verify::firefox::predict(input, without),
        Library::Webpki => verify::webpki::predict(input, without),
        Library::Rules => client::by_policy(policy(client), client, input),
    }
}

/// Everything that a client may say because of this. NAME stands for the host, NAMES for what the certificate names.
pub fn words(client: Client, code: Code) -> Vec<String> {
    match client.library() {
        Library::OpenSsl | Library::BoringSsl => verify::openssl::words(client, code),
        Library::Gnutls => verify::gnutls::words(client, code),
        Library::Jvm => verify::java::words(code),
        Library::Go => verify::go::words(code),
        Library::Chromium => verify::chromium::words(code),
        Library::Mozilla => verify::firefox::words(code),
        Library::Webpki => verify::webpki::words(code),
        Library::Rules => Vec::new(),
    }
}

/// The objections of a client's library, by the words with which [`predict_without`] leaves them out.
pub fn objections(client: Client) -> Vec<&'static str> {
    match client.library() {
        Library::OpenSsl | Library::BoringSsl => verify::openssl::all_words(client),
        Library::Gnutls => verify::gnutls::all_words(client),
        Library::Jvm => verify::java::all_words(),
        Library::Go => verify::go::all_words(),
        Library::Chromium => verify::chromium::all_words(),
        Library::Mozilla => verify::firefox::all_words(),
        Library::Webpki => verify::webpki::all_words(),
        Library::Rules => Vec::new(),
    }
}

/// Whether a client finds the host in a certificate.
pub fn covers(client: Client, leaf: &Certificate, host: &Name) -> bool {
    match client.library() {
        Library::OpenSsl | Library::BoringSsl => verify::openssl::covers(client, leaf, host),
        Library::Gnutls => verify::gnutls::names::covers(leaf, host),
        Library::Jvm => verify::java::covers(leaf, host),
        Library::Go => verify::go::covers(leaf, host),
        Library::Chromium => verify::chromium::covers(leaf, host),
        Library::Mozilla => verify::firefox::names::covers(leaf, host),
        Library::Webpki => verify::webpki::covers(leaf, host),
        Library::Rules => name_match::covers(leaf, host, policy(client).matching),
    }
}

/// The rules of a client of which no procedure was measured.
fn policy(client: Client) -> &'static client::Policy {
    match client {
        Client::Safari => &client::safari::POLICY,
        Client::Windows => &client::windows::POLICY,
        _ => &client::standard::POLICY,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::client::Outcome;
    use crate::vocabulary::timestamp::Timestamp;

    #[test]
    fn nobody_accepts_a_server_that_sends_nothing() {
        let input = Input {
            served: &[],
            extra: &[],
            anchors: &[],
            distrusted: &[],
            distrusted_keys: &[],
            name: None,
            purpose: None,
            at: Timestamp::from_unix(1_795_600_000),
            lists: &[],
            revocation: Default::default(),
            spoken: Default::default(),
        };
        for client in Client::ALL {
            assert_ne!(predict(client, &input).outcome, Outcome::Accepts, "{client:?}");
        }
    }
}
