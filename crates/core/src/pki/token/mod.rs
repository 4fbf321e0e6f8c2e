//! Keys on PKCS#11 tokens, as far as that is computed: their addresses, their public keys, what a token is asked to sign and what becomes
//! of its answer. The module itself is loaded elsewhere.

mod uri;

pub use uri::TokenUri;

use crate::pki::key::{
    EC, ECDSA_SHA256, ECDSA_SHA384, ECDSA_SHA512, ED25519, KeyAlgorithm, P256, P384, P521, PublicKey, RSA, RSA_SHA256,
    Shape,
};
use crate::pki::signature::Hash;
use const_oid::ObjectIdentifier;
use der::asn1::{BitString, OctetString, UintRef};
use der::{Any, Decode, Encode};
use spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoOwned};

/// What a token says of a public key: the attributes of its object, each as the token gives it.
#[derive(Clone, Debug, Default)]
pub struct Attributes {
    /// CKA_EC_PARAMS: the curve, DER.
    pub curve: Option<Vec<u8>>,
    /// CKA_EC_POINT: the point, as it is or in an OCTET STRING.
    pub point: Option<Vec<u8>>,
    /// CKA_MODULUS.
    pub modulus: Option<Vec<u8>>,
    /// CKA_PUBLIC_EXPONENT.
    pub exponent: Option<Vec<u8>>,
}

impl Attributes {
    /// The public key; None if they are those of a key that Tamga does not use, or do not belong together.
    pub fn public_key(&self) -> Option<PublicKey> {
        let (algorithm, bits) = match (&self.curve, &self.point, &self.modulus, &self.exponent) {
            (Some(curve), Some(point), _, _) => {
                let named = curve_of(curve)?;
                let point = bare_point(named, point)?;
                match named {
                    ED25519 => (AlgorithmIdentifierOwned { oid: ED25519, parameters: None }, point),
                    _ => (
                        AlgorithmIdentifierOwned {
                            oid: EC,
                            parameters: Some(Any::from_der(&named.to_der().ok()?).ok()?),
                        },
                        point,
                    ),
                }
            }
            (_, _, Some(modulus), Some(exponent)) => {
                let key = rsa::pkcs1::RsaPublicKey {
                    modulus: UintRef::new(modulus).ok()?,
                    public_exponent: UintRef::new(exponent).ok()?,
                };
                (AlgorithmIdentifierOwned { oid: RSA, parameters: Some(Any::null()) }, key.to_der().ok()?)
            }
            _ => return None,
        };
        let info = SubjectPublicKeyInfoOwned { algorithm, subject_public_key: BitString::from_bytes(&bits).ok()? };
        Some(PublicKey::from_spki(info.to_der().ok()?))
    }
}

/// PKCS#11 3.0 §2.3.5 names the curve of Ed25519 by a word; others write the identifier of RFC 8410.
fn curve_of(params: &[u8]) -> Option<ObjectIdentifier> {
    if let Ok(named) = ObjectIdentifier::from_der(params) {
        return [P256, P384, P521, ED25519].contains(&named).then_some(named);
    }
    let word = der::asn1::PrintableStringRef::from_der(params).ok()?;
    (word.as_str() == "edwards25519").then_some(ED25519)
}

/// A point without the OCTET STRING around it: some modules give the one, some the other.
fn bare_point(curve: ObjectIdentifier, given: &[u8]) -> Option<Vec<u8>> {
    let length = match curve {
        P256 => 65,
        P384 => 97,
        P521 => 133,
        _ => 32,
    };
    if given.len() == length {
        return Some(given.to_vec());
    }
    let inner = OctetString::from_der(given).ok()?;
    (inner.as_bytes().len() == length).then(|| inner.as_bytes().to_vec())
}

/// Way in which a token is asked to sign.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Mechanism {
    /// CKM_ECDSA over a hash. A hash of another length than the curve's would be cut silently by some tokens.
    Ecdsa,
    /// CKM_EDDSA over the message.
    Eddsa,
    /// CKM_RSA_PKCS over a DigestInfo (RFC 8017 §9.2).
    RsaPkcs,
    /// CKM_SHA256_RSA_PKCS over the message: the same signature, where a token does not do the other.
    Sha256RsaPkcs,
}

/// The algorithm of a key's signatures and what a token is to sign for it; None for a key that Tamga does not use.
pub fn question(key: &PublicKey, message: &[u8], hashes_itself: bool) -> Option<(Mechanism, Vec<u8>)> {
    Some(match key.shape() {
        Shape::Ec { curve: P256, .. } => (Mechanism::Ecdsa, Hash::Sha256.of(message)),
        Shape::Ec { curve: P384, .. } => (Mechanism::Ecdsa, Hash::Sha384.of(message)),
        Shape::Ec { curve: P521, .. } => (Mechanism::Ecdsa, Hash::Sha512.of(message)),
        Shape::Ed25519 => (Mechanism::Eddsa, message.to_vec()),
        Shape::Rsa { pss_only: false, .. } if hashes_itself => (Mechanism::Sha256RsaPkcs, message.to_vec()),
        Shape::Rsa { pss_only: false, .. } => {
            (Mechanism::RsaPkcs, [Hash::Sha256.prefix(), &Hash::Sha256.of(message)].concat())
        }
        _ => return None,
    })
}

/// A token's answer in the form that X.509 holds: for ECDSA the two halves become ECDSA-Sig-Value (RFC 3279 §2.2.3). None if it cannot be
/// a signature of this key.
pub fn signature(key: &PublicKey, raw: &[u8]) -> Option<Vec<u8>> {
    let Shape::Ec { curve, .. } = key.shape() else {
        return Some(raw.to_vec());
    };
    let half = match curve {
        P256 => 32,
        P384 => 48,
        P521 => 66,
        _ => return None,
    };
    let (r, s) = (raw.len() == 2 * half).then(|| raw.split_at(half))?;
    let parts = [UintRef::new(r).ok()?.to_der().ok()?, UintRef::new(s).ok()?.to_der().ok()?].concat();
    Any::new(der::Tag::Sequence, parts).ok()?.to_der().ok()
}

/// The algorithm of a key's signatures, as certificates name it; None for a key that Tamga does not use.
pub fn signature_algorithm(key: &PublicKey) -> Option<AlgorithmIdentifierOwned> {
    let (oid, parameters) = match key.shape() {
        Shape::Ec { curve: P256, .. } => (ECDSA_SHA256, None),
        Shape::Ec { curve: P384, .. } => (ECDSA_SHA384, None),
        Shape::Ec { curve: P521, .. } => (ECDSA_SHA512, None),
        Shape::Ed25519 => (ED25519, None),
        Shape::Rsa { pss_only: false, .. } => (RSA_SHA256, Some(Any::null())),
        _ => return None,
    };
    Some(AlgorithmIdentifierOwned { oid, parameters })
}

/// The kind of a key that Tamga makes; None for any other.
pub fn algorithm(key: &PublicKey) -> Option<KeyAlgorithm> {
    match key.shape() {
        Shape::Ec { curve: P256, .. } => Some(KeyAlgorithm::P256),
        Shape::Ec { curve: P384, .. } => Some(KeyAlgorithm::P384),
        Shape::Ec { curve: P521, .. } => Some(KeyAlgorithm::P521),
        Shape::Ed25519 => Some(KeyAlgorithm::Ed25519),
        Shape::Rsa { bits, .. } => KeyAlgorithm::ALL.into_iter().find(|a| a.rsa_bits() == Some(bits)),
        _ => None,
    }
}

/// CKA_EC_PARAMS of a kind of key, for making one; None for RSA.
pub fn curve_parameters(algorithm: KeyAlgorithm) -> Option<Vec<u8>> {
    let curve = match algorithm {
        KeyAlgorithm::P256 => P256,
        KeyAlgorithm::P384 => P384,
        KeyAlgorithm::P521 => P521,
        KeyAlgorithm::Ed25519 => ED25519,
        _ => return None,
    };
    curve.to_der().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pki::key::PrivateKey;
    use crate::pki::signature::verify;
    use crate::test_entropy::Counted;

    /// What a token would say of a key, taken from a key in a file.
    fn attributes(key: &PublicKey, wrapped: bool) -> Attributes {
        let bits = key.bits();
        if let Shape::Rsa { .. } = key.shape() {
            let parts = rsa::pkcs1::RsaPublicKey::from_der(&bits).unwrap();
            let number = |n: UintRef<'_>| Some(n.as_bytes().to_vec());
            return Attributes {
                modulus: number(parts.modulus),
                exponent: number(parts.public_exponent),
                ..Attributes::default()
            };
        }
        let curve = match key.shape() {
            Shape::Ec { curve, .. } => curve,
            _ => ED25519,
        };
        let point = if wrapped { OctetString::new(bits.clone()).unwrap().to_der().unwrap() } else { bits };
        Attributes { curve: Some(curve.to_der().unwrap()), point: Some(point), ..Attributes::default() }
    }

    #[test]
    fn a_public_key_is_put_together_from_what_tokens_say() {
        for algorithm in
            [KeyAlgorithm::P256, KeyAlgorithm::P384, KeyAlgorithm::P521, KeyAlgorithm::Ed25519, KeyAlgorithm::Rsa2048]
        {
            let key = PrivateKey::generate(algorithm, &Counted::default()).unwrap();
            for wrapped in [true, false] {
                assert_eq!(attributes(key.public(), wrapped).public_key().as_ref(), Some(key.public()), "{algorithm}");
            }
            assert_eq!(signature_algorithm(key.public()), Some(key.signature_algorithm()), "{algorithm}");
        }
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Counted::default()).unwrap();
        let mut cut = attributes(key.public(), true);
        cut.point.as_mut().unwrap().pop();
        assert!(cut.public_key().is_none() && Attributes::default().public_key().is_none());
        let word = b"\x13\x0cedwards25519".to_vec();
        assert!(
            Attributes { curve: Some(word), point: Some(vec![7; 32]), ..Attributes::default() }.public_key().is_some()
        );
    }

    #[test]
    fn the_halves_of_a_signature_become_one() {
        use p256::ecdsa::signature::Signer;
        let key = p256::ecdsa::SigningKey::from_slice(&[7; 32]).unwrap();
        let public = PrivateKey::from_ec(P256, &[7; 32]).unwrap().public().clone();
        for n in 0..64_u8 {
            let raw: p256::ecdsa::Signature = key.sign(&[n]);
            let made = signature(&public, &raw.to_bytes()).unwrap();
            assert_eq!(verify(&signature_algorithm(&public).unwrap(), public.spki(), &[n], &made), Ok(()));
        }
        assert!(signature(&public, &[1; 63]).is_none() && signature(&public, &[]).is_none());
        assert_eq!(question(&public, b"tide", false).unwrap().1.len(), 32);
    }
}
