//! What a client would say of a chain: by its library's procedure where that was measured, by rules where it was not.

use crate::check::client::case::Input;
use crate::check::client::{self, Client, Verdict};
use crate::check::{suites, verify};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::chain::name_match;
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
    match client {
        // Nothing to judge: no procedure begins.
        _ if input.served.is_empty() => client::by_policy(&client::standard::POLICY, client, input),
        Client::Curl | Client::Python | Client::Node | Client::Bun | Client::Grpc => {
            verify::openssl::predict(client, input, without)
        }
        Client::Gnutls => verify::gnutls::predict(input, without),
        Client::Java => verify::java::predict(input, without),
        Client::Go => verify::go::predict(input, without),
        Client::Chromium => verify::chromium::predict(input, without),
        Client::Firefox => verify::firefox::predict(input, without),
        Client::Standard => client::by_policy(&client::standard::POLICY, client, input),
        Client::Safari => client::by_policy(&client::safari::POLICY, client, input),
        Client::Windows => client::by_policy(&client::windows::POLICY, client, input),
    }
}

/// Everything that a client may say because of this. NAME stands for the host, NAMES for what the certificate names.
pub fn words(client: Client, code: Code) -> Vec<String> {
    match client {
        Client::Curl | Client::Python | Client::Node | Client::Bun | Client::Grpc => {
            verify::openssl::words(client, code)
        }
        Client::Gnutls => verify::gnutls::words(code),
        Client::Java => verify::java::words(code),
        Client::Go => verify::go::words(code),
        Client::Chromium => verify::chromium::words(code),
        Client::Firefox => verify::firefox::words(code),
        Client::Standard | Client::Safari | Client::Windows => Vec::new(),
    }
}

/// The objections of a client's library, by the words with which [`predict_without`] leaves them out.
pub fn objections(client: Client) -> Vec<&'static str> {
    match client {
        Client::Curl | Client::Python | Client::Node | Client::Bun | Client::Grpc => verify::openssl::all_words(client),
        Client::Gnutls => verify::gnutls::all_words(),
        Client::Java => verify::java::all_words(),
        Client::Go => verify::go::all_words(),
        Client::Chromium => verify::chromium::all_words(),
        Client::Firefox => verify::firefox::all_words(),
        Client::Standard | Client::Safari | Client::Windows => Vec::new(),
    }
}

/// Whether a client finds the host in a certificate.
pub fn covers(client: Client, leaf: &Certificate, host: &Name) -> bool {
    match client {
        Client::Curl | Client::Python | Client::Node | Client::Bun | Client::Grpc => {
            verify::openssl::covers(client, leaf, host)
        }
        Client::Gnutls => verify::gnutls::names::covers(leaf, host),
        Client::Java => verify::java::covers(leaf, host),
        Client::Go => verify::go::covers(leaf, host),
        Client::Chromium => verify::chromium::covers(leaf, host),
        Client::Firefox => verify::firefox::names::covers(leaf, host),
        Client::Standard => name_match::covers(leaf, host, client::standard::POLICY.matching),
        Client::Safari => name_match::covers(leaf, host, client::safari::POLICY.matching),
        Client::Windows => name_match::covers(leaf, host, client::windows::POLICY.matching),
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
