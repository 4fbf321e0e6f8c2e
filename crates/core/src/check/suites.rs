//! Cipher suites of TLS 1.2 that not every client offers any more (measured with the versions in `docs/agreement.md`).

use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::check::verify::Trail;
use crate::finding::Code;

/// Suites that have the same thing about them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// The key is exchanged with RSA (RFC 5246 §7.4.7.1).
    RsaExchange,
    /// The key is exchanged with Diffie-Hellman in a finite field (RFC 5246 §7.4.3).
    FiniteField,
    /// Blocks are chained, with HMAC of SHA-1.
    CbcSha1,
    /// Blocks are chained, with HMAC of SHA-2.
    CbcSha2,
    /// The same, signed with ECDSA.
    CbcSha1Ecdsa,
    /// The same, signed with ECDSA.
    CbcSha2Ecdsa,
    /// Keys are exchanged on P-521.
    P521,
    /// Any other.
    Usual,
}

impl Kind {
    /// Of a suite by its number in the TLS registry.
    pub fn of(suite: u16) -> Kind {
        match suite {
            0x0004 | 0x0005 | 0x000a | 0x002f | 0x0035 | 0x003c | 0x003d | 0x009c | 0x009d => Kind::RsaExchange,
            0x0016 | 0x0033 | 0x0039 | 0x0067 | 0x006b | 0x009e | 0x009f | 0xccaa => Kind::FiniteField,
            0xc009 | 0xc00a => Kind::CbcSha1Ecdsa,
            0xc013 | 0xc014 => Kind::CbcSha1,
            0xc023 | 0xc024 => Kind::CbcSha2Ecdsa,
            0xc027 | 0xc028 => Kind::CbcSha2,
            _ => Kind::Usual,
        }
    }

    /// As it is said in a sentence.
    pub fn words(self) -> &'static str {
        match self {
            Kind::RsaExchange => "a key exchange with RSA",
            Kind::FiniteField => "a key exchange in a finite field",
            Kind::CbcSha1 | Kind::CbcSha1Ecdsa => "a cipher in CBC mode with SHA-1",
            Kind::P521 => "a key exchange on P-521",
            Kind::CbcSha2 | Kind::CbcSha2Ecdsa => "a cipher in CBC mode with SHA-2",
            Kind::Usual => "a usual cipher",
        }
    }
}

/// True if a client offers suites of this kind.
pub fn offers(client: Client, kind: Kind) -> bool {
    use Kind::{CbcSha1, CbcSha1Ecdsa, CbcSha2, CbcSha2Ecdsa, FiniteField, P521, RsaExchange};
    match client {
        _ if kind == Kind::Usual => true,
        Client::Standard | Client::Safari | Client::Windows => true,
        Client::Curl | Client::Node | Client::Php | Client::Psql | Client::Ruby => true,
        Client::Java => kind != RsaExchange,
        Client::Gnutls | Client::Git => !matches!(kind, CbcSha2 | CbcSha2Ecdsa),
        Client::Deno => false,
        Client::Python => !matches!(kind, RsaExchange | CbcSha1 | CbcSha1Ecdsa),
        Client::Go => !matches!(kind, FiniteField | CbcSha2 | CbcSha2Ecdsa),
        Client::Bun => !matches!(kind, FiniteField | CbcSha2Ecdsa | P521),
        Client::Chromium => matches!(kind, RsaExchange | CbcSha1),
        Client::Firefox => matches!(kind, RsaExchange | CbcSha1 | P521),
        Client::Grpc => kind == P521,
    }
}

/// What a client says to a server whose suite it does not offer; None where it offers it, or nothing is known of the suite.
pub fn refused(client: Client, input: &Input<'_>) -> Option<Verdict> {
    let group = input.spoken.is_p521.then_some(Kind::P521);
    let kind = input.spoken.suite.map(Kind::of).into_iter().chain(group).find(|k| !offers(client, *k))?;
    let code = match client {
        Client::Chromium => "net::ERR_SSL_VERSION_OR_CIPHER_MISMATCH",
        Client::Firefox => "SSL_ERROR_NO_CYPHER_OVERLAP",
        Client::Node | Client::Bun => "ERR_SSL_SSLV3_ALERT_HANDSHAKE_FAILURE",
        Client::Python | Client::Grpc => "SSLV3_ALERT_HANDSHAKE_FAILURE",
        Client::Java => "Received fatal alert: handshake_failure",
        Client::Go => "remote error: tls: handshake failure",
        Client::Gnutls => "GnuTLS: A TLS fatal alert has been received.",
        Client::Git => "gnutls_handshake() failed: A TLS fatal alert has been received.",
        Client::Ruby => "sslv3 alert handshake failure",
        Client::Php => "error:0A000410:SSL routines::sslv3 alert handshake failure",
        Client::Psql => "SSL error: sslv3 alert handshake failure",
        Client::Deno => "received fatal alert: HandshakeFailure",
        _ => "(35) error:0A000410:SSL routines::sslv3 alert handshake failure",
    };
    let mut trail = Trail::new(None);
    trail.path = input.served.first().cloned().into_iter().collect();
    trail.object("suite", Code::NoCommonCipher, 0, kind.words());
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Some(Verdict { client, outcome: Outcome::Refuses, code: Some(code.into()), judgement, documented: false })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_found_by_number() {
        assert_eq!(Kind::of(0x002f), Kind::RsaExchange);
        assert_eq!(Kind::of(0x009f), Kind::FiniteField);
        assert_eq!((Kind::of(0xc013), Kind::of(0xc009)), (Kind::CbcSha1, Kind::CbcSha1Ecdsa));
        assert_eq!(Kind::of(0xc027), Kind::CbcSha2);
        for usual in [0xc02b, 0xc02f, 0xcca8, 0x1301] {
            assert_eq!(Kind::of(usual), Kind::Usual);
            assert!(Client::ALL.into_iter().all(|c| offers(c, Kind::of(usual))));
        }
    }
}
