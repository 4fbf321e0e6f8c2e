//! Clients: what each of them demands of a chain, and in which words it refuses.

pub mod case;
pub mod chromium;
pub mod curl;
pub mod firefox;
pub mod gnutls;
pub mod go;
pub mod java;
pub mod judge;
pub mod node;
pub mod python;
pub mod rules;
pub mod safari;
pub mod standard;
pub mod view;
pub mod windows;

use crate::check::verify;
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::chain::name_match::Matching;
pub use crate::vocabulary::client_id::Client;
use crate::vocabulary::name::Name;
pub use case::Detail;
use case::{ChainFault, Input};
use judge::{Judgement, judge};

/// A client's rules.
pub fn policy(client: Client) -> &'static Policy {
    match client {
        Client::Standard => &standard::POLICY,
        Client::Curl => &curl::POLICY,
        Client::Chromium => &chromium::POLICY,
        Client::Firefox => &firefox::POLICY,
        Client::Node => &node::POLICY,
        Client::Python => &python::POLICY,
        Client::Java => &java::POLICY,
        Client::Go => &go::POLICY,
        Client::Gnutls => &gnutls::POLICY,
        Client::Safari => &safari::POLICY,
        Client::Windows => &windows::POLICY,
    }
}

crate::words! {
    /// What a client says in the end.
    #[derive(PartialOrd, Ord)]
    pub enum Outcome: "verdict" {
        /// Connects without a word.
        Accepts = "accepts",
        /// Shows a warning that a person could click away.
        Warns = "warns",
        /// Does not connect.
        Refuses = "refuses",
        /// Unknown.
        Unknown = "unknown",
    }
}

/// What a client makes of certificate policies (RFC 5280 §6.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Policies {
    /// They are processed.
    Honored,
    /// Their extensions are known, and not looked into.
    Ignored,
    /// Their extensions are not known: critical ones are refused.
    Unknown,
}

/// A leaf that is in the store itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LeafAnchor {
    /// Accepted as it is.
    Taken,
    /// Accepted unless basicConstraints says "no CA".
    TakenUnlessNoCa,
    /// Accepted if its dates and its name fit, whatever else it says.
    DatesAndName,
    /// Accepted if its name fits, whatever else it says.
    NameAlone,
}

/// A client's rules: numbers and switches. Each client's file says where it differs from RFC 5280 ([`standard`]); that it does so, and only
/// there, is measured cell by cell (`docs/agreement.md`).
#[derive(Clone, Copy, Debug)]
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
    /// Name constraints on the anchor count (RFC 5937 §3.2).
    pub anchor_constraints: bool,
    /// The anchor's path length counts.
    pub anchor_path_length: bool,
    /// Critical extensions of the anchor count.
    pub anchor_extensions: bool,
    /// extKeyUsage counts at all.
    pub honors_purpose: bool,
    /// extKeyUsage of an authority limits what is below it.
    pub purposes_of_authorities: bool,
    /// An authority's keyUsage must let it sign certificates.
    pub usage_of_authorities: bool,
    /// A leaf must name its purpose.
    pub needs_purpose: bool,
    /// A host name with an underscore is refused.
    pub refuses_underscore: bool,
    /// A constraint on addresses of one family leaves the other free.
    pub families_apart: bool,
    /// The longest life of a leaf, in days.
    pub most_days: Option<i64>,
    /// The anchor must say that it is a CA.
    pub anchor_must_be_ca: bool,
    /// SHA-1 and MD5 signatures below the anchor are refused.
    pub refuses_weak_hash: bool,
    /// The shortest RSA key of a leaf; 0 takes all.
    pub least_rsa: usize,
    /// The shortest RSA key of an authority; 0 takes all.
    pub least_rsa_above: usize,
    /// A trusted certificate that is no root ends a path.
    pub partial_chain: bool,
    /// Known extensions that do not parse are refused; else they count as absent.
    pub refuses_broken: bool,
    /// A leaf's keyUsage must let it serve.
    pub honors_leaf_usage: bool,
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
    /// What is made of certificate policies.
    pub policies: Policies,
    /// Revocation lists at hand are looked into.
    pub honors_crls: bool,
    /// Its words for each fault, most serious first: the first that applies is what it says.
    /// `{name}` stands for the host, `{mismatch}` for OpenSSL's words on a name or an address, `{unknown}` and `{UNKNOWN}` for
    /// what OpenSSL and Node call an issuer that is not known, which depends on what was served.
    pub messages: &'static [(Code, Outcome, &'static str)],
    /// Other words for some cases of a fault. More templates: `{names}` are the certificate's names, `{detail}` and `{also}` what the
    /// fault itself says.
    pub overrides: &'static [(Code, When, Outcome, &'static str)],
    /// Faults that another one hides: first the one that hides, then what it hides.
    pub suppresses: &'static [(&'static [Code], &'static [Code])],
    /// The rules that it keeps; a test leaves one out.
    pub rules: &'static [rules::Rule],
}

/// A case of a fault for which a client has words of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum When {
    /// It is about a certificate above the leaf and below the anchor.
    Between,
    /// It is about the anchor.
    Anchor,
    /// It is about any certificate above the leaf.
    Above,
    /// The fault says so itself.
    Is(Detail),
}

impl When {
    fn holds(self, fault: &ChainFault) -> bool {
        match self {
            When::Between => fault.depth > 0 && !fault.anchor,
            When::Anchor => fault.anchor,
            When::Above => fault.depth > 0,
            When::Is(fine) => fault.fine == fine,
        }
    }
}

/// Of clients whose words are not known: they refuse.
const SILENT_WITH_LIVES: &[(Code, Outcome, &str)] = &[
    (Code::ValidityTooLong, Outcome::Refuses, ""),
    (Code::IssuerUnknown, Outcome::Refuses, ""),
    (Code::SelfSignedLeaf, Outcome::Refuses, ""),
    (Code::BadSignature, Outcome::Refuses, ""),
    (Code::WeakSignature, Outcome::Refuses, ""),
    (Code::Expired, Outcome::Refuses, ""),
    (Code::NotYetValid, Outcome::Refuses, ""),
    (Code::IssuerExpired, Outcome::Refuses, ""),
    (Code::IntermediateNotACa, Outcome::Refuses, ""),
    (Code::KeyUsageMissing, Outcome::Refuses, ""),
    (Code::PathTooLong, Outcome::Refuses, ""),
    (Code::ConstraintViolated, Outcome::Refuses, ""),
    (Code::CriticalExtensionUnknown, Outcome::Refuses, ""),
    (Code::PurposeMissing, Outcome::Refuses, ""),
    (Code::WeakKey, Outcome::Refuses, ""),
    (Code::KeyKindUnsupported, Outcome::Refuses, ""),
    (Code::CaAsLeaf, Outcome::Refuses, ""),
    (Code::Malformed, Outcome::Refuses, ""),
    (Code::NameNotCovered, Outcome::Refuses, ""),
];
/// The same without a limit on lives.
const SILENT: &[(Code, Outcome, &str)] = SILENT_WITH_LIVES.split_at(1).1;

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
    /// True if it rests on what the client's makers published, and does not count in the answer.
    pub documented: bool,
}

/// What a client would say of a chain.
pub fn predict(client: Client, input: &Input<'_>) -> Verdict {
    predict_without(client, input, None)
}

/// The same with one of the library's objections left out: what would it say if it did not mind this?
pub fn predict_without(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    match client {
        Client::Curl | Client::Python | Client::Node => verify::openssl::predict(client, input, without),
        Client::Gnutls => verify::gnutls::predict(input, without),
        Client::Java => verify::java::predict(input, without),
        Client::Chromium => verify::chromium::predict(input, without),
        Client::Firefox => verify::firefox::predict(input, without),
        Client::Go => verify::go::predict(input, without),
        _ => predict_by(policy(client), client, input),
    }
}

/// The same by other rules than the client's own: what would it say if one of them were not there?
pub fn predict_by(policy: &Policy, client: Client, input: &Input<'_>) -> Verdict {
    let judgement = judge(input, policy);
    let said = policy.messages.iter().find_map(|(code, outcome, text)| {
        let there = |code: &Code| judgement.faults.iter().any(|f| f.code == *code);
        let hidden =
            |code: &Code| policy.suppresses.iter().any(|(by, what)| what.contains(code) && by.iter().any(there));
        let fault = judgement.faults.iter().find(|f| f.code == *code && !hidden(code))?;
        let overrides = policy.overrides.iter().find(|(c, when, ..)| c == code && when.holds(fault));
        Some(overrides.map_or((fault, *outcome, *text), |(.., outcome, text)| (fault, *outcome, *text)))
    });
    let host = input.name.map(ToString::to_string).unwrap_or_default();
    let (outcome, code) = match said {
        Some((_, outcome, "")) => (outcome, None),
        Some((fault, outcome, text)) => (outcome, Some(spelt(text, &host, input, &judgement, fault))),
        None if judgement.faults.is_empty() => (Outcome::Accepts, None),
        None => (Outcome::Refuses, None),
    };
    Verdict { client, outcome, code, judgement, documented: false }
}

/// A saying as it is shown where no certificate is at hand: for the host NAME, with only the leaf served.
pub fn shown(text: &str) -> String {
    text.replace("{name}", "NAME")
        .replace("{names}", "NAMES")
        .replace("{detail}", "NAME")
        .replace("{also}", "BASE")
        .replace("{mismatch}", "Hostname mismatch, certificate is not valid for 'NAME'.")
        .replace("{unknown}", "unable to get local issuer certificate")
        .replace("{UNKNOWN}", "UNABLE_TO_VERIFY_LEAF_SIGNATURE")
}

/// Everything that a client may say because of this, as [`shown`].
pub fn words(client: Client, code: Code) -> Vec<String> {
    let policy = policy(client);
    let usual = policy.messages.iter().filter(|s| s.0 == code).map(|s| s.2);
    let overrides = policy.overrides.iter().filter(|s| s.0 == code).map(|s| s.3);
    let mut all: Vec<String> = Vec::new();
    for text in usual.chain(overrides).flat_map(|t| t.split(" or ")).filter(|t| !t.is_empty()).map(shown) {
        if !all.contains(&text) {
            all.push(text);
        }
    }
    all
}

/// True if what was seen is what was expected. Where the words depend on the server, an expectation names two, with "or" between them.
pub fn agrees(expected: Option<&str>, seen: Option<&str>) -> bool {
    expected == seen || expected.zip(seen).is_some_and(|(e, s)| e.split(" or ").any(|one| one == s))
}

/// A saying with its words filled in.
fn spelt(text: &str, host: &str, input: &Input<'_>, judgement: &Judgement, fault: &ChainFault) -> String {
    let kind = if matches!(input.name, Some(Name::Ip(_))) { "IP address" } else { "Hostname" };
    let mismatch = format!("{kind} mismatch, certificate is not valid for '{host}'.");
    let root_served = judgement.path.len() > 1 && judgement.path.last().is_some_and(Certificate::is_self_signed);
    let (unknown, in_node) = match (root_served, judgement.path.len()) {
        (true, _) => ("self-signed certificate in certificate chain", "SELF_SIGNED_CERT_IN_CHAIN"),
        (false, 1) => ("unable to get local issuer certificate", "UNABLE_TO_VERIFY_LEAF_SIGNATURE"),
        (false, _) => ("unable to get local issuer certificate", "UNABLE_TO_GET_ISSUER_CERT_LOCALLY"),
    };
    let names = judgement.path.first().map(Certificate::name_words).unwrap_or_default().join(", ");
    text.replace("{name}", host)
        .replace("{names}", &names)
        .replace("{detail}", &fault.detail)
        .replace("{also}", &fault.also)
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
            let of_lists: &[Code] = if policy(client).honors_crls { rules::OF_LISTS } else { &[] };
            let of_lives: &[Code] = if policy(client).most_days.is_some() { rules::OF_LIVES } else { &[] };
            for code in rules::CODES.iter().chain(of_lists).chain(of_lives) {
                let n = policy(client).messages.iter().filter(|s| s.0 == *code).count();
                assert_eq!(n, 1, "{} on {}", client.word(), code.word());
            }
        }
    }
}
