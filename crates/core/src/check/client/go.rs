//! Programs made with Go. Measured with Go 1.19 on Debian 12.

use super::{Detail, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;

/// Go's rules: crypto/x509 as crypto/tls calls it.
pub const POLICY: Policy = Policy {
    anchor_must_be_ca: true,
    refuses_weak_hash: true,
    honors_leaf_usage: false,
    empty_subject_needs_critical_names: false,
    policies: Policies::Unknown,
    honors_crls: false,
    messages: &[
        (Code::KeyKindUnsupported, Outcome::Refuses, "remote error: tls: handshake failure"),
        (
            Code::Malformed,
            Outcome::Refuses,
            "tls: failed to parse certificate from server: x509: invalid subject alternative names",
        ),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, "x509: unhandled critical extension"),
        (Code::Expired, Outcome::Refuses, "x509: certificate has expired or is not yet valid"),
        (Code::NotYetValid, Outcome::Refuses, "x509: certificate has expired or is not yet valid"),
        (Code::NameNotCovered, Outcome::Refuses, "x509: certificate is valid for {names}, not {name}"),
        (Code::IssuerUnknown, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::SelfSignedLeaf, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::BadSignature, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::WeakSignature, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::IntermediateNotACa, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::KeyUsageMissing, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::IssuerExpired, Outcome::Refuses, "x509: certificate has expired or is not yet valid"),
        (
            Code::ConstraintViolated,
            Outcome::Refuses,
            "x509: a root or intermediate certificate is not authorized to sign for this name: DNS name \"{detail}\" is not permitted by any constraint",
        ),
        (Code::PathTooLong, Outcome::Refuses, "x509: too many intermediates for path length constraint"),
        (Code::PurposeMissing, Outcome::Refuses, "x509: certificate specifies an incompatible key usage"),
        (Code::WeakKey, Outcome::Refuses, "x509: certificate signed by unknown authority"),
        (Code::CaAsLeaf, Outcome::Refuses, ""),
    ],
    overrides: &[
        (
            Code::NameNotCovered,
            When::Is(Detail::NoNames),
            Outcome::Refuses,
            "x509: certificate is not valid for any names, but wanted to match {name}",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoNamesAddress),
            Outcome::Refuses,
            "x509: cannot validate certificate for {name} because it doesn't contain any IP SANs",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::CommonName),
            Outcome::Refuses,
            "x509: certificate relies on legacy Common Name field, use SANs instead",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoAddress),
            Outcome::Refuses,
            "x509: cannot validate certificate for {name} because it doesn't contain any IP SANs",
        ),
        (
            Code::ConstraintViolated,
            When::Is(Detail::Excluded),
            Outcome::Refuses,
            "x509: a root or intermediate certificate is not authorized to sign for this name: DNS name \"{detail}\" is excluded by constraint \"{also}\"",
        ),
        (
            Code::ConstraintViolated,
            When::Is(Detail::Address),
            Outcome::Refuses,
            "x509: a root or intermediate certificate is not authorized to sign for this name: IP address \"{detail}\" is not permitted by any constraint",
        ),
    ],
    ..standard::POLICY
};

/// An error of Go's as it is shown and compared: without the time of day and without a guess at the cause.
pub fn said(message: &str) -> String {
    let words = message.strip_prefix("tls: failed to verify certificate: ").unwrap_or(message);
    let words = words.split(": current time ").next().unwrap_or(words);
    words.split(" (possibly because of ").next().unwrap_or(words).to_owned()
}
