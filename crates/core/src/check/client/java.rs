//! The JVM. Measured with OpenJDK 17 on Debian 12.

use super::{Detail, LeafAnchor, Outcome, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// Java's rules: the PKIX validator of the platform, then the name by `HTTPS` endpoint identification.
pub const POLICY: Policy = Policy {
    matching: Matching { labels_after_star: 1, trailing_dot: false, common_name: true, common_name_for_address: false },
    by_identifier: true,
    wrong_key_is_unknown: false,
    leaf_anchor: LeafAnchor::NameAlone,
    anchor_dates: false,
    anchor_constraints: false,
    anchor_path_length: false,
    anchor_extensions: false,
    purposes_of_authorities: false,
    refuses_underscore: true,
    anchor_must_be_ca: true,
    refuses_broken: false,
    least_rsa: 1024,
    needs_digital_signature: true,
    honors_crls: false,
    messages: &[
        (
            Code::IssuerUnknown,
            Outcome::Refuses,
            "PKIX path building failed: unable to find valid certification path to requested target",
        ),
        (
            Code::SelfSignedLeaf,
            Outcome::Refuses,
            "PKIX path building failed: unable to find valid certification path to requested target",
        ),
        (Code::BadSignature, Outcome::Refuses, "PKIX path validation failed: signature check failed"),
        (Code::WeakSignature, Outcome::Refuses, "PKIX path validation failed: Algorithm constraints check failed"),
        (Code::Expired, Outcome::Refuses, "PKIX path validation failed: validity check failed"),
        (Code::NotYetValid, Outcome::Refuses, "PKIX path validation failed: validity check failed"),
        (Code::IssuerExpired, Outcome::Refuses, "PKIX path validation failed: validity check failed"),
        (
            Code::IntermediateNotACa,
            Outcome::Refuses,
            "PKIX path validation failed: basic constraints check failed: this is not a CA certificate",
        ),
        (Code::KeyUsageMissing, Outcome::Refuses, "KeyUsage does not allow digital signatures"),
        (
            Code::PathTooLong,
            Outcome::Refuses,
            "PKIX path validation failed: basic constraints check failed: pathLenConstraint violated - this cert must be the last cert in the certification path",
        ),
        (Code::ConstraintViolated, Outcome::Refuses, "PKIX path validation failed: name constraints check failed"),
        (
            Code::CriticalExtensionUnknown,
            Outcome::Refuses,
            "PKIX path validation failed: unrecognized critical extension(s)",
        ),
        (
            Code::PurposeMissing,
            Outcome::Refuses,
            "Extended key usage does not permit use for TLS server authentication",
        ),
        (Code::WeakKey, Outcome::Refuses, "PKIX path validation failed: Algorithm constraints check failed"),
        (Code::KeyKindUnsupported, Outcome::Refuses, "Received fatal alert: handshake_failure"),
        (Code::CaAsLeaf, Outcome::Refuses, ""),
        (Code::Malformed, Outcome::Refuses, "Failed to parse server certificates"),
        (Code::NameNotCovered, Outcome::Refuses, "No subject alternative DNS name matching {name} found."),
    ],
    overrides: &[
        (
            Code::ConstraintViolated,
            When::Is(Detail::Policies),
            Outcome::Refuses,
            "PKIX path validation failed: non-null policy tree required and policy tree is null",
        ),
        (
            Code::IssuerUnknown,
            When::Is(Detail::Namesake),
            Outcome::Refuses,
            "PKIX path validation failed: Path does not chain with any of the trust anchors",
        ),
        (
            Code::IntermediateNotACa,
            When::Anchor,
            Outcome::Refuses,
            "PKIX path validation failed: TrustAnchor is not a CA certificate",
        ),
        (
            Code::KeyUsageMissing,
            When::Anchor,
            Outcome::Refuses,
            "PKIX path validation failed: TrustAnchor does not have keyCertSign bit set in KeyUsage extension",
        ),
        (
            Code::KeyUsageMissing,
            When::Between,
            Outcome::Refuses,
            "PKIX path validation failed: CA key usage check failed: keyCertSign bit is not set",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::Address),
            Outcome::Refuses,
            "No subject alternative names matching IP address {name} found",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoAddress),
            Outcome::Refuses,
            "No subject alternative names matching IP address {name} found",
        ),
        (Code::NameNotCovered, When::Is(Detail::NoNames), Outcome::Refuses, "No name matching {name} found"),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoNamesAddress),
            Outcome::Refuses,
            "No subject alternative names present",
        ),
        (Code::NameNotCovered, When::Is(Detail::CommonName), Outcome::Refuses, "No subject alternative names present"),
        (Code::NameNotCovered, When::Is(Detail::Underscore), Outcome::Refuses, "Illegal given domain name: {name}"),
    ],
    ..standard::POLICY
};

/// A message of the JVM as it is shown and compared: without the alert that it sent, the classes of the exceptions and the anchor's name.
pub fn said(message: &str) -> String {
    let is_class = |w: &&str| w.ends_with("Exception:") && w.contains('.');
    let is_alert = |w: &&str| w.starts_with('(') && w.ends_with(')') && w.contains('_');
    let words: Vec<&str> = message.split(' ').filter(|w| !is_class(w) && !is_alert(w)).collect();
    let words = words.join(" ");
    match (words.split_once("TrustAnchor with subject \""), words.rsplit_once("\" ")) {
        (Some((before, _)), Some((_, after))) => format!("{before}TrustAnchor {after}"),
        _ => words,
    }
}
