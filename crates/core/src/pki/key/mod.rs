//! Private and public keys: made, taken apart for writing, put together from what was read, used to sign.
//! Their file formats are in [`crate::pki::format::private_key`].

mod algorithm;
mod public;

pub use algorithm::KeyAlgorithm;
pub use public::{PublicKey, Shape, Strength};

use crate::error::{Error, Result};
use crate::plan::ports::{Entropy, Rng};
use const_oid::ObjectIdentifier;
use p256::elliptic_curve::Generate;
use rsa::pkcs1::{DecodeRsaPrivateKey, EncodeRsaPrivateKey};
use sha2::Sha256;
use spki::{AlgorithmIdentifierOwned, EncodePublicKey};
use std::fmt;
use zeroize::Zeroizing;

/// id-ecPublicKey (RFC 5480).
pub const EC: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.2.1");
/// rsaEncryption (RFC 8017).
pub const RSA: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.1");
/// id-RSASSA-PSS (RFC 4055 §3).
pub const RSA_PSS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.10");
/// id-Ed25519 (RFC 8410): key and signature alike.
pub const ED25519: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.101.112");
/// secp256r1.
pub const P256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.3.1.7");
/// secp384r1.
pub const P384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.34");
/// secp521r1.
pub const P521: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.3.132.0.35");

/// ecdsa-with-SHA256 (RFC 5758 §3.2).
pub(crate) const ECDSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2");
/// ecdsa-with-SHA384.
pub(crate) const ECDSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3");
/// ecdsa-with-SHA512.
pub(crate) const ECDSA_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4");
/// sha256WithRSAEncryption (RFC 8017 appendix A.2.4).
pub(crate) const RSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11");

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

/// What signs: a key that was read from a file, or one that never leaves its token.
///
/// ```
/// use tamga_core::ca::authority::create;
/// use tamga_core::pki::key::{KeyAlgorithm, PrivateKey, PublicKey, SigningKey};
/// # use tamga_core::error::Result;
/// # use tamga_core::plan::ports::Entropy;
/// # use tamga_core::vocabulary::timestamp::Timestamp;
/// # struct Fixed;
/// # impl Entropy for Fixed { fn fill(&self, into: &mut [u8]) { into.fill(7) } }
///
/// /// A token: it signs, and nobody can ask it for the key.
/// struct Token(PrivateKey);
///
/// impl SigningKey for Token {
///     fn public(&self) -> &PublicKey {
///         self.0.public()
///     }
///     fn signature_algorithm(&self) -> spki::AlgorithmIdentifierOwned {
///         self.0.signature_algorithm()
///     }
///     fn sign(&self, message: &[u8], entropy: &dyn Entropy) -> Result<Vec<u8>> {
///         self.0.sign(message, entropy)
///     }
/// }
///
/// let token = Token(PrivateKey::generate(KeyAlgorithm::Ed25519, &Fixed)?);
/// assert_eq!(token.sign(b"tide", &Fixed)?.len(), 64);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub trait SigningKey: Send + Sync {
    /// The public key.
    fn public(&self) -> &PublicKey;

    /// The algorithm of its signatures, as a certificate names it (RFC 5280 §4.1.1.2).
    fn signature_algorithm(&self) -> AlgorithmIdentifierOwned;

    /// The signature of a message: DER for ECDSA (RFC 3279 §2.2.3), the plain octets for Ed25519 and RSA.
    ///
    /// Errors: the library or the token refused.
    fn sign(&self, message: &[u8], entropy: &dyn Entropy) -> Result<Vec<u8>>;
}

impl fmt::Debug for PrivateKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "PrivateKey(of {})", self.public.fingerprint())
    }
}

/// What a private key consists of, for writing it.
pub enum Parts {
    /// The curve and the scalar, as long as the curve's field.
    Ec(ObjectIdentifier, Zeroizing<Vec<u8>>),
    /// The seed of 32 octets (RFC 8032 §5.1.5).
    Ed25519(Zeroizing<[u8; 32]>),
    /// RSAPrivateKey, DER (RFC 8017 appendix A.1.2).
    Rsa(Zeroizing<Vec<u8>>),
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
                let mut seed = Zeroizing::new([0; 32]);
                entropy.fill(&mut *seed);
                Inner::Ed25519(ed25519_dalek::SigningKey::from_bytes(&seed))
            }
            _ => {
                let bits = algorithm.rsa_bits().ok_or(MAKING)?;
                let key = rsa::PrivateKey::new(&mut rng, bits).map_err(|_| MAKING)?;
                Inner::Rsa(Box::new(rsa::pkcs1v15::SigningKey::new(key)))
            }
        };
        PrivateKey::with_public(inner).ok_or(MAKING)
    }

    /// RSA with 1024 bits: for showing what clients say of it, never for a certificate that is kept.
    pub fn weak(entropy: &dyn Entropy) -> Result<PrivateKey> {
        let key = rsa::PrivateKey::new(&mut Rng(entropy), 1024).map_err(|_| MAKING)?;
        PrivateKey::with_public(Inner::Rsa(Box::new(rsa::pkcs1v15::SigningKey::new(key)))).ok_or(MAKING)
    }

    /// From a curve and a scalar; None for another curve or a scalar that is not on it.
    pub fn from_ec(curve: ObjectIdentifier, scalar: &[u8]) -> Option<PrivateKey> {
        PrivateKey::with_public(match curve {
            P256 => Inner::P256(p256::SecretKey::from_slice(scalar).ok()?.into()),
            P384 => Inner::P384(p384::SecretKey::from_slice(scalar).ok()?.into()),
            P521 => Inner::P521(Box::new(p521::SecretKey::from_slice(scalar).ok()?.into())),
            _ => return None,
        })
    }

    /// From a seed.
    pub fn from_ed25519(seed: &[u8; 32]) -> Option<PrivateKey> {
        PrivateKey::with_public(Inner::Ed25519(ed25519_dalek::SigningKey::from_bytes(seed)))
    }

    /// From an RSAPrivateKey, DER; None if its numbers do not belong together.
    pub fn from_rsa(der: &[u8]) -> Option<PrivateKey> {
        let key = rsa::PrivateKey::from_pkcs1_der(der).ok()?;
        PrivateKey::with_public(Inner::Rsa(Box::new(rsa::pkcs1v15::SigningKey::new(key))))
    }

    fn with_public(inner: Inner) -> Option<PrivateKey> {
        let document = match &inner {
            Inner::P256(k) => k.verifying_key().to_public_key_der(),
            Inner::P384(k) => k.verifying_key().to_public_key_der(),
            Inner::P521(k) => k.verifying_key().to_public_key_der(),
            Inner::Ed25519(k) => k.verifying_key().to_public_key_der(),
            Inner::Rsa(k) => AsRef::<rsa::PrivateKey>::as_ref(&**k).as_public_key().to_public_key_der(),
        };
        Some(PrivateKey { inner, public: PublicKey::from_spki(document.ok()?.into_vec()) })
    }

    /// Takes it apart.
    pub fn parts(&self) -> Result<Parts> {
        let ec = |curve, scalar: &[u8]| Parts::Ec(curve, Zeroizing::new(scalar.to_vec()));
        Ok(match &self.inner {
            Inner::P256(k) => ec(P256, &Zeroizing::new(k.to_bytes())),
            Inner::P384(k) => ec(P384, &Zeroizing::new(k.to_bytes())),
            Inner::P521(k) => ec(P521, &Zeroizing::new(k.to_bytes())),
            Inner::Ed25519(k) => Parts::Ed25519(Zeroizing::new(k.to_bytes())),
            Inner::Rsa(k) => {
                let der = AsRef::<rsa::PrivateKey>::as_ref(&**k).to_pkcs1_der();
                Parts::Rsa(der.map_err(|_| Error::Crypto { doing: "writing a key" })?.to_bytes())
            }
        })
    }

    /// The public key.
    pub fn public(&self) -> &PublicKey {
        &self.public
    }

    /// Signs a message; the signature is in the form X.509 holds (for ECDSA: DER, RFC 3279 §2.2.3).
    ///
    /// Errors: the library refused.
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

    /// The algorithm of its signatures.
    pub fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        let (oid, parameters) = match &self.inner {
            Inner::P256(_) => (ECDSA_SHA256, None),
            Inner::P384(_) => (ECDSA_SHA384, None),
            Inner::P521(_) => (ECDSA_SHA512, None),
            Inner::Ed25519(_) => (ED25519, None),
            Inner::Rsa(_) => (RSA_SHA256, Some(der::Any::null())),
        };
        AlgorithmIdentifierOwned { oid, parameters }
    }
}

impl<K: SigningKey + ?Sized> SigningKey for Box<K> {
    fn public(&self) -> &PublicKey {
        (**self).public()
    }

    fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        (**self).signature_algorithm()
    }

    fn sign(&self, message: &[u8], entropy: &dyn Entropy) -> Result<Vec<u8>> {
        (**self).sign(message, entropy)
    }
}

impl SigningKey for PrivateKey {
    fn public(&self) -> &PublicKey {
        PrivateKey::public(self)
    }

    fn signature_algorithm(&self) -> AlgorithmIdentifierOwned {
        PrivateKey::signature_algorithm(self)
    }

    fn sign(&self, message: &[u8], entropy: &dyn Entropy) -> Result<Vec<u8>> {
        PrivateKey::sign(self, message, entropy)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test_entropy::Counted;

    #[test]
    fn every_kind_signs() {
        for algorithm in KeyAlgorithm::ALL {
            if algorithm.rsa_bits().is_some_and(|b| b > 2048) {
                continue;
            }
            let entropy = Counted::default();
            let key = PrivateKey::generate(algorithm, &entropy).unwrap();
            assert_eq!(key.public().identifier().len(), 20);
            let signature = key.sign(b"tide", &entropy).unwrap();
            let check = |message: &[u8]| {
                crate::pki::signature::verify(&key.signature_algorithm(), key.public().spki(), message, &signature)
            };
            assert!(check(b"tide").is_ok(), "{algorithm:?}");
            assert!(check(b"tidE").is_err(), "{algorithm:?}");
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
