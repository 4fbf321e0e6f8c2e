//! Public keys: compared, identified, measured.

use super::{EC, ED25519, P256, P384, P521, RSA};
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use const_oid::ObjectIdentifier;
use der::{Decode, Encode};
use sha2::Digest;
use spki::SubjectPublicKeyInfoRef;
use std::fmt;

/// A public key as SubjectPublicKeyInfo (RFC 5280 §4.1.2.7).
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PublicKey {
    spki: Vec<u8>,
}

impl PublicKey {
    /// From the DER of a SubjectPublicKeyInfo; not judged further.
    pub fn from_spki(spki: Vec<u8>) -> PublicKey {
        PublicKey { spki }
    }

    /// The DER of the SubjectPublicKeyInfo.
    pub fn spki(&self) -> &[u8] {
        &self.spki
    }

    /// SHA-256 over the SubjectPublicKeyInfo, lower-case hex.
    pub fn fingerprint(&self) -> Sha256Fingerprint {
        Sha256Fingerprint::of(&self.spki)
    }

    /// The key itself without its algorithm: a point or an RSAPublicKey; empty if it does not parse.
    pub fn bits(&self) -> Vec<u8> {
        SubjectPublicKeyInfoRef::from_der(&self.spki)
            .ok()
            .and_then(|s| s.subject_public_key.as_bytes().map(<[u8]>::to_vec))
            .unwrap_or_default()
    }

    /// The key identifier: SHA-1 over the key's bits (RFC 5280 §4.2.1.2, method 1).
    pub fn identifier(&self) -> Vec<u8> {
        sha1::Sha1::digest(self.bits()).to_vec()
    }

    /// The kind and size of the key, as far as it is known.
    pub fn strength(&self) -> Strength {
        let Ok(info) = SubjectPublicKeyInfoRef::from_der(&self.spki) else {
            return Strength::Other;
        };
        match info.algorithm.oid {
            RSA => info.subject_public_key.as_bytes().and_then(rsa_modulus_bits).map_or(Strength::Other, Strength::Rsa),
            EC => match info.algorithm.parameters.and_then(|p| p.decode_as::<ObjectIdentifier>().ok()) {
                Some(P256) => Strength::P256,
                Some(P384) => Strength::P384,
                Some(P521) => Strength::P521,
                _ => Strength::Other,
            },
            ED25519 => Strength::Ed25519,
            _ => Strength::Other,
        }
    }
}

/// What kind of key, and how strong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Strength {
    /// P-256.
    P256,
    /// P-384.
    P384,
    /// P-521.
    P521,
    /// Ed25519.
    Ed25519,
    /// RSA with so many bits.
    Rsa(usize),
    /// Anything else.
    Other,
}

impl fmt::Display for Strength {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Strength::P256 => f.write_str("P-256"),
            Strength::P384 => f.write_str("P-384"),
            Strength::P521 => f.write_str("P-521"),
            Strength::Ed25519 => f.write_str("Ed25519"),
            Strength::Rsa(bits) => write!(f, "RSA {bits} bits"),
            Strength::Other => f.write_str("of a kind unknown here"),
        }
    }
}

fn rsa_modulus_bits(key: &[u8]) -> Option<usize> {
    #[derive(der::Sequence)]
    struct RsaPublicKey<'a> {
        modulus: der::asn1::UintRef<'a>,
        exponent: der::asn1::UintRef<'a>,
    }
    let key = RsaPublicKey::from_der(key).ok()?;
    let _ = key.exponent.encoded_len().ok()?;
    let bytes = key.modulus.as_bytes();
    Some(bytes.len() * 8 - bytes.first()?.leading_zeros() as usize)
}
