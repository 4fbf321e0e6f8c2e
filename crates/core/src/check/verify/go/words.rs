//! Go's errors.

use crate::finding::Code;

/// Of a certificate without alternative names, whose common name fits.
pub(super) const LEGACY: &str = "x509: certificate relies on legacy Common Name field, use SANs instead";

/// Every objection, what it is to us, and how it begins.
pub(super) const WORDS: &[(&str, Code, &str)] = &[
    ("parse", Code::Malformed, "tls: failed to parse certificate from server: x509: REASON"),
    ("too-large", Code::Malformed, "tls: handshake message of length N bytes exceeds a maximum of 65536 bytes"),
    ("unhandled", Code::CriticalExtensionUnknown, "x509: unhandled critical extension"),
    ("expired", Code::Expired, "x509: certificate has expired or is not yet valid"),
    ("name", Code::NameNotCovered, "x509: certificate is valid for NAMES, not NAME"),
    ("name", Code::NameNotCovered, "x509: certificate is not valid for any names, but wanted to match NAME"),
    ("name", Code::NameNotCovered, LEGACY),
    ("name", Code::NameNotCovered, "x509: cannot validate certificate for NAME because it doesn't contain any IP SANs"),
    ("unknown-authority", Code::IssuerUnknown, "x509: certificate signed by unknown authority"),
    (
        "signature-limit",
        Code::PathTooLong,
        "x509: signature check attempts limit reached while verifying certificate chain",
    ),
    ("not-a-ca", Code::IntermediateNotACa, "x509: certificate is not authorized to sign other certificates"),
    ("path-length", Code::PathTooLong, "x509: too many intermediates for path length constraint"),
    (
        "constraint",
        Code::ConstraintViolated,
        "x509: a root or intermediate certificate is not authorized to sign for this name: DNS name \"NAME\" is not permitted by any constraint",
    ),
    ("purpose", Code::PurposeMissing, "x509: certificate specifies an incompatible key usage"),
    ("panic", Code::KeyKindUnsupported, "panic: interface conversion: interface is nil, not x509.pubKeyEqual"),
    ("key", Code::KeyKindUnsupported, "tls: server's certificate contains an unsupported type of public key: <nil>"),
    ("signature", Code::KeyMismatch, "tls: invalid signature by the server certificate"),
    ("client", Code::ClientCertificateWanted, "remote error: tls: certificate required"),
];

/// Its words for a fault.
pub fn words(code: Code) -> Vec<String> {
    let same = |own: Code| match code {
        Code::NotYetValid | Code::IssuerExpired => own == Code::Expired,
        Code::SelfSignedLeaf | Code::BadSignature | Code::WeakSignature | Code::KeyUsageMissing => {
            own == Code::IssuerUnknown
        }
        code => own == code,
    };
    WORDS.iter().filter(|w| same(w.1)).map(|w| w.2.to_owned()).collect()
}

/// Every objection: a test leaves out one after another.
pub fn all_words() -> Vec<&'static str> {
    let mut all: Vec<&'static str> = WORDS.iter().map(|w| w.0).collect();
    all.dedup();
    all
}
