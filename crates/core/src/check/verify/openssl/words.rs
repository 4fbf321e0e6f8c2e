//! OpenSSL's errors.

use crate::finding::Code;

/// An error of the library's: its name, what it is to us, its words, and Node.js' word for it.
pub(super) struct Word {
    pub(super) name: &'static str,
    pub(super) code: Code,
    pub(super) words: &'static str,
    pub(super) node: &'static str,
}

const fn word(name: &'static str, code: Code, words: &'static str, node: &'static str) -> Word {
    Word { name, code, words, node }
}

/// The name does not fit: by the library for Python, by the program's own comparison for the others.
pub(super) const MISMATCH: &str = "HOSTNAME_MISMATCH";

/// A library that knows no constraints of addresses refuses every address under one.
pub(super) const IP_CONSTRAINT: &str = "BORING_IP_CONSTRAINT";

/// An authority demands a policy, and the certificate has none.
pub(super) const NO_POLICY: &str = "BORING_NO_POLICY";

/// An authority has limits, and a certificate without alternative names cannot be held against them.
pub(super) const NO_NAMES: &str = "BORING_NO_NAMES";

/// A library that reads policies even where nobody asks for any.
pub(super) const POLICY: &str = "BORING_POLICY";

const OTHER: &str = "UNSPECIFIED";

/// Every error that it has for a chain.
pub(super) const WORDS: &[Word] = &[
    word("UNSPECIFIED", Code::Malformed, "unspecified certificate verification error", OTHER),
    word("EE_KEY_TOO_SMALL", Code::WeakKey, "EE certificate key too weak", OTHER),
    word("CA_KEY_TOO_SMALL", Code::WeakKey, "CA certificate key too weak", OTHER),
    word("CA_MD_TOO_WEAK", Code::WeakSignature, "CA signature digest algorithm too weak", OTHER),
    word("DEPTH_ZERO_SELF_SIGNED_CERT", Code::SelfSignedLeaf, "self-signed certificate", "DEPTH_ZERO_SELF_SIGNED_CERT"),
    word(
        "SELF_SIGNED_CERT_IN_CHAIN",
        Code::IssuerUnknown,
        "self-signed certificate in certificate chain",
        "SELF_SIGNED_CERT_IN_CHAIN",
    ),
    word(
        "UNABLE_TO_GET_ISSUER_CERT",
        Code::IssuerUnknown,
        "unable to get issuer certificate",
        "UNABLE_TO_GET_ISSUER_CERT",
    ),
    word(
        "UNABLE_TO_GET_ISSUER_CERT_LOCALLY",
        Code::IssuerUnknown,
        "unable to get local issuer certificate",
        "UNABLE_TO_GET_ISSUER_CERT_LOCALLY",
    ),
    word(
        "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
        Code::IssuerUnknown,
        "unable to verify the first certificate",
        "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
    ),
    word("CERT_CHAIN_TOO_LONG", Code::PathTooLong, "certificate chain too long", "CERT_CHAIN_TOO_LONG"),
    word("UNHANDLED_CRITICAL_EXTENSION", Code::CriticalExtensionUnknown, "unhandled critical extension", OTHER),
    word("INVALID_CA", Code::IntermediateNotACa, "invalid CA certificate", "INVALID_CA"),
    word(
        "EC_KEY_EXPLICIT_PARAMS",
        Code::KeyKindUnsupported,
        "Certificate public key has explicit ECC parameters",
        OTHER,
    ),
    word("INVALID_PURPOSE", Code::PurposeMissing, "unsuitable certificate purpose", "INVALID_PURPOSE"),
    word("PATH_LENGTH_EXCEEDED", Code::PathTooLong, "path length constraint exceeded", "PATH_LENGTH_EXCEEDED"),
    word(MISMATCH, Code::NameNotCovered, "", "HOSTNAME_MISMATCH"),
    word("KEYUSAGE_NO_CERTSIGN", Code::KeyUsageMissing, "key usage does not include certificate signing", OTHER),
    word(
        "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
        Code::BadSignature,
        "unable to decode issuer public key",
        "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
    ),
    word("CERT_SIGNATURE_FAILURE", Code::BadSignature, "certificate signature failure", "CERT_SIGNATURE_FAILURE"),
    word("CERT_NOT_YET_VALID", Code::NotYetValid, "certificate is not yet valid", "CERT_NOT_YET_VALID"),
    word("CERT_HAS_EXPIRED", Code::Expired, "certificate has expired", "CERT_HAS_EXPIRED"),
    word(
        "ERROR_IN_CERT_NOT_BEFORE_FIELD",
        Code::Malformed,
        "format error in certificate's notBefore field",
        "ERROR_IN_CERT_NOT_BEFORE_FIELD",
    ),
    word(
        "ERROR_IN_CERT_NOT_AFTER_FIELD",
        Code::Malformed,
        "format error in certificate's notAfter field",
        "ERROR_IN_CERT_NOT_AFTER_FIELD",
    ),
    word("PERMITTED_VIOLATION", Code::ConstraintViolated, "permitted subtree violation", OTHER),
    word("EXCLUDED_VIOLATION", Code::ConstraintViolated, "excluded subtree violation", OTHER),
    word("SUBTREE_MINMAX", Code::ConstraintViolated, "name constraints minimum and maximum not supported", OTHER),
    word("UNSUPPORTED_CONSTRAINT_TYPE", Code::ConstraintViolated, "unsupported name constraint type", OTHER),
    word(NO_POLICY, Code::ConstraintViolated, "no explicit policy", OTHER),
    word(NO_NAMES, Code::ConstraintViolated, "Issuer has name constraints but leaf has no SANs", OTHER),
    word(POLICY, Code::Malformed, "invalid or inconsistent certificate policy extension", OTHER),
    word(IP_CONSTRAINT, Code::IpConstraintUnsupported, "unsupported name constraint type", OTHER),
    word("UNSUPPORTED_NAME_SYNTAX", Code::ConstraintViolated, "unsupported or invalid name syntax", OTHER),
];

pub(super) fn found(name: &str) -> &'static Word {
    WORDS.iter().find(|w| w.name == name).unwrap_or(&WORDS[0])
}

/// gRPC shows the library's text, which differs from OpenSSL's here and there.
pub(super) fn grpc(w: &Word) -> String {
    let words = match w.name {
        "EC_KEY_EXPLICIT_PARAMS" => "unable to decode issuer public key",
        "INVALID_PURPOSE" => "unsupported certificate purpose",
        "SELF_SIGNED_CERT_IN_CHAIN" => "self signed certificate in certificate chain",
        "DEPTH_ZERO_SELF_SIGNED_CERT" => "self signed certificate",
        _ => w.words,
    };
    words.to_owned()
}
