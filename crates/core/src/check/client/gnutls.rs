//! wget and what else is made with GnuTLS. Measured with wget 1.21 and GnuTLS 3.7 on Debian 12.

use super::{Detail, LeafAnchor, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// All that it says of many faults.
const NOT_TRUSTED: &str = "The certificate of '{name}' is not trusted.";

/// GnuTLS' rules, with the name compared by GnuTLS as well.
pub const POLICY: Policy = Policy {
    matching: Matching { labels_after_star: 2, trailing_dot: false, common_name: true, common_name_for_address: false },
    by_identifier: true,
    wrong_key_is_unknown: false,
    leaf_anchor: LeafAnchor::DatesAndName,
    honors_purpose: false,
    families_apart: true,
    refuses_weak_hash: true,
    honors_leaf_usage: false,
    empty_subject_needs_critical_names: false,
    policies: Policies::Unknown,
    honors_crls: false,
    messages: &[
        (Code::KeyKindUnsupported, Outcome::Refuses, "GnuTLS: A TLS fatal alert has been received."),
        (Code::Malformed, Outcome::Refuses, "GnuTLS: ASN1 parser: Error in DER parsing."),
        (Code::IssuerUnknown, Outcome::Refuses, "The certificate of '{name}' doesn't have a known issuer."),
        (Code::SelfSignedLeaf, Outcome::Refuses, "The certificate of '{name}' doesn't have a known issuer."),
        (Code::IntermediateNotACa, Outcome::Refuses, "The certificate signer of '{name}' was not a CA."),
        (Code::WeakSignature, Outcome::Refuses, "The certificate of '{name}' was signed using an insecure algorithm."),
        (Code::NotYetValid, Outcome::Refuses, "The certificate of '{name}' is not yet activated."),
        (Code::Expired, Outcome::Refuses, "The certificate of '{name}' has expired."),
        (Code::IssuerExpired, Outcome::Refuses, "The certificate of '{name}' has expired."),
        (Code::NameNotCovered, Outcome::Refuses, "The certificate's owner does not match hostname '{name}'"),
        (Code::BadSignature, Outcome::Refuses, NOT_TRUSTED),
        (Code::KeyUsageMissing, Outcome::Refuses, NOT_TRUSTED),
        (Code::PathTooLong, Outcome::Refuses, NOT_TRUSTED),
        (Code::ConstraintViolated, Outcome::Refuses, NOT_TRUSTED),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, NOT_TRUSTED),
        (Code::WeakKey, Outcome::Refuses, NOT_TRUSTED),
        (Code::PurposeMissing, Outcome::Refuses, ""),
        (Code::CaAsLeaf, Outcome::Refuses, ""),
    ],
    overrides: &[(
        Code::IssuerExpired,
        When::Is(Detail::Early),
        Outcome::Refuses,
        "The certificate of '{name}' is not yet activated.",
    )],
    ..standard::POLICY
};

/// What wget printed, as it is shown and compared: its first line that says more than "not trusted".
pub fn said(printed: &str) -> String {
    let lines = || printed.lines().map(|l| l.trim_start_matches("ERROR: ").trim()).filter(|l| !l.is_empty() && !l.starts_with("WARNING: "));
    let overrides = lines().find(|l| !l.ends_with("is not trusted."));
    overrides.or_else(|| lines().next()).unwrap_or_default().to_owned()
}

/// What wget's own settings say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Settings {
    /// The file that says it.
    pub from: std::path::PathBuf,
    /// `ca_certificate`: roots that are added.
    pub file: Option<std::path::PathBuf>,
    /// `check_certificate = off`.
    pub looks_away: bool,
}

/// Reads the file that WGETRC names, else `~/.wgetrc`.
pub fn settings(look: &dyn crate::plan::ports::Look) -> Settings {
    let from = look.env("WGETRC").map_or_else(|| look.home().join(".wgetrc"), Into::into);
    let mut found = Settings { from, ..Settings::default() };
    let text = look.read(&found.from).unwrap_or_default();
    for line in String::from_utf8_lossy(&text).lines() {
        let Some((key, value)) = line.split_once('=').filter(|_| !line.trim_start().starts_with('#')) else { continue };
        // Case, dashes and underscores do not count in its keys.
        let key: String = key.trim().to_lowercase().chars().filter(|c| c.is_ascii_alphanumeric()).collect();
        match (key.as_str(), value.trim()) {
            ("cacertificate", file) => found.file = Some(file.into()),
            ("checkcertificate", value) => {
                found.looks_away = matches!(value.to_lowercase().as_str(), "off" | "no" | "0");
            }
            _ => {}
        }
    }
    found
}
