//! The JVM's errors.

use crate::check::verify::distinct;
use crate::finding::Code;

const BUILDING: &str = "PKIX path building failed: unable to find valid certification path to requested target";
const NO_ANCHOR: &str = "PKIX path validation failed: Path does not chain with any of the trust anchors";

/// Every objection: its word, what it is to us, what it says.
pub(super) const WORDS: &[(&str, Code, &str)] = &[
    ("unreadable", Code::Malformed, "Failed to parse server certificates"),
    ("too-large", Code::Malformed, "The size of the handshake message (N) exceeds the maximum allowed size (32768)"),
    ("too-many", Code::PathTooLong, "The certificate chain length (11) exceeds the maximum allowed length (10)"),
    ("building", Code::IssuerUnknown, BUILDING),
    ("no-anchor", Code::IssuerUnknown, NO_ANCHOR),
    ("anchor-no-ca", Code::IntermediateNotACa, "PKIX path validation failed: TrustAnchor is not a CA certificate"),
    (
        "anchor-usage",
        Code::KeyUsageMissing,
        "PKIX path validation failed: TrustAnchor does not have keyCertSign bit set in KeyUsage extension",
    ),
    ("usage-bits", Code::KeyUsageMissing, "PKIX path validation failed: incorrect KeyUsage extension bits"),
    ("algorithm", Code::WeakSignature, "PKIX path validation failed: Algorithm constraints check failed"),
    ("key-size", Code::WeakKey, "PKIX path validation failed: Algorithm constraints check failed"),
    (
        "ca-usage",
        Code::KeyUsageMissing,
        "PKIX path validation failed: CA key usage check failed: keyCertSign bit is not set",
    ),
    (
        "no-ca",
        Code::IntermediateNotACa,
        "PKIX path validation failed: basic constraints check failed: this is not a CA certificate",
    ),
    (
        "path-length",
        Code::PathTooLong,
        "PKIX path validation failed: basic constraints check failed: pathLenConstraint violated - this cert must be the last cert in the certification path",
    ),
    ("constraints", Code::ConstraintViolated, "PKIX path validation failed: name constraints check failed"),
    (
        "policy",
        Code::ConstraintViolated,
        "PKIX path validation failed: non-null policy tree required and policy tree is null",
    ),
    ("validity", Code::Expired, "PKIX path validation failed: validity check failed"),
    ("chaining", Code::IssuerUnknown, "PKIX path validation failed: subject/issuer name chaining check failed"),
    ("signature", Code::BadSignature, "PKIX path validation failed: signature check failed"),
    ("critical", Code::CriticalExtensionUnknown, "PKIX path validation failed: unrecognized critical extension(s)"),
    ("purpose", Code::PurposeMissing, "Extended key usage does not permit use for TLS server authentication"),
    ("leaf-usage", Code::KeyUsageMissing, "KeyUsage does not allow digital signatures"),
    ("old-type", Code::PurposeMissing, "Netscape cert type does not permit use for SSL server"),
    ("name", Code::NameNotCovered, "No subject alternative DNS name matching NAME found."),
    ("name", Code::NameNotCovered, "No subject alternative names matching IP address NAME found"),
    ("name", Code::NameNotCovered, "No subject alternative names present"),
    ("name", Code::NameNotCovered, "No name matching NAME found"),
    ("name", Code::NameNotCovered, "Illegal given domain name: NAME"),
    ("key-mismatch", Code::KeyMismatch, "Invalid CertificateVerify signature"),
    ("client", Code::ClientCertificateWanted, "Received fatal alert: certificate_required"),
];

/// Its words for a fault.
pub fn words(code: Code) -> Vec<String> {
    let same = |own: Code| match code {
        Code::SelfSignedLeaf => own == Code::IssuerUnknown,
        Code::IssuerExpired | Code::NotYetValid => own == Code::Expired,
        code => own == code,
    };
    distinct(WORDS.iter().filter(|w| same(w.1)).map(|w| w.2.to_owned()))
}

/// Every objection: a test leaves out one after another.
pub fn all_words() -> Vec<&'static str> {
    let mut all: Vec<&'static str> = WORDS.iter().map(|w| w.0).collect();
    all.dedup();
    all
}
