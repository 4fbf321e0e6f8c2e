//! Every pair of key and signature algorithm that a certificate can name, whether or not a client takes it.

use crate::matrix::chain::Pool;
use crate::matrix::make::{sequence, tlv};
use const_oid::ObjectIdentifier;
use ecdsa::signature::hazmat::PrehashSigner;
use rsa::pkcs8::DecodePrivateKey;
use rsa::traits::PublicKeyParts;
use sha2::Digest;
use tamga_core::pki::format::private_key::pkcs8;
use tamga_core::pki::key::PrivateKey;
use tamga_host::entropy::System;

pub use crate::matrix::chain::Key;

/// A hash.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs, reason = "their names say it")]
pub enum Hash {
    Md5,
    Sha1,
    Sha224,
    Sha256,
    Sha384,
    Sha512,
}

/// How a certificate is signed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Sig {
    /// As the key usually signs.
    Usual,
    /// ECDSA or RSASSA-PKCS1-v1_5 with this hash.
    With(Hash),
    /// RSASSA-PSS: hash, the mask's hash, length of the salt, and whether the usual parameters are left away (RFC 4055 §3.1).
    Pss(Hash, Hash, usize),
}

/// A dotted identifier as DER.
pub fn oid(dotted: &str) -> Vec<u8> {
    tlv(6, ObjectIdentifier::new_unwrap(dotted).as_bytes())
}

impl Hash {
    fn of(self, message: &[u8]) -> Vec<u8> {
        match self {
            Hash::Md5 => md5::Md5::digest(message).to_vec(),
            Hash::Sha1 => sha1::Sha1::digest(message).to_vec(),
            Hash::Sha224 => sha2::Sha224::digest(message).to_vec(),
            Hash::Sha256 => sha2::Sha256::digest(message).to_vec(),
            Hash::Sha384 => sha2::Sha384::digest(message).to_vec(),
            Hash::Sha512 => sha2::Sha512::digest(message).to_vec(),
        }
    }

    fn id(self) -> &'static str {
        match self {
            Hash::Md5 => "1.2.840.113549.2.5",
            Hash::Sha1 => "1.3.14.3.2.26",
            Hash::Sha224 => "2.16.840.1.101.3.4.2.4",
            Hash::Sha256 => "2.16.840.1.101.3.4.2.1",
            Hash::Sha384 => "2.16.840.1.101.3.4.2.2",
            Hash::Sha512 => "2.16.840.1.101.3.4.2.3",
        }
    }

    fn algorithm(self) -> Vec<u8> {
        sequence(&[oid(self.id()), tlv(5, &[])])
    }
}

/// What this key can do: another oddity may have put it into the place of one that the algorithm was meant for.
fn fitting(which: Key, sig: Sig) -> Sig {
    match (sig, which) {
        (_, Key::Ed25519) | (Sig::Pss(..), Key::P256(_) | Key::P384 | Key::P521 | Key::Weak) => Sig::Usual,
        (sig, _) => sig,
    }
}

/// The AlgorithmIdentifier, and what signs with it.
pub fn algorithm(key: &PrivateKey, which: Key, sig: Sig) -> Vec<u8> {
    let sig = fitting(which, sig);
    let rsa = matches!(which, Key::Rsa(_) | Key::Weak);
    match sig {
        Sig::Usual => der::Encode::to_der(&key.signature_algorithm()).unwrap(),
        Sig::With(hash) if rsa => {
            let last = match hash {
                Hash::Md5 => 4,
                Hash::Sha1 => 5,
                Hash::Sha224 => 14,
                Hash::Sha256 => 11,
                Hash::Sha384 => 12,
                Hash::Sha512 => 13,
            };
            sequence(&[oid(&format!("1.2.840.113549.1.1.{last}")), tlv(5, &[])])
        }
        Sig::With(hash) => {
            let id = match hash {
                Hash::Md5 | Hash::Sha1 => "1.2.840.10045.4.1",
                Hash::Sha224 => "1.2.840.10045.4.3.1",
                Hash::Sha256 => "1.2.840.10045.4.3.2",
                Hash::Sha384 => "1.2.840.10045.4.3.3",
                Hash::Sha512 => "1.2.840.10045.4.3.4",
            };
            sequence(&[oid(id)])
        }
        Sig::Pss(hash, mask, salt) => {
            let mut parts = Vec::new();
            if hash != Hash::Sha1 {
                parts.push(tlv(0xa0, &hash.algorithm()));
            }
            if mask != Hash::Sha1 {
                parts.push(tlv(0xa1, &sequence(&[oid("1.2.840.113549.1.1.8"), mask.algorithm()])));
            }
            if salt != 20 {
                parts.push(tlv(0xa2, &tlv(2, &[u8::try_from(salt).unwrap()])));
            }
            sequence(&[oid("1.2.840.113549.1.1.10"), sequence(&parts)])
        }
    }
}

/// A signature.
pub fn sign(key: &PrivateKey, which: Key, sig: Sig, message: &[u8]) -> Vec<u8> {
    let sig = fitting(which, sig);
    match (sig, which) {
        (Sig::Usual, _) => key.sign(message, &System).unwrap(),
        (Sig::With(hash), Key::Rsa(_) | Key::Weak) => {
            let info = sequence(&[hash.algorithm(), tlv(4, &hash.of(message))]);
            rsa_key(key).sign(rsa::Pkcs1v15Sign::new_unprefixed(), &info).unwrap()
        }
        (Sig::With(hash), _) => ecdsa_of(key, which, &hash_for_ecdsa(hash).of(message)),
        (Sig::Pss(hash, mask, salt), _) => pss(&rsa_key(key), hash, mask, salt, message),
    }
}

// There is no ECDSA with MD5: SHA-1 stands for it.
fn hash_for_ecdsa(hash: Hash) -> Hash {
    if hash == Hash::Md5 { Hash::Sha1 } else { hash }
}

fn rsa_key(key: &PrivateKey) -> rsa::PrivateKey {
    rsa::PrivateKey::from_pkcs8_der(&pkcs8(key).unwrap()).unwrap()
}

/// ECDSA over any hash (SEC 1 §4.1.3): a hash shorter than the curve counts as a number, a longer one is cut.
fn ecdsa_of(key: &PrivateKey, which: Key, hash: &[u8]) -> Vec<u8> {
    let der = pkcs8(key).unwrap();
    let padded = |to: usize| [vec![0; to.saturating_sub(hash.len())], hash.to_vec()].concat();
    match which {
        Key::P384 => {
            let signed: p384::ecdsa::Signature =
                p384::ecdsa::SigningKey::from_pkcs8_der(&der).unwrap().sign_prehash(&padded(48)).unwrap();
            signed.to_der().as_bytes().to_vec()
        }
        Key::P521 => {
            let signed: p521::ecdsa::Signature =
                p521::ecdsa::SigningKey::from_pkcs8_der(&der).unwrap().sign_prehash(&padded(66)).unwrap();
            signed.to_der().as_bytes().to_vec()
        }
        _ => {
            let signed: p256::ecdsa::Signature =
                p256::ecdsa::SigningKey::from_pkcs8_der(&der).unwrap().sign_prehash(&padded(32)).unwrap();
            signed.to_der().as_bytes().to_vec()
        }
    }
}

/// RFC 8017 §8.1.1 and §9.1.1 with a mask of any hash.
fn pss(key: &rsa::PrivateKey, hash: Hash, mask: Hash, salt: usize, message: &[u8]) -> Vec<u8> {
    let bits = usize::try_from(key.n().bit_width_vartime()).unwrap() - 1;
    let length = bits.div_ceil(8);
    let mut random = vec![0; salt];
    tamga_core::plan::ports::Entropy::fill(&System, &mut random);
    let digest = hash.of(&[&[0; 8][..], &hash.of(message), &random].concat());
    let mut data = vec![0; length - digest.len() - 1 - salt - 1];
    data.push(1);
    data.extend(&random);
    let mut stream = Vec::new();
    for counter in 0u32.. {
        if stream.len() >= data.len() {
            break;
        }
        stream.extend(mask.of(&[&digest[..], &counter.to_be_bytes()].concat()));
    }
    for (byte, by) in data.iter_mut().zip(stream) {
        *byte ^= by;
    }
    data[0] &= 0xff >> (8 * length - bits);
    let encoded = [data, digest, vec![0xbc]].concat();
    let number = rsa::BoxedUint::from_be_slice_vartime(&encoded);
    let signed = rsa::hazmat::rsa_decrypt_and_check::<NoRng>(key, None, &number).unwrap();
    let octets = signed.to_be_bytes();
    let size = (bits + 1).div_ceil(8);
    let bare: Vec<u8> = octets.iter().copied().skip_while(|b| *b == 0).collect();
    [vec![0; size - bare.len()], bare].concat()
}

/// No chance at all: blinding is for keys that are worth something.
enum NoRng {}

impl rand_core::TryRng for NoRng {
    type Error = std::convert::Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Self::Error> {
        match *self {}
    }

    fn try_next_u64(&mut self) -> Result<u64, Self::Error> {
        match *self {}
    }

    fn try_fill_bytes(&mut self, _: &mut [u8]) -> Result<(), Self::Error> {
        match *self {}
    }
}

impl rand_core::TryCryptoRng for NoRng {}

/// How the key is written in the certificate.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Form {
    /// As everybody writes it.
    Usual,
    /// The point compressed (RFC 5480 §2.2).
    Compressed,
    /// The curve written out instead of named, which RFC 5480 §2.1.1 forbids.
    Explicit,
    /// An RSA key that may sign with RSASSA-PSS alone (RFC 4055 §1.2).
    PssOnly,
}

/// A SubjectPublicKeyInfo in this form; the usual one where the form does not fit the key.
pub fn spki(pool: &Pool, which: Key, form: Form) -> Vec<u8> {
    let public = pool.get(which).public();
    let bits = public.bits();
    let ec = || oid("1.2.840.10045.2.1");
    match (form, which) {
        (Form::Compressed, Key::P256(_) | Key::P384 | Key::P521) => {
            let curve = oid(match which {
                Key::P384 => "1.3.132.0.34",
                Key::P521 => "1.3.132.0.35",
                _ => "1.2.840.10045.3.1.7",
            });
            let half = (bits.len() - 1) / 2;
            let point = [vec![2 | (bits[bits.len() - 1] & 1)], bits[1..=half].to_vec()].concat();
            sequence(&[sequence(&[ec(), curve]), tlv(3, &[vec![0], point].concat())])
        }
        (Form::Explicit, Key::P256(_)) => {
            sequence(&[sequence(&[ec(), explicit_p256()]), tlv(3, &[vec![0], bits].concat())])
        }
        (Form::PssOnly, Key::Rsa(_)) => {
            sequence(&[sequence(&[oid("1.2.840.113549.1.1.10")]), tlv(3, &[vec![0], bits].concat())])
        }
        _ => public.spki().to_vec(),
    }
}

/// ECParameters of P-256 (X9.62, RFC 3279 §2.3.5).
fn explicit_p256() -> Vec<u8> {
    let number = |hex: &str| -> Vec<u8> {
        (0..hex.len() / 2).map(|i| u8::from_str_radix(&hex[2 * i..2 * i + 2], 16).unwrap()).collect()
    };
    let integer = |octets: Vec<u8>| tlv(2, &[vec![0], octets].concat());
    let p = "ffffffff00000001000000000000000000000000ffffffffffffffffffffffff";
    let a = "ffffffff00000001000000000000000000000000fffffffffffffffffffffffc";
    let b = "5ac635d8aa3a93e7b3ebbd55769886bc651d06b0cc53b0f63bce3c3e27d2604b";
    let g = "046b17d1f2e12c4247f8bce6e563a440f277037d812deb33a0f4a13945d898c296\
             4fe342e2fe1a7f9b8ee7eb4a7c0f9e162bce33576b315ececbb6406837bf51f5";
    let n = "ffffffff00000000ffffffffffffffffbce6faada7179e84f3b9cac2fc632551";
    sequence(&[
        tlv(2, &[1]),
        sequence(&[oid("1.2.840.10045.1.1"), integer(number(p))]),
        sequence(&[tlv(4, &number(a)), tlv(4, &number(b))]),
        tlv(4, &number(g)),
        integer(number(n)),
        tlv(2, &[1]),
    ])
}
