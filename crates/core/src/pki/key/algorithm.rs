//! The kinds of keys that Tamga makes.

use crate::error::{Error, Result};

/// The kinds of keys that Tamga makes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyAlgorithm {
    /// ECDSA on P-256 with SHA-256: taken by every client.
    P256,
    /// ECDSA on P-384 with SHA-384.
    P384,
    /// ECDSA on P-521 with SHA-512: Chromium refuses it for servers.
    P521,
    /// Ed25519: no browser takes it for servers.
    Ed25519,
    /// RSA of 2048 bits with SHA-256.
    Rsa2048,
    /// RSA of 3072 bits with SHA-256.
    Rsa3072,
    /// RSA of 4096 bits with SHA-256.
    Rsa4096,
}

impl KeyAlgorithm {
    /// All, in the order of the interface.
    pub const ALL: [KeyAlgorithm; 7] =
        [Self::P256, Self::P384, Self::P521, Self::Ed25519, Self::Rsa2048, Self::Rsa3072, Self::Rsa4096];

    /// The word of the interface.
    pub fn word(self) -> &'static str {
        match self {
            Self::P256 => "p256",
            Self::P384 => "p384",
            Self::P521 => "p521",
            Self::Ed25519 => "ed25519",
            Self::Rsa2048 => "rsa2048",
            Self::Rsa3072 => "rsa3072",
            Self::Rsa4096 => "rsa4096",
        }
    }

    /// Reads the word of the interface.
    pub fn parse(typed: &str) -> Result<KeyAlgorithm> {
        Self::ALL.into_iter().find(|a| a.word() == typed).ok_or_else(|| Error::Word {
            what: "key algorithm",
            typed: typed.to_owned(),
            accepted: Self::ALL.map(Self::word).join(", "),
        })
    }

    pub(crate) fn rsa_bits(self) -> Option<usize> {
        match self {
            Self::Rsa2048 => Some(2048),
            Self::Rsa3072 => Some(3072),
            Self::Rsa4096 => Some(4096),
            _ => None,
        }
    }
}
