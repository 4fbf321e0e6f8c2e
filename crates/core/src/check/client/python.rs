//! Python's ssl module with OpenSSL. Measured with Python 3.11 and OpenSSL 3.0 on Debian 12.

use super::{Detail, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// Python's rules: OpenSSL's, with the name compared by OpenSSL as well.
pub const POLICY: Policy = Policy {
    // `*.test` and `x.test.` are refused, a lone common name is taken: measured.
    matching: Matching { labels_after_star: 2, trailing_dot: false, common_name: true, common_name_for_address: false },
    by_identifier: true,
    wrong_key_is_unknown: false,
    // Debian's security level 2.
    refuses_weak_hash: true,
    least_rsa_above: 2048,
    partial_chain: false,
    least_rsa: 2048,
    any_purpose: false,
    empty_subject_needs_critical_names: false,
    // It asks nobody of its own accord, and the lists of --crl are not given to it.
    policies: Policies::Ignored,
    honors_crls: false,
    messages: &[
        (Code::IssuerUnknown, Outcome::Refuses, "certificate verify failed: {unknown}"),
        (Code::SelfSignedLeaf, Outcome::Refuses, "certificate verify failed: self-signed certificate"),
        (Code::Malformed, Outcome::Refuses, "certificate verify failed: unable to get local issuer certificate"),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, "certificate verify failed: unhandled critical extension"),
        (Code::IntermediateNotACa, Outcome::Refuses, "certificate verify failed: invalid CA certificate"),
        (Code::PurposeMissing, Outcome::Refuses, "certificate verify failed: unsuitable certificate purpose"),
        (Code::KeyUsageMissing, Outcome::Refuses, "certificate verify failed: unsuitable certificate purpose"),
        (Code::PathTooLong, Outcome::Refuses, "certificate verify failed: path length constraint exceeded"),
        (Code::WeakKey, Outcome::Refuses, "certificate verify failed: EE certificate key too weak"),
        (Code::WeakSignature, Outcome::Refuses, "certificate verify failed: CA signature digest algorithm too weak"),
        (Code::NameNotCovered, Outcome::Refuses, "certificate verify failed: {mismatch}"),
        (Code::BadSignature, Outcome::Refuses, "certificate verify failed: certificate signature failure"),
        (Code::IssuerExpired, Outcome::Refuses, "certificate verify failed: certificate has expired"),
        (Code::NotYetValid, Outcome::Refuses, "certificate verify failed: certificate is not yet valid"),
        (Code::Expired, Outcome::Refuses, "certificate verify failed: certificate has expired"),
        (Code::ConstraintViolated, Outcome::Refuses, "certificate verify failed: permitted subtree violation"),
        (Code::KeyKindUnsupported, Outcome::Refuses, "handshake failure"),
        (Code::CaAsLeaf, Outcome::Refuses, "certificate verify failed: invalid CA certificate"),
    ],
    overrides: &[
        (
            Code::IssuerExpired,
            When::Is(Detail::Early),
            Outcome::Refuses,
            "certificate verify failed: certificate is not yet valid",
        ),
        (Code::KeyUsageMissing, When::Above, Outcome::Refuses, "certificate verify failed: invalid CA certificate"),
        (Code::WeakKey, When::Above, Outcome::Refuses, "certificate verify failed: CA certificate key too weak"),
        (
            Code::IssuerUnknown,
            When::Is(Detail::BelowRoot),
            Outcome::Refuses,
            "certificate verify failed: unable to get issuer certificate",
        ),
        (
            Code::ConstraintViolated,
            When::Is(Detail::Excluded),
            Outcome::Refuses,
            "certificate verify failed: excluded subtree violation",
        ),
    ],
    ..standard::POLICY
};

/// An error of Python's as it is shown and compared: without the line of its own source.
pub fn said(words: &str) -> String {
    words.split(" (_ssl.c:").next().unwrap_or(words).to_owned()
}
