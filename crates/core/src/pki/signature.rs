//! Verification of signatures on certificates.

use crate::pki::key::{EC, ED25519, P256, P384, P521, RSA};
use const_oid::ObjectIdentifier;
use der::{Decode, Sequence};
use ring::signature as r;
use spki::{AlgorithmIdentifierOwned, SubjectPublicKeyInfoRef};

/// Why a signature does not stand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignatureFault {
    /// The mathematics says no: another key, or changed bytes.
    Wrong,
    /// An algorithm or key kind that we cannot verify.
    Unsupported,
}

const ECDSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.2");
const ECDSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.3");
const ECDSA_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.3.4");
/// sha1WithRSAEncryption (RFC 3279).
pub const RSA_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.5");
/// ecdsa-with-SHA1 (RFC 3279).
pub const ECDSA_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.10045.4.1");
/// md5WithRSAEncryption.
pub const RSA_MD5: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.4");
const RSA_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.11");
const RSA_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.12");
const RSA_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.13");
const RSA_PSS: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.1.10");
const SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.1");
const SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.2");
const SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.16.840.1.101.3.4.2.3");

/// True for hashes that no longer protect a signature.
pub fn is_weak(algorithm: &ObjectIdentifier) -> bool {
    [RSA_SHA1, ECDSA_SHA1, RSA_MD5].contains(algorithm)
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
    let curve = info.algorithm.parameters.and_then(|p| p.decode_as::<ObjectIdentifier>().ok());
    let by: &dyn r::VerificationAlgorithm = match (algorithm.oid, info.algorithm.oid, curve) {
        (ECDSA_SHA256, EC, Some(P256)) => &r::ECDSA_P256_SHA256_ASN1,
        (ECDSA_SHA384, EC, Some(P256)) => &r::ECDSA_P256_SHA384_ASN1,
        (ECDSA_SHA256, EC, Some(P384)) => &r::ECDSA_P384_SHA256_ASN1,
        (ECDSA_SHA384, EC, Some(P384)) => &r::ECDSA_P384_SHA384_ASN1,
        (ECDSA_SHA512, EC, Some(P521)) => return p521(key, message, signature),
        (ED25519, ED25519, _) => &r::ED25519,
        (RSA_SHA1, RSA, _) => &r::RSA_PKCS1_1024_8192_SHA1_FOR_LEGACY_USE_ONLY,
        (RSA_SHA256, RSA, _) => &r::RSA_PKCS1_1024_8192_SHA256_FOR_LEGACY_USE_ONLY,
        (RSA_SHA384, RSA, _) => &r::RSA_PKCS1_2048_8192_SHA384,
        (RSA_SHA512, RSA, _) => &r::RSA_PKCS1_1024_8192_SHA512_FOR_LEGACY_USE_ONLY,
        (RSA_PSS, RSA, _) => match pss_hash(algorithm) {
            Some(SHA256) => &r::RSA_PSS_2048_8192_SHA256,
            Some(SHA384) => &r::RSA_PSS_2048_8192_SHA384,
            Some(SHA512) => &r::RSA_PSS_2048_8192_SHA512,
            _ => return Err(SignatureFault::Unsupported),
        },
        _ => return Err(SignatureFault::Unsupported),
    };
    r::UnparsedPublicKey::new(by, key).verify(message, signature).map_err(|_| SignatureFault::Wrong)
}

fn p521(key: &[u8], message: &[u8], signature: &[u8]) -> Result<(), SignatureFault> {
    use ::p521::ecdsa::{DerSignature, VerifyingKey, signature::Verifier};
    let key = VerifyingKey::from_sec1_bytes(key).map_err(|_| SignatureFault::Unsupported)?;
    let signature = DerSignature::try_from(signature).map_err(|_| SignatureFault::Wrong)?;
    key.verify(message, &signature).map_err(|_| SignatureFault::Wrong)
}

/// The hash of RSASSA-PSS-params (RFC 4055 §3.1); absent means SHA-1, which is not verified here.
fn pss_hash(algorithm: &AlgorithmIdentifierOwned) -> Option<ObjectIdentifier> {
    #[derive(Sequence)]
    struct Parameters {
        #[asn1(context_specific = "0", tag_mode = "EXPLICIT", optional = "true")]
        hash: Option<AlgorithmIdentifierOwned>,
        #[asn1(context_specific = "1", tag_mode = "EXPLICIT", optional = "true")]
        mask: Option<AlgorithmIdentifierOwned>,
        #[asn1(context_specific = "2", tag_mode = "EXPLICIT", optional = "true")]
        salt_length: Option<u32>,
        #[asn1(context_specific = "3", tag_mode = "EXPLICIT", optional = "true")]
        trailer: Option<u8>,
    }
    let parameters = algorithm.parameters.as_ref()?.decode_as::<Parameters>().ok()?;
    let hash = parameters.hash?.oid;
    // The mask must use the same hash, and the salt its length: all that occurs in practice, and all that ring verifies.
    let mask = parameters.mask?.parameters?.decode_as::<AlgorithmIdentifierOwned>().ok()?.oid;
    let length = match hash {
        SHA256 => 32,
        SHA384 => 48,
        _ => 64,
    };
    (mask == hash && parameters.salt_length == Some(length) && parameters.trailer.unwrap_or(1) == 1).then_some(hash)
}
