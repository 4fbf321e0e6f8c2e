//! What ends a connection beside the library's judgement of the chain, and what each program prints of it.

use crate::check::client::Client;
use crate::finding::Code;

/// An end.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum End {
    /// The handshake is not signed with the key of the certificate.
    KeyMismatch,
    /// An EC key whose usage is not to sign, up to TLS 1.2.
    NotForSigning,
    /// The server demands a client certificate.
    ClientWanted,
    /// curl reads the issuer's name, which is empty.
    NoIssuerName,
}

impl End {
    pub(super) const ALL: [End; 4] = [End::KeyMismatch, End::NotForSigning, End::ClientWanted, End::NoIssuerName];

    /// The name under which it is left out.
    pub(super) fn word(self) -> &'static str {
        match self {
            End::KeyMismatch => "key-mismatch",
            End::NotForSigning => "ECC_CERT_NOT_FOR_SIGNING",
            End::ClientWanted => "client",
            End::NoIssuerName => "issuer-name",
        }
    }

    /// What it is to us.
    pub(super) fn code(self) -> Code {
        match self {
            End::KeyMismatch => Code::KeyMismatch,
            End::NotForSigning => Code::KeyUsageMissing,
            End::ClientWanted => Code::ClientCertificateWanted,
            End::NoIssuerName => Code::Malformed,
        }
    }

    /// What the program prints, with "or" between texts of which chance chooses one; empty where it never ends like this.
    pub(super) fn said(self, client: Client) -> &'static str {
        match (self, client) {
            (End::KeyMismatch, Client::Node) => {
                "ERR_SSL_BAD_SIGNATURE or ERR_SSL_WRONG_SIGNATURE_TYPE or ERR_SSL_LAST_OCTET_INVALID or ERR_SSL_SALT_LENGTH_CHECK_FAILED or ERR_SSL_FIRST_OCTET_INVALID or ERR_SSL_WRONG_CURVE"
            }
            (End::KeyMismatch, Client::Python) => "BAD_SIGNATURE or WRONG_SIGNATURE_TYPE or [SSL] EVP lib",
            (End::KeyMismatch, Client::Bun) => "ERR_SSL_BAD_SIGNATURE or ERR_SSL_WRONG_SIGNATURE_TYPE",
            (End::KeyMismatch, Client::Grpc) => "BAD_SIGNATURE or WRONG_SIGNATURE_TYPE",
            (End::NotForSigning, Client::Bun | Client::Grpc) => "",
            (End::ClientWanted, Client::Bun) => "ERR_SSL_TLSV1_ALERT_CERTIFICATE_REQUIRED",
            (End::ClientWanted, Client::Grpc) => "TLSV1_ALERT_CERTIFICATE_REQUIRED or Unwrap failed",
            (End::KeyMismatch, Client::Ruby) => "bad signature or wrong signature type or last octet invalid",
            (End::KeyMismatch, Client::Php) => {
                "error:0A00007B:SSL routines::bad signature or error:0A000172:SSL routines::wrong signature type or error:0200008A:rsa routines::last octet invalid"
            }
            (End::KeyMismatch, Client::Psql) => {
                "SSL error: bad signature or SSL error: wrong signature type or SSL error: last octet invalid"
            }
            (End::KeyMismatch, _) => {
                "(35) error:0A00007B:SSL routines::bad signature or (35) error:0A000172:SSL routines::wrong signature type or (35) error:0200008A:rsa routines::last octet invalid"
            }
            (End::NotForSigning, Client::Node) => "ERR_SSL_ECC_CERT_NOT_FOR_SIGNING",
            (End::NotForSigning, Client::Python) => "BAD_ECC_CERT",
            (End::NotForSigning, Client::Ruby) => "ecc cert not for signing",
            (End::NotForSigning, Client::Php) => "error:0A00013E:SSL routines::ecc cert not for signing",
            (End::NotForSigning, Client::Psql) => "SSL error: ecc cert not for signing",
            (End::NotForSigning, _) => "(35) error:0A00013E:SSL routines::ecc cert not for signing",
            (End::ClientWanted, Client::Node) => "ERR_SSL_TLSV13_ALERT_CERTIFICATE_REQUIRED",
            (End::ClientWanted, Client::Python) => "TLSV13_ALERT_CERTIFICATE_REQUIRED",
            (End::ClientWanted, Client::Ruby) => "tlsv13 alert certificate required",
            (End::ClientWanted, Client::Php) => "error:0A00045C:SSL routines::tlsv13 alert certificate required",
            (End::ClientWanted, Client::Psql) => "SSL error: tlsv13 alert certificate required",
            (End::ClientWanted, _) => {
                "(98) error:0A00045C:SSL routines::tlsv13 alert certificate required or (56) error:0A00045C:SSL routines::tlsv13 alert certificate required, errno 0"
            }
            (End::NoIssuerName, Client::Curl) => "(60) SSL: couldn't get X509-issuer name",
            (End::NoIssuerName, _) => "",
        }
    }
}
