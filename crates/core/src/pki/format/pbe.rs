//! How passphrases protect keys and PKCS#12 files: key derivation of RFC 7292 appendix B, the ciphers of its appendix C, PBES1,
//! PBES2 and PBMAC1 of RFC 8018 and RFC 9579. PBES1 is read only.

use super::budget::{Budget, TooMuch};
use super::tlv::{self, NULL, OCTETS, OID, SEQUENCE, Tlv};
use crate::plan::ports::Entropy;
use crate::vocabulary::secret::Passphrase;
use aes::cipher::block_padding::Pkcs7;
use aes::cipher::{Array, BlockModeDecrypt, BlockModeEncrypt, InnerIvInit, KeyIvInit};
use const_oid::ObjectIdentifier;
use const_oid::db::rfc5912;
use der::{Decode, Encode};
use md5::Md5;
use pkcs8::pkcs5::EncryptionScheme;
use pkcs8::pkcs5::pbes2::{EncryptionScheme as Cipher, Kdf, Parameters, Pbkdf2Prf};
use ring::{hmac, pbkdf2};
use sha1::Sha1;
use sha2::{Digest, Sha224, Sha256, Sha384, Sha512};
use std::num::NonZeroU32;
use zeroize::Zeroizing;

/// pbeWithSHAAnd3-KeyTripleDES-CBC.
pub(super) const SHA1_3DES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.3");
const SHA1_2DES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.4");
const SHA1_RC2_128: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.5");
const SHA1_RC2_40: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.12.1.6");
/// PBES1 (RFC 8018 §6.1 and appendix A.3): one hash, one cipher with keys of eight octets.
const MD5_DES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.3");
const MD5_RC2: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.6");
const SHA1_DES: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.10");
const SHA1_RC2: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.11");
const PBES2: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.13");
const HMAC_SHA1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.2.7");
const HMAC_SHA256: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.2.9");
const HMAC_SHA384: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.2.10");
const HMAC_SHA512: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.2.11");
const PBMAC1: ObjectIdentifier = ObjectIdentifier::new_unwrap("1.2.840.113549.1.5.14");

/// What a derived key is for (appendix B.3).
#[derive(Clone, Copy)]
enum Use {
    Key = 1,
    Iv = 2,
    Mac = 3,
}

/// Why something protected was not opened.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum PbeFault {
    /// The passphrase is wrong, or the bytes are damaged: nobody can tell which.
    Wrong,
    /// An algorithm that is not known here, in words.
    Unknown(String),
    /// More rounds than anybody would wait for.
    TooMuch,
}

impl From<TooMuch> for PbeFault {
    fn from(_: TooMuch) -> PbeFault {
        PbeFault::TooMuch
    }
}

/// What was derived already: things that are protected under one salt need it once; and what the file may still cost.
#[derive(Default)]
pub(super) struct Derived {
    key: Option<(Settings, Zeroizing<[u8; 32]>)>,
    pub(super) budget: Budget,
}

/// Salt, rounds and hash of PBKDF2.
type Settings = (Vec<u8>, u32, Pbkdf2Prf);

/// Decrypts with PBES2 (RFC 8018 §6.2).
///
/// Errors: the passphrase is wrong, or the file asks for more than it may cost.
pub(super) fn pbes2_open(
    scheme: &EncryptionScheme,
    data: &[u8],
    pass: &Passphrase,
    derived: &mut Derived,
) -> Result<Zeroizing<Vec<u8>>, PbeFault> {
    let kdf = &scheme.pbes2().ok_or(PbeFault::TooMuch)?.kdf;
    if let Some(p) = scheme.pbes2()
        && let Kdf::Pbkdf2(kdf) = &p.kdf
        && let Some(hash) = ring_hash(kdf.prf)
        && let Some(rounds) = NonZeroU32::new(kdf.iteration_count)
        && let Cipher::Aes256Cbc { iv } = &p.encryption
        && kdf.key_length.is_none_or(|l| l == 32)
    {
        let salt = kdf.salt.as_bytes();
        let settings = (salt.to_vec(), rounds.get(), kdf.prf);
        let known = derived.key.take().filter(|d| d.0 == settings);
        if known.is_none() {
            derived.budget.take_kdf(&p.kdf)?;
        }
        let (_, key) = derived.key.insert(known.unwrap_or_else(|| {
            let mut key = Zeroizing::new([0; 32]);
            pbkdf2::derive(hash, rounds, salt, pass.octets(), &mut *key);
            (settings, key)
        }));
        let decryptor = cbc::Decryptor::<aes::Aes256>::new_from_slices(&**key, iv).map_err(|_| PbeFault::Wrong)?;
        return decryptor.decrypt_padded_vec::<Pkcs7>(data).map(Zeroizing::new).map_err(|_| PbeFault::Wrong);
    }
    derived.budget.take_kdf(kdf)?;
    // Parameters that passed the budget and yet are none for the library: damaged, and no reason to end.
    super::guard::guarded(|| scheme.decrypt(pass.octets(), data))
        .ok_or_else(|| PbeFault::Unknown("key derivation with parameters that make no sense".into()))?
        .map(Zeroizing::new)
        .map_err(|_| PbeFault::Wrong)
}

/// Encrypts several things under one key of PBES2: AES-256-CBC, PBKDF2-HMAC-SHA-256.
pub(super) struct Pbes2Lock {
    salt: [u8; 16],
    key: Zeroizing<[u8; 32]>,
    rounds: u32,
}

impl Pbes2Lock {
    /// Derives the key.
    pub(super) fn new(pass: &Passphrase, rounds: NonZeroU32, entropy: &dyn Entropy) -> Pbes2Lock {
        let (mut salt, mut key) = ([0; 16], Zeroizing::new([0; 32]));
        entropy.fill(&mut salt);
        pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA256, rounds, &salt, pass.octets(), &mut *key);
        Pbes2Lock { salt, key, rounds: rounds.get() }
    }

    /// The AlgorithmIdentifier, DER, and the encrypted bytes; each with its own initialisation vector.
    pub(super) fn lock(&self, plain: &[u8], entropy: &dyn Entropy) -> Option<(Vec<u8>, Vec<u8>)> {
        let mut iv = [0; 16];
        entropy.fill(&mut iv);
        let parameters = Parameters::generate_pbkdf2_sha256_aes256cbc(self.rounds, &self.salt, iv).ok()?;
        let encryptor = cbc::Encryptor::<aes::Aes256>::new_from_slices(&*self.key, &iv).ok()?;
        Some((EncryptionScheme::from(parameters).to_der().ok()?, encryptor.encrypt_padded_vec::<Pkcs7>(plain)))
    }
}

fn ring_hash(prf: Pbkdf2Prf) -> Option<pbkdf2::Algorithm> {
    match prf {
        Pbkdf2Prf::HmacWithSha1 => Some(pbkdf2::PBKDF2_HMAC_SHA1),
        Pbkdf2Prf::HmacWithSha256 => Some(pbkdf2::PBKDF2_HMAC_SHA256),
        Pbkdf2Prf::HmacWithSha384 => Some(pbkdf2::PBKDF2_HMAC_SHA384),
        Pbkdf2Prf::HmacWithSha512 => Some(pbkdf2::PBKDF2_HMAC_SHA512),
        _ => None,
    }
}

/// A passphrase as RFC 7292 wants it: UTF-16, big-endian, with a zero at the end.
///
/// `None` where it is not UTF-8 or has characters outside the basic plane.
pub(super) fn bmp(passphrase: &Passphrase) -> Option<Zeroizing<Vec<u8>>> {
    let text = std::str::from_utf8(passphrase.octets()).ok()?;
    let mut out = Zeroizing::new(Vec::with_capacity(2 * text.len() + 2));
    for c in text.chars() {
        out.extend_from_slice(&u16::try_from(u32::from(c)).ok()?.to_be_bytes());
    }
    out.extend_from_slice(&[0, 0]);
    Some(out)
}

/// RFC 7292 appendix B.2, for a hash with blocks of `v` octets.
fn derive<D: Digest>(v: usize, password: &[u8], salt: &[u8], what: Use, rounds: u32, out: &mut [u8]) {
    let stretched = |s: &[u8]| s.iter().copied().cycle().take(s.len().div_ceil(v) * v).collect::<Vec<u8>>();
    let mut input = Zeroizing::new(stretched(salt));
    input.extend(Zeroizing::new(stretched(password)).iter());
    let diversifier = vec![what as u8; v];
    for chunk in out.chunks_mut(<D as Digest>::output_size()) {
        let mut a = D::new().chain_update(&diversifier).chain_update(&*input).finalize();
        for _ in 1..rounds {
            a = D::digest(&a);
        }
        chunk.copy_from_slice(&a[..chunk.len()]);
        let b: Vec<u8> = a.iter().copied().cycle().take(v).collect();
        for block in input.chunks_mut(v) {
            let mut carry = 1;
            for (i, b) in block.iter_mut().zip(&b).rev() {
                carry += u16::from(*i) + u16::from(*b);
                *i = carry as u8;
                carry >>= 8;
            }
        }
    }
}

fn derived(hash: ObjectIdentifier, password: &[u8], salt: &[u8], what: Use, rounds: u32, out: &mut [u8]) -> Option<()> {
    match hash {
        rfc5912::ID_SHA_1 => derive::<Sha1>(64, password, salt, what, rounds, out),
        rfc5912::ID_SHA_224 => derive::<Sha224>(64, password, salt, what, rounds, out),
        rfc5912::ID_SHA_256 => derive::<Sha256>(64, password, salt, what, rounds, out),
        rfc5912::ID_SHA_384 => derive::<Sha384>(128, password, salt, what, rounds, out),
        rfc5912::ID_SHA_512 => derive::<Sha512>(128, password, salt, what, rounds, out),
        _ => return None,
    }
    Some(())
}

/// What an AlgorithmIdentifier of one of the older encryptions says: which, the salt, and how many rounds.
fn older<'a>(algorithm: &Tlv<'a>) -> Result<(ObjectIdentifier, &'a [u8], u32), PbeFault> {
    let parts = algorithm.inside().unwrap_or_default();
    let oid = parts.first().and_then(oid).ok_or_else(|| PbeFault::Unknown("an algorithm that is damaged".into()))?;
    let known = [SHA1_3DES, SHA1_2DES, SHA1_RC2_128, SHA1_RC2_40, MD5_DES, MD5_RC2, SHA1_DES, SHA1_RC2].contains(&oid);
    let settings = parts.get(1).and_then(Tlv::inside).unwrap_or_default();
    let (salt, rounds) = match settings.as_slice() {
        [salt, rounds] => (salt.expect(OCTETS).unwrap_or_default(), rounds.number().unwrap_or(0)),
        _ => (&[][..], 0),
    };
    if !known || salt.is_empty() || rounds == 0 {
        return Err(PbeFault::Unknown(format!("the encryption {oid}")));
    }
    Ok((oid, salt, rounds))
}

fn is_pbes2(algorithm: &Tlv<'_>) -> bool {
    algorithm.inside().and_then(|p| oid(p.first()?)) == Some(PBES2)
}

fn pbes2(algorithm: &Tlv<'_>) -> Result<EncryptionScheme, PbeFault> {
    EncryptionScheme::from_der(algorithm.whole)
        .map_err(|_| PbeFault::Unknown("PBES2 with a cipher or a hash that is not known here".into()))
}

/// Says before a passphrase is asked for whether an encryption can be opened at all.
pub(super) fn foreseen(algorithm: &Tlv<'_>) -> Result<(), PbeFault> {
    let budget = Budget::default();
    if is_pbes2(algorithm) {
        let scheme = pbes2(algorithm)?;
        return Ok(budget.take_kdf(&scheme.pbes2().ok_or(PbeFault::TooMuch)?.kdf)?);
    }
    Ok(budget.take(u64::from(older(algorithm)?.2), 3)?)
}

/// Decrypts what an AlgorithmIdentifier says how to.
pub(super) fn open(
    algorithm: &Tlv<'_>,
    data: &[u8],
    pass: &Passphrase,
    derived: &mut Derived,
) -> Result<Zeroizing<Vec<u8>>, PbeFault> {
    if is_pbes2(algorithm) {
        return pbes2_open(&pbes2(algorithm)?, data, pass, derived);
    }
    let (oid, salt, rounds) = older(algorithm)?;
    // A key of two hashes and an initialization vector of one, for an empty passphrase perhaps twice.
    derived.budget.take(u64::from(rounds), if pass.is_empty() { 6 } else { 3 })?;
    if [MD5_DES, MD5_RC2, SHA1_DES, SHA1_RC2].contains(&oid) {
        return pbes1(oid, pass.octets(), salt, rounds, data);
    }
    // An empty passphrase is written in two ways: a zero at its end, or nothing at all.
    let password = bmp(pass).ok_or(PbeFault::Wrong)?;
    let first = old(oid, &password, salt, rounds, data);
    match first {
        Err(PbeFault::Wrong) if pass.is_empty() => old(oid, &[], salt, rounds, data),
        other => other,
    }
}

/// RFC 8018 §5.1 (PBKDF1) and §6.1: the first eight octets are the key, the next eight the initialization vector.
fn pbes1(
    oid: ObjectIdentifier,
    password: &[u8],
    salt: &[u8],
    rounds: u32,
    data: &[u8],
) -> Result<Zeroizing<Vec<u8>>, PbeFault> {
    fn hashed<D: Digest>(password: &[u8], salt: &[u8], rounds: u32) -> Zeroizing<Vec<u8>> {
        let mut t = Zeroizing::new(D::new().chain_update(password).chain_update(salt).finalize().to_vec());
        for _ in 1..rounds {
            t = Zeroizing::new(D::digest(&*t).to_vec());
        }
        t
    }
    let t = match oid {
        MD5_DES | MD5_RC2 => hashed::<Md5>(password, salt, rounds),
        _ => hashed::<Sha1>(password, salt, rounds),
    };
    let (key, iv) = (&t[..8], &t[8..16]);
    let opened = match oid {
        MD5_DES | SHA1_DES => cbc::Decryptor::<des::Des>::new_from_slices(key, iv)
            .map_err(|_| PbeFault::Wrong)?
            .decrypt_padded_vec::<Pkcs7>(data),
        _ => cbc::Decryptor::<rc2::Rc2>::new_from_slices(key, iv)
            .map_err(|_| PbeFault::Wrong)?
            .decrypt_padded_vec::<Pkcs7>(data),
    };
    opened.map(Zeroizing::new).map_err(|_| PbeFault::Wrong)
}

fn old(
    oid: ObjectIdentifier,
    password: &[u8],
    salt: &[u8],
    rounds: u32,
    data: &[u8],
) -> Result<Zeroizing<Vec<u8>>, PbeFault> {
    let size = match oid {
        SHA1_3DES => 24,
        SHA1_2DES | SHA1_RC2_128 => 16,
        SHA1_RC2_40 => 5,
        other => return Err(PbeFault::Unknown(format!("the encryption {other}"))),
    };
    let (mut key, mut iv) = (Zeroizing::new(vec![0; size]), [0; 8]);
    derive::<Sha1>(64, password, salt, Use::Key, rounds, &mut key);
    derive::<Sha1>(64, password, salt, Use::Iv, rounds, &mut iv);
    let iv = &Array(iv);
    let opened = match oid {
        SHA1_RC2_128 | SHA1_RC2_40 => {
            let cipher = rc2::Rc2::new_with_eff_key_len(&key, size * 8);
            cbc::Decryptor::inner_iv_init(cipher, iv).decrypt_padded_vec::<Pkcs7>(data)
        }
        _ => {
            if size == 16 {
                let again = key[..8].to_vec();
                key.extend(again);
            }
            let decryptor = cbc::Decryptor::<des::TdesEde3>::new_from_slices(&key, iv).map_err(|_| PbeFault::Wrong)?;
            decryptor.decrypt_padded_vec::<Pkcs7>(data)
        }
    };
    opened.map(Zeroizing::new).map_err(|_| PbeFault::Wrong)
}

/// Encrypts with [`SHA1_3DES`]: the AlgorithmIdentifier and the bytes.
pub(super) fn lock_legacy(data: &[u8], password: &[u8], salt: &[u8], rounds: u32) -> Option<(Vec<u8>, Vec<u8>)> {
    let (mut key, mut iv) = (Zeroizing::new([0; 24]), [0; 8]);
    derive::<Sha1>(64, password, salt, Use::Key, rounds, &mut *key);
    derive::<Sha1>(64, password, salt, Use::Iv, rounds, &mut iv);
    let encryptor = cbc::Encryptor::<des::TdesEde3>::new_from_slices(&*key, &iv).ok()?;
    let settings = tlv::write(SEQUENCE, &[&tlv::write(OCTETS, &[salt]), &tlv::integer(rounds)]);
    let algorithm = tlv::write(SEQUENCE, &[&tlv::write(OID, &[SHA1_3DES.as_bytes()]), &settings]);
    Some((algorithm.to_vec(), encryptor.encrypt_padded_vec::<Pkcs7>(data)))
}

/// The tag over `data` that a MacData's three or two elements describe (RFC 7292 §4, RFC 9579).
///
/// Out: true if the passphrase gives the same tag.
pub(super) fn verify(mac: &[Tlv<'_>], data: &[u8], pass: &Passphrase, budget: &Budget) -> Result<bool, PbeFault> {
    let broken = || PbeFault::Unknown("an integrity code that is damaged".into());
    let info = mac.first().and_then(Tlv::inside).ok_or_else(broken)?;
    let (Some(algorithm), Some(tag)) = (info.first(), info.get(1).and_then(|t| t.expect(OCTETS))) else {
        return Err(broken());
    };
    let parts = algorithm.inside().ok_or_else(broken)?;
    let hash = parts.first().and_then(oid).ok_or_else(broken)?;
    if hash == PBMAC1 {
        return pbmac1(parts.get(1).ok_or_else(broken)?, tag, data, pass, budget);
    }
    let salt = mac.get(1).and_then(|s| s.expect(OCTETS)).ok_or_else(broken)?;
    let rounds = mac.get(2).map_or(Some(1), Tlv::number).ok_or_else(broken)?;
    budget.take(u64::from(rounds), if pass.is_empty() { 2 } else { 1 })?;
    let of = |password: &[u8]| self::tag(hash, password, salt, rounds, data);
    let Some(password) = bmp(pass) else { return Ok(false) };
    let made = of(&password).ok_or_else(|| PbeFault::Unknown(format!("an integrity code with the hash {hash}")))?;
    Ok(same(&made, tag) || pass.is_empty() && of(&[]).is_some_and(|made| same(&made, tag)))
}

/// The tag of RFC 7292 appendix A over `data`; None for a hash that is not known.
pub(super) fn tag(hash: ObjectIdentifier, password: &[u8], salt: &[u8], rounds: u32, data: &[u8]) -> Option<Vec<u8>> {
    let (size, block) = match hash {
        rfc5912::ID_SHA_1 => (20, 64),
        rfc5912::ID_SHA_224 => (28, 64),
        rfc5912::ID_SHA_256 => (32, 64),
        rfc5912::ID_SHA_384 => (48, 128),
        rfc5912::ID_SHA_512 => (64, 128),
        _ => return None,
    };
    let mut key = Zeroizing::new(vec![0; size]);
    derived(hash, password, salt, Use::Mac, rounds.max(1), &mut key)?;
    Some(match hash {
        rfc5912::ID_SHA_1 => keyed::<Sha1>(block, &key, data),
        rfc5912::ID_SHA_224 => keyed::<Sha224>(block, &key, data),
        rfc5912::ID_SHA_256 => keyed::<Sha256>(block, &key, data),
        rfc5912::ID_SHA_384 => keyed::<Sha384>(block, &key, data),
        _ => keyed::<Sha512>(block, &key, data),
    })
}

/// HMAC (RFC 2104) with a key that is no longer than a block.
fn keyed<D: Digest>(block: usize, key: &[u8], data: &[u8]) -> Vec<u8> {
    let padded = |with: u8| -> Zeroizing<Vec<u8>> {
        Zeroizing::new((0..block).map(|i| key.get(i).copied().unwrap_or(0) ^ with).collect())
    };
    let inner = D::new().chain_update(&*padded(0x36)).chain_update(data).finalize();
    D::new().chain_update(&*padded(0x5c)).chain_update(inner).finalize().to_vec()
}

fn same(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a.iter().zip(b).fold(0, |d, (x, y)| d | (x ^ y)) == 0
}

/// PBMAC1-params: PBKDF2 with its length, and the code itself.
fn pbmac1(settings: &Tlv<'_>, tag: &[u8], data: &[u8], pass: &Passphrase, budget: &Budget) -> Result<bool, PbeFault> {
    let broken = || PbeFault::Unknown("an integrity code that is damaged".into());
    let [kdf, code] = settings.inside().ok_or_else(broken)?[..] else { return Err(broken()) };
    let derivation = kdf.inside().and_then(|k| k.get(1)?.inside()).ok_or_else(broken)?;
    let mut salt: &[u8] = &[];
    let mut numbers = Vec::new();
    let mut prf = HMAC_SHA1;
    for part in &derivation {
        match part.tag {
            OCTETS => salt = part.body,
            SEQUENCE => prf = part.inside().and_then(|p| oid(p.first()?)).ok_or_else(broken)?,
            _ => numbers.push(part.number().ok_or_else(broken)?),
        }
    }
    // RFC 9579 §5: the length must be there, and a key of fewer than 20 octets is not accepted.
    let [rounds, length] = numbers[..] else { return Err(broken()) };
    if !(20..=1024).contains(&length) {
        return Err(broken());
    }
    // The shortest hash needs the most blocks.
    budget.take(u64::from(rounds), u64::from(length).div_ceil(20))?;
    let code = code.inside().and_then(|c| oid(c.first()?)).ok_or_else(broken)?;
    let unknown = |what: ObjectIdentifier| PbeFault::Unknown(format!("an integrity code with {what}"));
    let (prf, _) = algorithms(prf).ok_or_else(|| unknown(prf))?;
    let (_, code) = algorithms(code).ok_or_else(|| unknown(code))?;
    let mut key = Zeroizing::new(vec![0; length as usize]);
    let rounds = NonZeroU32::new(rounds).ok_or_else(broken)?;
    pbkdf2::derive(prf, rounds, salt, pass.octets(), &mut key);
    Ok(hmac::verify(&hmac::Key::new(code, &key), data, tag).is_ok())
}

fn algorithms(oid: ObjectIdentifier) -> Option<(pbkdf2::Algorithm, hmac::Algorithm)> {
    Some(match oid {
        HMAC_SHA1 => (pbkdf2::PBKDF2_HMAC_SHA1, hmac::HMAC_SHA1_FOR_LEGACY_USE_ONLY),
        HMAC_SHA256 => (pbkdf2::PBKDF2_HMAC_SHA256, hmac::HMAC_SHA256),
        HMAC_SHA384 => (pbkdf2::PBKDF2_HMAC_SHA384, hmac::HMAC_SHA384),
        HMAC_SHA512 => (pbkdf2::PBKDF2_HMAC_SHA512, hmac::HMAC_SHA512),
        _ => return None,
    })
}

/// The identifier that an element is.
pub(super) fn oid(t: &Tlv<'_>) -> Option<ObjectIdentifier> {
    ObjectIdentifier::from_bytes(t.expect(OID)?).ok()
}

/// An AlgorithmIdentifier of a hash, with NULL as older programs want it.
pub(super) fn hash_identifier(hash: ObjectIdentifier) -> Zeroizing<Vec<u8>> {
    tlv::write(SEQUENCE, &[&tlv::write(OID, &[hash.as_bytes()]), &tlv::write(NULL, &[])])
}
