//! Kinds of cipher suites, by their numbers in the TLS registry.

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
