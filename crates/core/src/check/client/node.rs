//! Node.js with its compiled-in roots. Measured with Node 20.20 on Debian 12.

use super::{Detail, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// Node's rules: OpenSSL's at a lower security level; the name is compared last, by Node itself.
pub const POLICY: Policy = Policy {
    // `*.test` is refused, a lone common name is taken: measured.
    matching: Matching { labels_after_star: 2, trailing_dot: true, common_name: true, common_name_for_address: false },
    by_identifier: true,
    wrong_key_is_unknown: false,
    refuses_weak_hash: true,
    partial_chain: false,
    least_rsa: 1024,
    any_purpose: false,
    empty_subject_needs_critical_names: false,
    // It lets OpenSSL go on after an error and reports the last: constraints, then dates and signatures, then what comes before them.
    // It asks nobody of its own accord, and the lists of --crl are not given to it.
    policies: Policies::Ignored,
    honors_crls: false,
    messages: &[
        (Code::KeyKindUnsupported, Outcome::Refuses, "ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE"),
        (Code::ConstraintViolated, Outcome::Refuses, "UNSPECIFIED"),
        (Code::Expired, Outcome::Refuses, "CERT_HAS_EXPIRED"),
        (Code::NotYetValid, Outcome::Refuses, "CERT_NOT_YET_VALID"),
        (Code::IssuerExpired, Outcome::Refuses, "CERT_HAS_EXPIRED"),
        (Code::BadSignature, Outcome::Refuses, "CERT_SIGNATURE_FAILURE"),
        (Code::IssuerUnknown, Outcome::Refuses, "{UNKNOWN}"),
        (Code::SelfSignedLeaf, Outcome::Refuses, "DEPTH_ZERO_SELF_SIGNED_CERT"),
        (Code::WeakSignature, Outcome::Refuses, "UNSPECIFIED"),
        (Code::WeakKey, Outcome::Refuses, "UNSPECIFIED"),
        (Code::PathTooLong, Outcome::Refuses, "PATH_LENGTH_EXCEEDED"),
        (Code::PurposeMissing, Outcome::Refuses, "INVALID_PURPOSE"),
        (Code::KeyUsageMissing, Outcome::Refuses, "INVALID_PURPOSE"),
        (Code::IntermediateNotACa, Outcome::Refuses, "INVALID_CA"),
        (Code::CaAsLeaf, Outcome::Refuses, "INVALID_CA"),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, "UNSPECIFIED"),
        (Code::Malformed, Outcome::Refuses, "UNABLE_TO_VERIFY_LEAF_SIGNATURE"),
        (Code::NameNotCovered, Outcome::Refuses, "ERR_TLS_CERT_ALTNAME_INVALID"),
    ],
    overrides: &[
        (Code::IssuerUnknown, When::Is(Detail::BelowRoot), Outcome::Refuses, "UNABLE_TO_GET_ISSUER_CERT"),
        (Code::IssuerExpired, When::Is(Detail::Early), Outcome::Refuses, "CERT_NOT_YET_VALID"),
        (Code::IntermediateNotACa, When::Is(Detail::Denies), Outcome::Refuses, "INVALID_PURPOSE"),
        (Code::KeyUsageMissing, When::Above, Outcome::Refuses, "UNSPECIFIED"),
    ],
    ..standard::POLICY
};
