//! Clients: what they are asked, what they answer, and the rules of those whose library was not measured.

pub mod case;
pub mod curl;
pub(crate) mod descriptor;
pub mod gnutls;
pub mod go;
pub mod java;
pub mod judge;
pub mod printed;
pub mod python;
mod reader;
pub mod rules;
pub mod safari;
pub mod standard;
pub mod there;
pub mod trusted;
pub mod view;
pub mod windows;

use crate::pki::chain::name_match::Matching;
pub use crate::vocabulary::client_id::Client;
use case::Input;
use judge::{Judgement, judge};

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
}

/// Where a client whose library was not measured differs from RFC 5280 ([`standard`]), as far as its makers say so.
#[derive(Clone, Copy, Debug)]
pub struct Policy {
    /// How names are compared.
    pub matching: Matching,
    /// A leaf must name its purpose.
    pub needs_purpose: bool,
    /// The longest life of a leaf, in days.
    pub most_days: Option<i64>,
    /// SHA-1 and MD5 signatures below the anchor are refused.
    pub refuses_weak_hash: bool,
    /// The shortest RSA key of a leaf; 0 takes all.
    pub least_rsa: usize,
    /// Ed25519 in a leaf is taken.
    pub takes_ed25519: bool,
    /// anyExtendedKeyUsage stands for serverAuth.
    pub any_purpose: bool,
    /// An empty subject demands critical names.
    pub empty_subject_needs_critical_names: bool,
    /// What is made of certificate policies.
    pub policies: Policies,
    /// Revocation lists at hand are looked into.
    pub honors_crls: bool,
    /// The rules that it keeps; a test leaves one out.
    pub rules: &'static [rules::Rule],
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
    /// True if it rests on what the client's makers published, and does not count in the answer.
    pub documented: bool,
}

/// What a client would say of a chain by rules alone: the standard, and clients that were not measured. Their words are not known.
pub fn by_policy(policy: &Policy, client: Client, input: &Input<'_>) -> Verdict {
    let judgement = judge(input, policy);
    let outcome = if judgement.faults.is_empty() { Outcome::Accepts } else { Outcome::Refuses };
    Verdict { client, outcome, code: None, judgement, documented: false }
}

/// True if what was seen is what was expected. Where the words depend on the server, an expectation names two, with "or" between them.
pub fn agrees(expected: Option<&str>, seen: Option<&str>) -> bool {
    expected == seen || expected.zip(seen).is_some_and(|(e, s)| e.split(" or ").any(|one| one == s))
}
