//! Verification of signatures on certificates.

use crate::pki::format::tlv;
use crate::pki::key::{ED25519, P256, P384, P521, PublicKey, Shape};
use const_oid::ObjectIdentifier;
use der::{Decode, Encode};
use ecdsa::signature::hazmat::PrehashVerifier;
use ring::signature as r;
use rsa::traits::PublicKeyParts;
use sha2::Digest;
use spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoRef};

/// Why a signature does not stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignatureFault {
    /// The mathematics says no: another key, or changed bytes.
    Wrong,
    /// An algorithm or key kind that we cannot verify.
    Unsupported,
}

/// A hash function.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "their names say it")]
pub enum Hash {
    Md5,
    Sha1,
    Sha224,
    Sha256,
    Sha384,
    Sha512,
}

/// What an algorithm identifier of a signature says (RFC 3279 §2.2, RFC 4055 §3 and §5, RFC 5758, RFC 8410).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scheme {
    /// RSASSA-PKCS1-v1_5.
    Pkcs1(Hash),
    /// RSASSA-PSS.
    Pss {
        /// The hash of the message.
        hash: Hash,
        /// The hash of the mask.
        mask: Hash,
        /// The salt's length in octets.
        salt: usize,
    },
    /// ECDSA.
    Ecdsa(Hash),
    /// Ed25519.
    Ed25519,
    /// One that is not known here.
    Other,
}

/// sha1WithRSAEncryption (RFC 3279).
pub const RSA_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.5");
/// ecdsa-with-SHA1 (RFC 3279).
pub const ECDSA_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.1");
/// md5WithRSAEncryption.
pub const RSA_MD5: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.4");
const RSA_PSS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.10");

/// True for hashes that no longer protect a signature.
pub fn is_weak(algorithm: &ObjectIdentifier) -> bool {
    [RSA_SHA1, ECDSA_SHA1, RSA_MD5].contains(algorithm)
}

impl Scheme {
    /// Reads an algorithm identifier.
    pub fn of(algorithm: &AlgorithmIdentifierOwned) -> Scheme {
        match algorithm.oid {
            ED25519 => return Scheme::Ed25519,
            RSA_PSS => return pss_parameters(algorithm).unwrap_or(Scheme::Other),
            _ => {}
        }
        match algorithm.oid.to_string().as_str() {
            "1.2.840.113549.1.1.4" => Scheme::Pkcs1(Hash::Md5),
            "1.2.840.113549.1.1.5" => Scheme::Pkcs1(Hash::Sha1),
            "1.2.840.113549.1.1.14" => Scheme::Pkcs1(Hash::Sha224),
            "1.2.840.113549.1.1.11" => Scheme::Pkcs1(Hash::Sha256),
            "1.2.840.113549.1.1.12" => Scheme::Pkcs1(Hash::Sha384),
            "1.2.840.113549.1.1.13" => Scheme::Pkcs1(Hash::Sha512),
            "1.2.840.10045.4.1" => Scheme::Ecdsa(Hash::Sha1),
            "1.2.840.10045.4.3.1" => Scheme::Ecdsa(Hash::Sha224),
            "1.2.840.10045.4.3.2" => Scheme::Ecdsa(Hash::Sha256),
            "1.2.840.10045.4.3.3" => Scheme::Ecdsa(Hash::Sha384),
            "1.2.840.10045.4.3.4" => Scheme::Ecdsa(Hash::Sha512),
            _ => Scheme::Other,
        }
    }

    /// The hash of the message, where there is one.
    pub fn hash(self) -> Option<Hash> {
        match self {
            Scheme::Pkcs1(hash) | Scheme::Ecdsa(hash) | Scheme::Pss { hash, .. } => Some(hash),
            Scheme::Ed25519 | Scheme::Other => None,
        }
    }
}

impl Hash {
    /// Its length in octets.
    pub fn length(self) -> usize {
        match self {
            Hash::Md5 => 16,
            Hash::Sha1 => 20,
            Hash::Sha224 => 28,
            Hash::Sha256 => 32,
            Hash::Sha384 => 48,
            Hash::Sha512 => 64,
        }
    }

    pub(crate) fn of(self, message: &[u8]) -> Vec<u8> {
        match self {
            Hash::Md5 => md5::Md5::digest(message).to_vec(),
            Hash::Sha1 => sha1::Sha1::digest(message).to_vec(),
            Hash::Sha224 => sha2::Sha224::digest(message).to_vec(),
            Hash::Sha256 => sha2::Sha256::digest(message).to_vec(),
            Hash::Sha384 => sha2::Sha384::digest(message).to_vec(),
            Hash::Sha512 => sha2::Sha512::digest(message).to_vec(),
        }
    }

    /// DigestInfo up to the hash (RFC 8017 §9.2, note 1).
    pub(crate) fn prefix(self) -> &'static [u8] {
        match self {
            Hash::Md5 => &[0x30, 0x20, 0x30, 0x0c, 6, 8, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 2, 5, 5, 0, 4, 0x10],
            Hash::Sha1 => &[0x30, 0x21, 0x30, 9, 6, 5, 0x2b, 0x0e, 3, 2, 0x1a, 5, 0, 4, 0x14],
            Hash::Sha224 => &[0x30, 0x2d, 0x30, 0x0d, 6, 9, 0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 4, 5, 0, 4, 0x1c],
            Hash::Sha256 => &[0x30, 0x31, 0x30, 0x0d, 6, 9, 0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 1, 5, 0, 4, 0x20],
            Hash::Sha384 => &[0x30, 0x41, 0x30, 0x0d, 6, 9, 0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 2, 5, 0, 4, 0x30],
            Hash::Sha512 => &[0x30, 0x51, 0x30, 0x0d, 6, 9, 0x60, 0x86, 0x48, 1, 0x65, 3, 4, 2, 3, 5, 0, 4, 0x40],
        }
    }

    fn of_identifier(id: &[u8]) -> Option<Hash> {
        match ObjectIdentifier::from_bytes(id).ok()?.to_string().as_str() {
            "1.2.840.113549.2.5" => Some(Hash::Md5),
            "1.3.14.3.2.26" => Some(Hash::Sha1),
            "2.16.840.1.101.3.4.2.4" => Some(Hash::Sha224),
            "2.16.840.1.101.3.4.2.1" => Some(Hash::Sha256),
            "2.16.840.1.101.3.4.2.2" => Some(Hash::Sha384),
            "2.16.840.1.101.3.4.2.3" => Some(Hash::Sha512),
            _ => None,
        }
    }
}

/// Verifies `signature` over `message` under a SubjectPublicKeyInfo.
///
/// ```
/// use tamga_core::pki::signature::{SignatureFault, verify};
/// use tamga_core::sample::{Foreseeable, leaf};
///
/// let (_, key) = leaf(&["charts.saltmarsh.test"])?;
/// let signature = key.sign(b"tide", &Foreseeable)?;
/// let judge = |message: &[u8]| verify(&key.signature_algorithm(), key.public().spki(), message, &signature);
/// assert_eq!((judge(b"tide"), judge(b"Tide")), (Ok(()), Err(SignatureFault::Wrong)));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn verify(
    algorithm: &AlgorithmIdentifierOwned,
    spki: &[u8],
    message: &[u8],
    signature: &[u8],
) -> Result<(), SignatureFault> {
    let info = SubjectPublicKeyInfoRef::from_der(spki).map_err(|_| SignatureFault::Unsupported)?;
    let key = info.subject_public_key.as_bytes().ok_or(SignatureFault::Unsupported)?;
    let by: &dyn r::VerificationAlgorithm = match (Scheme::of(algorithm), PublicKey::from_spki(spki.to_vec()).shape()) {
        (Scheme::Ecdsa(hash), Shape::Ec { curve, compressed, .. }) => match (curve, hash, compressed) {
            (P256, Hash::Sha256, false) => &r::ECDSA_P256_SHA256_ASN1,
            (P384, Hash::Sha384, false) => &r::ECDSA_P384_SHA384_ASN1,
            _ => return ecdsa(curve, key, &hash.of(message), signature),
        },
        (Scheme::Ed25519, Shape::Ed25519) => &r::ED25519,
        (Scheme::Pkcs1(hash), Shape::Rsa { pss_only: false, bits }) => match hash {
            Hash::Sha256 if bits >= 1024 => &r::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY,
            Hash::Sha512 if bits >= 1024 => &r::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY,
            _ => return rsa_pkcs1(key, hash, message, signature),
        },
        (Scheme::Pss { hash, mask, salt }, Shape::Rsa { .. }) => {
            return rsa_pss(key, hash, mask, salt, message, signature);
        }
        _ => return Err(SignatureFault::Unsupported),
    };
    r::UnparsedPublicKey::new(by, key).verify(message, signature).map_err(|_| SignatureFault::Wrong)
}

/// ECDSA over any hash (SEC 1 §4.1.4), the point compressed or not.
fn ecdsa(curve: ObjectIdentifier, key: &[u8], hash: &[u8], signature: &[u8]) -> Result<(), SignatureFault> {
    // A hash that is shorter than the curve counts as a number: zeros in front change nothing.
    let padded = |to: usize| [vec![0; to.saturating_sub(hash.len())], hash.to_vec()].concat();
    let (no_key, wrong) = (|_| SignatureFault::Unsupported, |_| SignatureFault::Wrong);
    match curve {
        P256 => {
            let key = p256::ecdsa::VerifyingKey::from_sec1_bytes(key).map_err(no_key)?;
            let signature = p256::ecdsa::DerSignature::try_from(signature).map_err(wrong)?;
            key.verify_prehash(&padded(32), &signature).map_err(wrong)
        }
        P384 => {
            let key = p384::ecdsa::VerifyingKey::from_sec1_bytes(key).map_err(no_key)?;
            let signature = p384::ecdsa::DerSignature::try_from(signature).map_err(wrong)?;
            key.verify_prehash(&padded(48), &signature).map_err(wrong)
        }
        P521 => {
            let key = p521::ecdsa::VerifyingKey::from_sec1_bytes(key).map_err(no_key)?;
            let signature = p521::ecdsa::DerSignature::try_from(signature).map_err(wrong)?;
            key.verify_prehash(&padded(66), &signature).map_err(wrong)
        }
        _ => Err(SignatureFault::Unsupported),
    }
}

/// What a signature is a signature of: RSAVP1 (RFC 8017 §5.2.2), as long as the modulus.
fn opened(key: &[u8], signature: &[u8]) -> Result<(Vec<u8>, usize), SignatureFault> {
    let key = <rsa::PublicKey as rsa::pkcs1::DecodeRsaPublicKey>::from_pkcs1_der(key)
        .map_err(|_| SignatureFault::Unsupported)?;
    let bits = key.n().bit_width_vartime() as usize;
    if signature.len() != bits.div_ceil(8) {
        return Err(SignatureFault::Wrong);
    }
    let number = rsa::BoxedUint::from_be_slice_vartime(signature);
    let opened = rsa::hazmat::rsa_encrypt(&key, &number).map_err(|_| SignatureFault::Wrong)?;
    let octets = opened.to_be_bytes();
    let bare: Vec<u8> = octets.iter().copied().skip_while(|b| *b == 0).collect();
    Ok(([vec![0; signature.len().saturating_sub(bare.len())], bare].concat(), bits))
}

/// RFC 8017 §8.2.2.
fn rsa_pkcs1(key: &[u8], hash: Hash, message: &[u8], signature: &[u8]) -> Result<(), SignatureFault> {
    let (encoded, _) = opened(key, signature)?;
    let info = [hash.prefix(), &hash.of(message)].concat();
    let fill = encoded.len().checked_sub(info.len() + 3).filter(|n| *n >= 8).ok_or(SignatureFault::Wrong)?;
    let wanted = [vec![0, 1], vec![0xff; fill], vec![0], info].concat();
    if encoded == wanted { Ok(()) } else { Err(SignatureFault::Wrong) }
}

/// RFC 8017 §8.1.2 and §9.1.2, with a mask of any hash.
fn rsa_pss(
    key: &[u8],
    hash: Hash,
    mask: Hash,
    salt: usize,
    message: &[u8],
    signature: &[u8],
) -> Result<(), SignatureFault> {
    let (opened, bits) = opened(key, signature)?;
    let bits = bits.saturating_sub(1);
    let encoded = if bits % 8 == 0 { opened.get(1..).unwrap_or_default() } else { &opened[..] };
    let split = encoded.len().checked_sub(hash.length() + 1).ok_or(SignatureFault::Wrong)?;
    let spare = 8 * encoded.len() - bits;
    if encoded.last() != Some(&0xbc) || u32::from(encoded[0]).leading_zeros() < 24 + spare as u32 {
        return Err(SignatureFault::Wrong);
    }
    let (masked, digest) = (&encoded[..split], &encoded[split..encoded.len() - 1]);
    let mut stream = Vec::new();
    let mut counter = 0u32;
    while stream.len() < masked.len() {
        stream.extend(mask.of(&[digest, &counter.to_be_bytes()].concat()));
        counter += 1;
    }
    let mut data: Vec<u8> = masked.iter().zip(stream).map(|(a, b)| a ^ b).collect();
    if let Some(first) = data.first_mut() {
        *first &= 0xff >> spare;
    }
    let start = split.checked_sub(salt + 1).ok_or(SignatureFault::Wrong)?;
    let is_padded = data[..start].iter().all(|b| *b == 0) && data[start] == 1;
    let again = hash.of(&[&[0; 8][..], &hash.of(message), &data[start + 1..]].concat());
    if is_padded && again == digest { Ok(()) } else { Err(SignatureFault::Wrong) }
}

/// RSASSA-PSS-params (RFC 4055 §3.1): what is absent is SHA-1, its mask, and 20 octets of salt.
fn pss_parameters(algorithm: &AlgorithmIdentifierOwned) -> Option<Scheme> {
    let der = algorithm.parameters.as_ref()?.to_der().ok()?;
    let (mut hash, mut mask, mut salt) = (Hash::Sha1, Hash::Sha1, 20);
    let hash_in = |t: &tlv::Tlv<'_>| Hash::of_identifier(t.inside()?.first()?.expect(tlv::OID)?);
    for field in tlv::one(&der)?.inside()? {
        let inner = tlv::one(field.body)?;
        match field.tag {
            0xa0 => hash = hash_in(&inner)?,
            0xa1 => mask = hash_in(inner.inside()?.get(1)?)?,
            0xa2 => salt = usize::try_from(inner.number()?).ok()?,
            0xa3 if inner.number()? == 1 => {}
            _ => return None,
        }
    }
    Some(Scheme::Pss { hash, mask, salt })
}
