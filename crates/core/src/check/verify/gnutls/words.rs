//! What wget and git print of what GnuTLS minds.

use crate::check::client::Client;
use crate::check::verify::{Objection, distinct};
use crate::finding::Code;

/// wget's words for each of GnuTLS' statuses, in the order in which it prints them.
pub(super) const WORDS: &[(&str, Code, &str)] = &[
    ("unreadable", Code::Malformed, "GnuTLS: ASN1 parser: Error in DER parsing."),
    ("too-many", Code::PathTooLong, "No certificate presented by NAME."),
    ("signer-not-found", Code::IssuerUnknown, "The certificate of 'NAME' doesn't have a known issuer."),
    ("signer-not-ca", Code::IntermediateNotACa, "The certificate signer of 'NAME' was not a CA."),
    ("insecure-algorithm", Code::WeakSignature, "The certificate of 'NAME' was signed using an insecure algorithm."),
    ("not-activated", Code::NotYetValid, "The certificate of 'NAME' is not yet activated."),
    ("expired", Code::Expired, "The certificate of 'NAME' has expired."),
    ("own-not-activated", Code::NotYetValid, "The certificate has not yet been activated"),
    ("own-expired", Code::Expired, "The certificate has expired"),
    ("name", Code::NameNotCovered, "The certificate's owner does not match hostname 'NAME'"),
    ("constraints", Code::ConstraintViolated, NOT_TRUSTED),
    ("path-length", Code::PathTooLong, NOT_TRUSTED),
    ("usage", Code::KeyUsageMissing, NOT_TRUSTED),
    ("signature", Code::BadSignature, NOT_TRUSTED),
    ("critical", Code::CriticalExtensionUnknown, NOT_TRUSTED),
    ("purpose", Code::PurposeMissing, NOT_TRUSTED),
    ("staple", Code::ConstraintViolated, NOT_TRUSTED),
    (
        "key-mismatch",
        Code::KeyMismatch,
        "GnuTLS: Public key signature verification has failed. or GnuTLS: The signature is incompatible with the public key.",
    ),
    ("signing", Code::KeyUsageMissing, GIT_SIGNING),
    ("client", Code::ClientCertificateWanted, "GnuTLS: A TLS fatal alert has been received."),
];

/// All that wget says of many of them.
const NOT_TRUSTED: &str = "The certificate of 'NAME' is not trusted.";

/// What git prints: one text for whatever the library minds about a chain.
pub(super) fn by_git(o: &Objection, host: &str) -> String {
    let handshake = |words: &str| {
        let each =
            words.split(" or ").map(|w| format!("gnutls_handshake() failed: {}", w.trim_start_matches("GnuTLS: ")));
        each.collect::<Vec<_>>().join(" or ")
    };
    match o.word {
        "unreadable" => handshake(&o.detail),
        "key-mismatch" => handshake(WORDS.iter().find(|w| w.0 == o.word).map_or("", |w| w.2)),
        "signing" if o.detail.is_empty() => GIT_SIGNING.into(),
        "signing" => {
            format!("{GIT_SIGNING} or gnutls_handshake() failed: The signature is incompatible with the public key.")
        }
        "too-many" => "server cert verify failed".into(),
        "client" => GIT_CLIENT.into(),
        "name" => GIT_NAME.replace("NAME", host),
        _ => GIT_CHAIN.into(),
    }
}

/// wget asks the library to overlook this.
const GIT_SIGNING: &str = "gnutls_handshake() failed: Key usage violation in certificate has been detected.";
const GIT_CHAIN: &str = "server certificate verification failed.";
const GIT_NAME: &str = "SSL: certificate subject name does not match target host name 'NAME'";
const GIT_CLIENT: &str = "GnuTLS recv error (-12): A TLS fatal alert has been received. or gnutls_handshake() failed: A TLS fatal alert has been received. or gnutls_handshake() failed: Certificate is required or Send failure: Broken pipe";

/// Its words for a fault.
pub fn words(client: Client, code: Code) -> Vec<String> {
    let same = |own: Code| match code {
        Code::SelfSignedLeaf => own == Code::IssuerUnknown,
        Code::IssuerExpired => matches!(own, Code::Expired | Code::NotYetValid),
        code => own == code,
    };
    let mine = WORDS.iter().filter(|w| same(w.1)).filter(|w| client == Client::Git || w.0 != "signing");
    match client {
        Client::Git => {
            let as_objection =
                |w: &(&'static str, Code, &str)| Objection { word: w.0, code: w.1, depth: 0, detail: w.2.to_owned() };
            let each = mine.map(|w| by_git(&as_objection(w), "NAME"));
            distinct(each.flat_map(|t| t.split(" or ").map(str::to_owned).collect::<Vec<_>>()))
        }
        _ => mine.map(|w| w.2.to_owned()).collect(),
    }
}

/// Every objection: a test leaves out one after another.
pub fn all_words(client: Client) -> Vec<&'static str> {
    // git looks at the dates no second time.
    let mine = |w: &&str| if client == Client::Git { !w.starts_with("own-") } else { *w != "signing" };
    WORDS.iter().map(|w| w.0).filter(mine).collect()
}
