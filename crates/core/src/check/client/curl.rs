//! curl with OpenSSL. Measured with curl 7.88 and OpenSSL 3.0 on Debian 12.

use super::{Detail, Outcome, Policies, Policy, When, standard};
use crate::finding::Code;
use crate::pki::chain::name_match::Matching;

/// curl's rules. Its words are what it prints behind `curl: `, in the order in which OpenSSL looks:
/// the chain, extensions, strength, signatures and dates, constraints; curl compares the name last.
pub const POLICY: Policy = Policy {
    // `*.test` is refused, `x.test.` and a lone common name are taken: measured.
    matching: Matching { labels_after_star: 2, trailing_dot: true, common_name: true, common_name_for_address: true },
    // X509_check_issued compares identifiers: measured with an older root of the same name.
    by_identifier: true,
    wrong_key_is_unknown: false,
    // Debian's security level 2.
    refuses_weak_hash: true,
    least_rsa_above: 2048,
    least_rsa: 2048,
    any_purpose: false,
    empty_subject_needs_critical_names: false,
    // It asks nobody of its own accord, and the lists of --crl are not given to it.
    policies: Policies::Ignored,
    honors_crls: false,
    messages: &[
        (Code::IssuerUnknown, Outcome::Refuses, "(60) SSL certificate problem: {unknown}"),
        (Code::SelfSignedLeaf, Outcome::Refuses, "(60) SSL certificate problem: self-signed certificate"),
        (Code::Malformed, Outcome::Refuses, "(35) error:1100009E:X509 V3 routines::invalid certificate"),
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
        (Code::BadSignature, Outcome::Refuses, "(35) error:06880006:asn1 encoding routines::EVP lib"),
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
    overrides: &[
        (
            Code::BadSignature,
            When::Is(Detail::Rsa),
            Outcome::Refuses,
            "(35) error:0200008A:rsa routines::invalid padding or (35) error:0200006A:rsa routines::block type is not 01",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoNames),
            Outcome::Refuses,
            "(60) SSL: certificate subject name '{also}' does not match target host name '{name}'",
        ),
        (
            Code::NameNotCovered,
            When::Is(Detail::NoNamesAddress),
            Outcome::Refuses,
            "(60) SSL: certificate subject name '{also}' does not match target host name '{name}'",
        ),
        (
            Code::IssuerExpired,
            When::Is(Detail::Early),
            Outcome::Refuses,
            "(60) SSL certificate problem: certificate is not yet valid",
        ),
        (Code::KeyUsageMissing, When::Above, Outcome::Refuses, "(60) SSL certificate problem: invalid CA certificate"),
        (Code::WeakKey, When::Above, Outcome::Refuses, "(60) SSL certificate problem: CA certificate key too weak"),
        (
            Code::ConstraintViolated,
            When::Is(Detail::Excluded),
            Outcome::Refuses,
            "(60) SSL certificate problem: excluded subtree violation",
        ),
    ],
    ..standard::POLICY
};

/// A line of curl's as it is shown and compared: without the version of its library.
pub fn said(line: &str) -> String {
    match line.split_once("OpenSSL/") {
        // `(35) OpenSSL/3.0.19: error:…`, `(56) OpenSSL SSL_read: OpenSSL/3.0.19: error:…`
        Some((before, rest)) => {
            let number = before.split(' ').next().unwrap_or_default();
            format!("{number} {}", rest.split_once(": ").map_or(rest, |(_, words)| words))
        }
        None => line.to_owned(),
    }
}
