//! Public keys: compared, identified, measured.

use super::{EC, ED25519, P256, P384, P521, RSA, RSA_PSS};
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

    /// What the key is and how it is written.
    pub fn shape(&self) -> Shape {
        let Ok(info) = SubjectPublicKeyInfoRef::from_der(&self.spki) else {
            return Shape::Unreadable;
        };
        let bits = info.subject_public_key.as_bytes().unwrap_or_default();
        let named = info.algorithm.parameters.and_then(|p| p.decode_as::<ObjectIdentifier>().ok());
        match info.algorithm.oid {
            RSA => rsa_modulus_bits(bits).map_or(Shape::Unreadable, |bits| Shape::Rsa { bits, pss_only: false }),
            RSA_PSS => rsa_modulus_bits(bits).map_or(Shape::Unreadable, |bits| Shape::Rsa { bits, pss_only: true }),
            EC => {
                let explicit = named.is_none();
                let curve = match named {
                    Some(named) => Some(named),
                    None => info.algorithm.parameters.filter(|p| is_explicit_p256(p.value())).map(|_| P256),
                };
                curve.map_or(Shape::Other, |curve| Shape::Ec {
                    curve,
                    explicit,
                    compressed: matches!(bits.first(), Some(2 | 3)),
                })
            }
            ED25519 => Shape::Ed25519,
            _ => Shape::Other,
        }
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

/// What a key is and how it is written: libraries differ in which forms they take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Shape {
    /// RSA.
    Rsa {
        /// The modulus' length.
        bits: usize,
        /// It may sign with RSASSA-PSS alone (RFC 4055 §1.2).
        pss_only: bool,
    },
    /// A point on a curve.
    Ec {
        /// Which.
        curve: ObjectIdentifier,
        /// The curve is written out instead of named, which RFC 5480 §2.1.1 forbids.
        explicit: bool,
        /// The point is compressed (RFC 5480 §2.2).
        compressed: bool,
    },
    /// Ed25519.
    Ed25519,
    /// A kind that is not known here.
    Other,
    /// A known kind whose key does not parse.
    Unreadable,
}

/// True if ECParameters (X9.62) hold the field and the base point of P-256.
fn is_explicit_p256(parameters: &[u8]) -> bool {
    const PRIME: [u8; 32] = [
        0xff, 0xff, 0xff, 0xff, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff,
        0xff, 0xff, 0xff, 0xff, 0xff, 0xff,
    ];
    const BASE_X: [u8; 8] = [0x6b, 0x17, 0xd1, 0xf2, 0xe1, 0x2c, 0x42, 0x47];
    let holds = |part: &[u8]| parameters.windows(part.len()).any(|w| w == part);
    holds(&PRIME) && holds(&BASE_X)
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
