//! Firefox. Measured with Firefox ESR 153 on Debian 12.

use super::{Detail, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// Firefox's rules (mozilla::pkix). Of several faults it reports trust first, then the name, then the dates.
pub const POLICY: Policy = Policy {
    // `*.test` and `x.test.` are refused, a common name is never read: measured.
    matching: Matching {
        labels_after_star: 2,
        trailing_dot: false,
        common_name: false,
        common_name_for_address: false,
    },
    // An issuer of that name with another key: SEC_ERROR_BAD_SIGNATURE, measured.
    wrong_key_is_unknown: false,
    anchor_must_be_ca: true,
    refuses_weak_hash: true,
    refuses_broken: false,
    takes_ed25519: false,
    any_purpose: false,
    takes_ca_as_leaf: false,
    empty_subject_needs_critical_names: false,
    // It asks nobody of its own accord, and the lists of --crl are not given to it.
    policies: Policies::Ignored,
    honors_crls: false,
    messages: &[
        (
            Code::KeyKindUnsupported,
            Outcome::Refuses,
            "SSL_ERROR_NO_CYPHER_OVERLAP or SSL_ERROR_HANDSHAKE_FAILURE_ALERT",
        ),
        (Code::Malformed, Outcome::Refuses, "SEC_ERROR_BAD_DER"),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, "SEC_ERROR_UNKNOWN_CRITICAL_EXTENSION"),
        (Code::KeyUsageMissing, Outcome::Refuses, "SEC_ERROR_INADEQUATE_KEY_USAGE"),
        (Code::IntermediateNotACa, Outcome::Refuses, "SEC_ERROR_CA_CERT_INVALID"),
        (Code::PathTooLong, Outcome::Refuses, "SEC_ERROR_PATH_LEN_CONSTRAINT_INVALID"),
        (Code::ConstraintViolated, Outcome::Refuses, "SEC_ERROR_CERT_NOT_IN_NAME_SPACE"),
        (Code::BadSignature, Outcome::Refuses, "SEC_ERROR_BAD_SIGNATURE"),
        (Code::WeakSignature, Outcome::Warns, "SEC_ERROR_CERT_SIGNATURE_ALGORITHM_DISABLED"),
        (Code::CaAsLeaf, Outcome::Warns, "MOZILLA_PKIX_ERROR_CA_CERT_USED_AS_END_ENTITY"),
        (Code::IssuerUnknown, Outcome::Warns, "SEC_ERROR_UNKNOWN_ISSUER"),
        (Code::SelfSignedLeaf, Outcome::Warns, "MOZILLA_PKIX_ERROR_SELF_SIGNED_CERT"),
        (Code::PurposeMissing, Outcome::Refuses, "SEC_ERROR_INADEQUATE_CERT_TYPE"),
        (Code::WeakKey, Outcome::Warns, "MOZILLA_PKIX_ERROR_INADEQUATE_KEY_SIZE"),
        (Code::IssuerExpired, Outcome::Warns, "SEC_ERROR_EXPIRED_ISSUER_CERTIFICATE"),
        (Code::NameNotCovered, Outcome::Warns, "SSL_ERROR_BAD_CERT_DOMAIN"),
        (Code::Expired, Outcome::Warns, "SEC_ERROR_EXPIRED_CERTIFICATE"),
        (Code::NotYetValid, Outcome::Warns, "MOZILLA_PKIX_ERROR_NOT_YET_VALID_CERTIFICATE"),
    ],
    overrides: &[
        (
            Code::IssuerExpired,
            When::Is(Detail::Early),
            Outcome::Warns,
            "MOZILLA_PKIX_ERROR_NOT_YET_VALID_ISSUER_CERTIFICATE",
        ),
        (Code::CriticalExtensionUnknown, When::Between, Outcome::Warns, "SEC_ERROR_UNKNOWN_ISSUER"),
    ],
    ..standard::POLICY
};
