//! Chromium's errors, and which of them each objection leads to.

use crate::check::client::Outcome;
use crate::check::verify::distinct;
use crate::finding::Code;

/// Which of the program's errors an objection leads to, gravest first; several make the first of those that are there.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum Status {
    /// keyUsage in the handshake.
    Usage,
    /// The handshake.
    Protocol,
    Cipher,
    Format,
    Invalid,
    Authority,
    Name,
    Weak,
    Date,
    Mismatch,
    Client,
    /// Alone it makes the path invalid; beside one of the three above it does not count.
    Other,
}

/// Every objection.
pub(super) const WORDS: &[(&str, Code, Status)] = &[
    ("cannot-parse-leaf", Code::Malformed, Status::Protocol),
    ("too-large", Code::Malformed, Status::Protocol),
    ("key-mismatch", Code::KeyMismatch, Status::Mismatch),
    ("key-kind", Code::KeyKindUnsupported, Status::Cipher),
    ("bad-format", Code::Malformed, Status::Format),
    ("leaf-usage", Code::KeyUsageMissing, Status::Usage),
    ("unreadable", Code::Malformed, Status::Invalid),
    ("distrusted", Code::IssuerUnknown, Status::Authority),
    ("no-issuers", Code::IssuerUnknown, Status::Authority),
    ("signature", Code::BadSignature, Status::Authority),
    ("chaining", Code::IssuerUnknown, Status::Authority),
    ("iterations", Code::BudgetExhausted, Status::Authority),
    ("name", Code::NameNotCovered, Status::Name),
    ("weak-key", Code::WeakKey, Status::Weak),
    ("dates", Code::Expired, Status::Date),
    ("algorithms-differ", Code::BadSignature, Status::Invalid),
    ("algorithm", Code::WeakSignature, Status::Invalid),
    ("public-key", Code::KeyKindUnsupported, Status::Other),
    ("depth", Code::PathTooLong, Status::Authority),
    ("constraints", Code::ConstraintViolated, Status::Other),
    ("policy", Code::ConstraintViolated, Status::Other),
    ("purpose", Code::PurposeMissing, Status::Other),
    ("no-basic", Code::IntermediateNotACa, Status::Other),
    ("no-ca", Code::IntermediateNotACa, Status::Other),
    ("path-length", Code::PathTooLong, Status::Other),
    ("ca-usage", Code::KeyUsageMissing, Status::Other),
    ("critical", Code::CriticalExtensionUnknown, Status::Other),
    ("client", Code::ClientCertificateWanted, Status::Client),
];

pub(super) fn words_of(status: Status) -> (Outcome, &'static str) {
    match status {
        Status::Protocol | Status::Mismatch => (Outcome::Refuses, "net::ERR_SSL_PROTOCOL_ERROR"),
        Status::Cipher => (Outcome::Refuses, "net::ERR_SSL_VERSION_OR_CIPHER_MISMATCH or net::ERR_SSL_PROTOCOL_ERROR"),
        Status::Format => (Outcome::Refuses, "net::ERR_SSL_SERVER_CERT_BAD_FORMAT"),
        Status::Usage => (Outcome::Refuses, "net::ERR_SSL_KEY_USAGE_INCOMPATIBLE"),
        Status::Invalid | Status::Other => (Outcome::Refuses, "net::ERR_CERT_INVALID"),
        Status::Authority => (Outcome::Warns, "net::ERR_CERT_AUTHORITY_INVALID"),
        Status::Name => (Outcome::Warns, "net::ERR_CERT_COMMON_NAME_INVALID"),
        Status::Weak => (Outcome::Warns, "net::ERR_CERT_WEAK_KEY"),
        Status::Date => (Outcome::Warns, "net::ERR_CERT_DATE_INVALID"),
        Status::Client => (
            Outcome::Refuses,
            "net::ERR_SSL_CLIENT_AUTH_CERT_NEEDED or net::ERR_BAD_SSL_CLIENT_AUTH_CERT or net::ERR_SSL_PROTOCOL_ERROR",
        ),
    }
}

/// Its words for a fault.
pub fn words(code: Code) -> Vec<String> {
    let same = |own: Code| match code {
        Code::SelfSignedLeaf => own == Code::IssuerUnknown,
        Code::IssuerExpired | Code::NotYetValid => own == Code::Expired,
        code => own == code,
    };
    let all = WORDS.iter().filter(|w| same(w.1));
    distinct(all.flat_map(|w| words_of(w.2).1.split(" or ")).map(str::to_owned))
}

/// Every objection: a test leaves out one after another.
pub fn all_words() -> Vec<&'static str> {
    WORDS.iter().map(|w| w.0).collect()
}
