//! Clients: what each of them demands of a chain, and in which words it refuses.

pub mod chromium;
pub mod curl;
pub mod firefox;
pub mod judge;
pub mod node;
pub mod python;
pub mod rules;
pub mod standard;
pub mod view;

use crate::cert::Certificate;
use crate::chain::name_match::Matching;
pub use crate::client_id::Client;
use crate::finding::Code;
use crate::name::Name;
use judge::{Input, Judgement, judge};

/// A client's rules.
pub fn policy(client: Client) -> &'static Policy {
    match client {
        Client::Standard => &standard::POLICY,
        Client::Curl => &curl::POLICY,
        Client::Chromium => &chromium::POLICY,
        Client::Firefox => &firefox::POLICY,
        Client::Node => &node::POLICY,
        Client::Python => &python::POLICY,
    }
}

/// What a client says in the end.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Outcome {
    /// Connects without a word.
    Accepts,
    /// Shows a warning that a person could click away.
    Warns,
    /// Does not connect.
    Refuses,
    /// Cannot be told.
    Unknown,
}

impl Outcome {
    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Accepts => "accepts",
            Outcome::Warns => "warns",
            Outcome::Refuses => "refuses",
            Outcome::Unknown => "unknown",
        }
    }
}

/// A leaf that stands in the store itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LeafAnchor {
    /// Accepted as it is.
    Taken,
    /// Accepted unless basicConstraints says "no CA".
    TakenUnlessNoCa,
}

/// A client's rules: numbers and switches, each with its source in the client's own file.
#[derive(Debug)]
pub struct Policy {
    /// How names are compared.
    pub matching: Matching,
    /// An issuer with a contradicting key identifier is no candidate.
    pub by_identifier: bool,
    /// A signature that does not fit is reported as an unknown issuer.
    pub wrong_key_is_unknown: bool,
    /// A leaf in the store.
    pub leaf_anchor: LeafAnchor,
    /// The anchor's own dates count.
    pub anchor_dates: bool,
    /// The anchor must say that it is a CA.
    pub anchor_must_be_ca: bool,
    /// SHA-1 and MD5 signatures below the anchor are refused.
    pub refuses_weak_hash: bool,
    /// The shortest RSA key of a leaf; 0 takes all.
    pub least_rsa: usize,
    /// P-521 in a leaf is taken.
    pub takes_p521: bool,
    /// Ed25519 in a leaf is taken.
    pub takes_ed25519: bool,
    /// anyExtendedKeyUsage stands for serverAuth.
    pub any_purpose: bool,
    /// A leaf with CA:TRUE is taken.
    pub takes_ca_as_leaf: bool,
    /// A leaf's keyUsage must have digitalSignature.
    pub needs_digital_signature: bool,
    /// An empty subject demands critical names.
    pub empty_subject_needs_critical_names: bool,
    /// Revocation lists at hand are looked into.
    pub heeds_lists: bool,
    /// Its words for each fault, most serious first: the first that applies is what it says.
    /// `{name}` stands for the host, `{mismatch}` for OpenSSL's words on a name or an address, `{unknown}` and `{UNKNOWN}` for
    /// what OpenSSL and Node call an issuer that is not known, which depends on what was served.
    pub sayings: &'static [(Code, Outcome, &'static str)],
}

/// A verdict of one client.
#[derive(Clone, Debug)]
pub struct Verdict {
    /// Whose.
    pub client: Client,
    /// What it does.
    pub outcome: Outcome,
    /// Its own error code or text, as a person sees it.
    pub code: Option<String>,
    /// Path and faults.
    pub judgement: Judgement,
}

/// What a client would say of a chain.
pub fn predict(client: Client, input: &Input<'_>) -> Verdict {
    let policy = policy(client);
    let judgement = judge(input, policy);
    let worst = policy.sayings.iter().find(|(code, ..)| judgement.faults.iter().any(|f| f.code == *code));
    let host = input.name.map(ToString::to_string).unwrap_or_default();
    let (outcome, code) = match worst {
        Some((_, outcome, "")) => (*outcome, None),
        Some((_, outcome, text)) => (*outcome, Some(spelt(text, &host, input, &judgement))),
        None if judgement.faults.is_empty() => (Outcome::Accepts, None),
        None => (Outcome::Refuses, None),
    };
    Verdict { client, outcome, code, judgement }
}

/// A saying as it is shown where no certificate is at hand: for the host NAME, with only the leaf served.
pub fn shown(text: &str) -> String {
    text.replace("{name}", "NAME")
        .replace("{mismatch}", "Hostname mismatch, certificate is not valid for 'NAME'.")
        .replace("{unknown}", "unable to get local issuer certificate")
        .replace("{UNKNOWN}", "UNABLE_TO_VERIFY_LEAF_SIGNATURE")
}

/// A saying with its words filled in.
fn spelt(text: &str, host: &str, input: &Input<'_>, judgement: &Judgement) -> String {
    let kind = if matches!(input.name, Some(Name::Ip(_))) { "IP address" } else { "Hostname" };
    let mismatch = format!("{kind} mismatch, certificate is not valid for '{host}'.");
    let root_served = judgement.path.len() > 1 && judgement.path.last().is_some_and(Certificate::is_self_signed);
    let (unknown, in_node) = match (root_served, judgement.path.len()) {
        (true, _) => ("self-signed certificate in certificate chain", "SELF_SIGNED_CERT_IN_CHAIN"),
        (false, 1) => ("unable to get local issuer certificate", "UNABLE_TO_VERIFY_LEAF_SIGNATURE"),
        (false, _) => ("unable to get local issuer certificate", "UNABLE_TO_GET_ISSUER_CERT_LOCALLY"),
    };
    text.replace("{name}", host)
        .replace("{mismatch}", &mismatch)
        .replace("{unknown}", unknown)
        .replace("{UNKNOWN}", in_node)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_client_has_words_for_every_fault_that_a_rule_can_find() {
        for client in Client::ALL {
            let of_lists: &[Code] = if policy(client).heeds_lists { rules::OF_LISTS } else { &[] };
            for code in rules::CODES.iter().chain(of_lists) {
                let n = policy(client).sayings.iter().filter(|s| s.0 == *code).count();
                assert_eq!(n, 1, "{} on {}", client.word(), code.word());
            }
        }
    }
}
