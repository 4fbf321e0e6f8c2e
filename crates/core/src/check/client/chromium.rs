//! Chromium on Linux. Measured with Chromium 156 on Debian 12.

use super::{LeafAnchor, Outcome, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

const INVALID: &str = "net::ERR_CERT_INVALID";
const UNKNOWN: &str = "net::ERR_CERT_AUTHORITY_INVALID";
const DATES: &str = "net::ERR_CERT_DATE_INVALID";

/// Chromium's rules. Of several faults it reports the gravest: what cannot be clicked away first.
pub const POLICY: Policy = Policy {
    // `*.test` is refused, `x.test.` is taken, a common name is never read: measured.
    matching: Matching { labels_after_star: 2, trailing_dot: true, common_name: false, common_name_for_address: false },
    // Measured: trusted "C" with CA:FALSE is ERR_CERT_INVALID, without basicConstraints it is taken.
    leaf_anchor: LeafAnchor::TakenUnlessNoCa,
    refuses_weak_hash: true,
    takes_p521: false,
    takes_ed25519: false,
    // RSA with keyEncipherment alone: ERR_SSL_KEY_USAGE_INCOMPATIBLE, measured.
    needs_digital_signature: true,
    honors_crls: false,
    messages: &[
        (
            Code::KeyKindUnsupported,
            Outcome::Refuses,
            "net::ERR_SSL_VERSION_OR_CIPHER_MISMATCH or net::ERR_SSL_PROTOCOL_ERROR",
        ),
        (Code::KeyUsageMissing, Outcome::Refuses, "net::ERR_SSL_KEY_USAGE_INCOMPATIBLE"),
        // A chain that ends nowhere is reported as such before anything else in it.
        (Code::IssuerUnknown, Outcome::Warns, UNKNOWN),
        (Code::SelfSignedLeaf, Outcome::Warns, UNKNOWN),
        (Code::BadSignature, Outcome::Warns, UNKNOWN),
        (Code::Malformed, Outcome::Refuses, INVALID),
        (Code::ConstraintViolated, Outcome::Refuses, INVALID),
        (Code::IntermediateNotACa, Outcome::Refuses, INVALID),
        (Code::PathTooLong, Outcome::Refuses, INVALID),
        (Code::PurposeMissing, Outcome::Refuses, INVALID),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, INVALID),
        (Code::WeakSignature, Outcome::Refuses, INVALID),
        (Code::WeakKey, Outcome::Warns, "net::ERR_CERT_WEAK_KEY"),
        (Code::CaAsLeaf, Outcome::Refuses, INVALID),
        (Code::NameNotCovered, Outcome::Warns, "net::ERR_CERT_COMMON_NAME_INVALID"),
        (Code::Expired, Outcome::Warns, DATES),
        (Code::NotYetValid, Outcome::Warns, DATES),
        (Code::IssuerExpired, Outcome::Warns, DATES),
    ],
    overrides: &[(Code::KeyUsageMissing, When::Above, Outcome::Refuses, INVALID)],
    suppresses: &[(
        // "Invalid" is said only where nothing better fits (cert_verify_proc_builtin.cc).
        &[Code::Expired, Code::NotYetValid, Code::IssuerExpired],
        &[
            Code::Malformed,
            Code::ConstraintViolated,
            Code::IntermediateNotACa,
            Code::PathTooLong,
            Code::PurposeMissing,
            Code::CriticalExtensionUnknown,
        ],
    )],
    ..standard::POLICY
};
