//! Private and public keys: made, written as PKCS#8 (RFC 5958), read, used to sign.

use crate::error::{Error, Result};
use crate::ports::{Entropy, Rng};
use crate::text::hex;
use const_oid::ObjectIdentifier;
use der::{Decode, Encode};
use p256::elliptic_curve::Generate;
use pkcs8::{DecodePrivateKey, EncodePrivateKey, PrivateKeyInfoRef};
use sha2::{Digest, Sha256};
use spki::{AlgorithmIdentifierOwned, EncodePublicKey, SubjectPublicKeyInfoRef};
use std::fmt;
use zeroize::Zeroizing;

/// id-ecPublicKey (RFC 5480).
pub const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
/// rsaEncryption (RFC 8017).
pub const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// id-Ed25519 (RFC 8410): key and signature alike.
pub const ED25519: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.101.112");
/// secp256r1.
pub const P256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7");
/// secp384r1.
pub const P384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.34");
/// secp521r1.
pub const P521: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.35");

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

    fn rsa_bits(self) -> Option<usize> {
        match self {
            Self::Rsa2048 => Some(2048),
            Self::Rsa3072 => Some(3072),
            Self::Rsa4096 => Some(4096),
            _ => None,
        }
    }
}

/// A private key. Wiped when dropped; never printed.
pub struct PrivateKey {
    inner: Inner,
    public: PublicKey,
}

enum Inner {
    P256(p256::ecdsa::SigningKey),
    P384(p384::ecdsa::SigningKey),
    P521(Box<p521::ecdsa::SigningKey>),
    Ed25519(ed25519_dalek::SigningKey),
    Rsa(Box<rsa::pkcs1v15::SigningKey<Sha256>>),
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey(of {})", self.public.fingerprint())
    }
}

const MAKING: Error = Error::Crypto { doing: "making a key" };

impl PrivateKey {
    /// Makes a key from the entropy given. RSA takes a tenth of a second to several seconds.
    pub fn generate(algorithm: KeyAlgorithm, entropy: &dyn Entropy) -> Result<PrivateKey> {
        let mut rng = Rng(entropy);
        let inner = match algorithm {
            KeyAlgorithm::P256 => Inner::P256(p256::SecretKey::generate_from_rng(&mut rng).into()),
            KeyAlgorithm::P384 => Inner::P384(p384::SecretKey::generate_from_rng(&mut rng).into()),
            KeyAlgorithm::P521 => Inner::P521(Box::new(p521::SecretKey::generate_from_rng(&mut rng).into())),
            KeyAlgorithm::Ed25519 => {
                let mut secret = Zeroizing::new([0; 32]);
                entropy.fill(&mut *secret);
                Inner::Ed25519(ed25519_dalek::SigningKey::from_bytes(&secret))
            }
            _ => {
                let bits = algorithm.rsa_bits().ok_or(MAKING)?;
                let key = rsa::PrivateKey::new(&mut rng, bits).map_err(|_| MAKING)?;
                Inner::Rsa(Box::new(rsa::pkcs1v15::SigningKey::new(key)))
            }
        };
        PrivateKey::with_public(inner)
    }

    /// Reads an unencrypted PKCS#8 key.
    ///
    /// Errors: [`Error::Malformed`] for other bytes, and for kinds that Tamga does not use.
    pub fn from_pkcs8(der: &[u8], what: &str) -> Result<PrivateKey> {
        let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
        let info = PrivateKeyInfoRef::from_der(der).map_err(|_| malformed("it is no PKCS#8 private key"))?;
        let curve = info.algorithm.parameters.and_then(|p| p.decode_as::<ObjectIdentifier>().ok());
        let broken = |_| malformed("the key inside is broken");
        let inner = match (info.algorithm.oid, curve) {
            (EC, Some(P256)) => Inner::P256(p256::SecretKey::from_pkcs8_der(der).map_err(broken)?.into()),
            (EC, Some(P384)) => Inner::P384(p384::SecretKey::from_pkcs8_der(der).map_err(broken)?.into()),
            (EC, Some(P521)) => Inner::P521(Box::new(p521::SecretKey::from_pkcs8_der(der).map_err(broken)?.into())),
            (ED25519, _) => Inner::Ed25519(ed25519_dalek::SigningKey::from_pkcs8_der(der).map_err(broken)?),
            (RSA, _) => {
                let key = rsa::PrivateKey::from_pkcs8_der(der).map_err(broken)?;
                Inner::Rsa(Box::new(rsa::pkcs1v15::SigningKey::new(key)))
            }
            (oid, _) => return Err(malformed(&format!("a key of kind {oid} is not one that Tamga uses"))),
        };
        PrivateKey::with_public(inner)
    }

    fn with_public(inner: Inner) -> Result<PrivateKey> {
        let document = match &inner {
            Inner::P256(k) => k.verifying_key().to_public_key_der(),
            Inner::P384(k) => k.verifying_key().to_public_key_der(),
            Inner::P521(k) => k.verifying_key().to_public_key_der(),
            Inner::Ed25519(k) => k.verifying_key().to_public_key_der(),
            Inner::Rsa(k) => AsRef::<rsa::PrivateKey>::as_ref(&**k).as_public_key().to_public_key_der(),
        };
        let spki = document.map_err(|_| MAKING)?.into_vec();
        Ok(PrivateKey { inner, public: PublicKey { spki } })
    }

    /// As unencrypted PKCS#8 DER, version 1 (the form that every server reads).
    pub fn to_pkcs8(&self) -> Result<Zeroizing<Vec<u8>>> {
        let document = match &self.inner {
            Inner::P256(k) => k.to_pkcs8_der(),
            Inner::P384(k) => k.to_pkcs8_der(),
            Inner::P521(k) => k.to_pkcs8_der(),
            Inner::Ed25519(k) => {
                // Without the public half: older OpenSSL cannot read version 2 (RFC 8410 §7).
                let secret = Zeroizing::new(k.to_bytes());
                ed25519_dalek::pkcs8::KeypairBytes { secret_key: *secret, public_key: None }.to_pkcs8_der()
            }
            Inner::Rsa(k) => k.to_pkcs8_der(),
        };
        document.map(|d| d.to_bytes()).map_err(|_| Error::Crypto { doing: "writing a key" })
    }

    /// The public half.
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// Signs a message; the signature is in the form X.509 holds (for ECDSA: DER, RFC 3279 §2.2.3).
    pub fn sign(&self, message: &[u8], entropy: &dyn Entropy) -> Result<Vec<u8>> {
        use rsa::signature::{RandomizedSigner, SignatureEncoding, Signer};
        let failed = |_| Error::Crypto { doing: "signing" };
        Ok(match &self.inner {
            Inner::P256(k) => {
                let s: p256::ecdsa::DerSignature = k.try_sign(message).map_err(failed)?;
                s.to_vec()
            }
            Inner::P384(k) => {
                let s: p384::ecdsa::DerSignature = k.try_sign(message).map_err(failed)?;
                s.to_vec()
            }
            Inner::P521(k) => {
                let s: p521::ecdsa::DerSignature = k.try_sign(message).map_err(failed)?;
                s.to_vec()
            }
            Inner::Ed25519(k) => k.try_sign(message).map_err(failed)?.to_vec(),
            Inner::Rsa(k) => k.try_sign_with_rng(&mut Rng(entropy), message).map_err(failed)?.to_vec(),
        })
    }

    /// The signature algorithm that [`PrivateKey::sign`] uses: parameters absent for ECDSA and EdDSA, NULL for RSA
    /// (RFC 5758 §3.2, RFC 8410 §3, RFC 4055 §5).
    pub fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        let (oid, parameters) = match &self.inner {
            Inner::P256(_) => ("1.2.840.10045.4.3.2", None),
            Inner::P384(_) => ("1.2.840.10045.4.3.3", None),
            Inner::P521(_) => ("1.2.840.10045.4.3.4", None),
            Inner::Ed25519(_) => ("1.3.101.112", None),
            Inner::Rsa(_) => ("1.2.840.113549.1.1.11", Some(der::Any::null())),
        };
        AlgorithmIdentifierOwned { oid: ObjectIdentifier::new_unwrap(oid), parameters }
    }
}

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
    pub fn fingerprint(&self) -> String {
        hex(&Sha256::digest(&self.spki))
    }

    /// The key identifier: SHA-1 over the key's bits (RFC 5280 §4.2.1.2, method 1).
    pub fn identifier(&self) -> Vec<u8> {
        let bits = SubjectPublicKeyInfoRef::from_der(&self.spki)
            .ok()
            .and_then(|s| s.subject_public_key.as_bytes().map(<[u8]>::to_vec))
            .unwrap_or_default();
        sha1::Sha1::digest(&bits).to_vec()
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test_entropy::Counted;

    #[test]
    fn every_kind_signs_and_comes_back_from_pkcs8() {
        for algorithm in KeyAlgorithm::ALL {
            if algorithm.rsa_bits().is_some_and(|b| b > 2048) {
                continue;
            }
            let entropy = Counted::default();
            let key = PrivateKey::generate(algorithm, &entropy).unwrap();
            let again = PrivateKey::from_pkcs8(&key.to_pkcs8().unwrap(), "key").unwrap();
            assert_eq!(again.public(), key.public(), "{algorithm:?}");
            assert_eq!(key.public().identifier().len(), 20);
            let signature = key.sign(b"tide", &entropy).unwrap();
            let check = |message: &[u8]| {
                crate::signature::verify(&key.signature_algorithm(), key.public().spki(), message, &signature)
            };
            assert!(check(b"tide").is_ok(), "{algorithm:?}");
            assert!(check(b"tidE").is_err(), "{algorithm:?}");
            assert!(!format!("{key:?}").contains(&hex(&key.to_pkcs8().unwrap())));
        }
    }

    #[test]
    fn strength_tells_kind_and_bits() {
        let key = |a| PrivateKey::generate(a, &Counted::default()).unwrap().public().strength();
        assert_eq!(key(KeyAlgorithm::Rsa2048), Strength::Rsa(2048));
        assert_eq!(key(KeyAlgorithm::P521), Strength::P521);
        assert_eq!(PublicKey::from_spki(vec![1, 2]).strength(), Strength::Other);
    }
}
