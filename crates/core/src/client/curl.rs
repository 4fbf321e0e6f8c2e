//! curl with OpenSSL. Measured with curl 7.88 and OpenSSL 3.0 on Debian 12.

use super::{LeafAnchor, Outcome, Policy};
use crate::chain::name_match::Matching;
use crate::finding::Code;

/// curl's rules. Its words are what it prints behind `curl: `, in the order in which OpenSSL looks:
/// the chain, extensions, strength, signatures and dates, constraints; curl compares the name last.
pub const POLICY: Policy = Policy {
    // `*.test` is refused, `x.test.` and a lone common name are taken: measured.
    matching: Matching { labels_after_star: 2, trailing_dot: true, common_name: true },
    // X509_check_issued compares identifiers: measured with an older root of the same name.
    by_identifier: true,
    wrong_key_is_unknown: false,
    // curl sets X509_V_FLAG_PARTIAL_CHAIN: measured.
    leaf_anchor: LeafAnchor::Taken,
    anchor_dates: true,
    anchor_must_be_ca: false,
    // Debian's security level 2.
    refuses_weak_hash: true,
    least_rsa: 2048,
    takes_p521: true,
    takes_ed25519: true,
    any_purpose: false,
    takes_ca_as_leaf: true,
    needs_digital_signature: false,
    empty_subject_needs_critical_names: false,
    // It asks nobody of its own accord, and the lists of --crl are not given to it.
    heeds_lists: false,
    sayings: &[
        (Code::IssuerUnknown, Outcome::Refuses, "(60) SSL certificate problem: unable to get local issuer certificate"),
        (Code::SelfSignedLeaf, Outcome::Refuses, "(60) SSL certificate problem: self-signed certificate"),
        (
            Code::Malformed,
            Outcome::Refuses,
            "(60) SSL certificate problem: invalid or inconsistent certificate extension",
        ),
        (
            Code::CriticalExtensionUnknown,
            Outcome::Refuses,
            "(60) SSL certificate problem: unhandled critical extension",
        ),
        (Code::IntermediateNotACa, Outcome::Refuses, "(60) SSL certificate problem: invalid CA certificate"),
        (Code::PurposeMissing, Outcome::Refuses, "(60) SSL certificate problem: unsuitable certificate purpose"),
        (Code::KeyUsageMissing, Outcome::Refuses, "(60) SSL certificate problem: unsuitable certificate purpose"),
        (Code::PathTooLong, Outcome::Refuses, "(60) SSL certificate problem: path length constraint exceeded"),
        (Code::WeakKey, Outcome::Refuses, "(60) SSL certificate problem: EE certificate key too weak"),
        (Code::WeakSignature, Outcome::Refuses, "(60) SSL certificate problem: CA signature digest algorithm too weak"),
        (Code::BadSignature, Outcome::Refuses, "(60) SSL certificate problem: certificate signature failure"),
        (Code::IssuerExpired, Outcome::Refuses, "(60) SSL certificate problem: certificate has expired"),
        (Code::NotYetValid, Outcome::Refuses, "(60) SSL certificate problem: certificate is not yet valid"),
        (Code::Expired, Outcome::Refuses, "(60) SSL certificate problem: certificate has expired"),
        (Code::ConstraintViolated, Outcome::Refuses, "(60) SSL certificate problem: permitted subtree violation"),
        (Code::KeyKindUnsupported, Outcome::Refuses, "(35) handshake failure"),
        (Code::CaAsLeaf, Outcome::Refuses, "(60) SSL certificate problem: invalid CA certificate"),
        (
            Code::NameNotCovered,
            Outcome::Refuses,
            "(60) SSL: no alternative certificate subject name matches target host name '{name}'",
        ),
    ],
};
