//! Why a handshake failed, from the server's side, in a sentence.

use rustls::{AlertDescription, Error};

const REJECTS: &str = "it rejects the certificate; browsers send this for an unknown issuer too";

/// Which side gave up, and why: a client's alert is its last word on the certificate.
pub(super) fn why(e: &std::io::Error) -> String {
    let Some(cause) = e.get_ref().and_then(|inner| inner.downcast_ref::<Error>()) else {
        return "the client closed the connection during the handshake".to_owned();
    };
    match cause {
        Error::AlertReceived(alert) => {
            let (name, reason) = match alert {
                AlertDescription::UnknownCA => ("unknown_ca", "it does not trust the issuer of the certificate"),
                AlertDescription::CertificateExpired => {
                    ("certificate_expired", "the certificate is expired by its clock")
                }
                AlertDescription::CertificateRevoked => ("certificate_revoked", "the certificate is revoked"),
                AlertDescription::BadCertificate => ("bad_certificate", REJECTS),
                AlertDescription::CertificateUnknown => ("certificate_unknown", REJECTS),
                AlertDescription::ProtocolVersion => ("protocol_version", "it has no TLS version in common"),
                AlertDescription::HandshakeFailure => ("handshake_failure", "it has no cipher or key kind in common"),
                // The numbers are those of RFC 8446, section 6.
                other => return format!("the client sent alert {}", u8::from(*other)),
            };
            format!("the client sent the alert {name}: {reason}")
        }
        Error::NoCertificatesPresented => "the client showed no certificate, and one is required".to_owned(),
        Error::InvalidCertificate(e) => format!("the client's certificate was rejected: {e}"),
        Error::InvalidMessage(_) => "what the client sent is not TLS: it may speak plain HTTP".to_owned(),
        Error::PeerIncompatible(_) => "the client has no TLS version or cipher in common with the server".to_owned(),
        other => format!("the handshake failed: {other}"),
    }
}
