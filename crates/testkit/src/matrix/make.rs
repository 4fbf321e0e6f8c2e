//! Certificates of any kind, right or wrong, written octet by octet: no rule of Tamga's own stands between.

use ring::digest;
use rsa::pkcs8::DecodePrivateKey;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::private_key::pkcs8;
use tamga_core::pki::key::{PrivateKey, PublicKey};
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::entropy::{System, now};

/// One TLV.
pub fn tlv(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = vec![tag];
    match content.len() {
        n @ 0..=127 => out.push(u8::try_from(n).unwrap()),
        n => {
            let octets: Vec<u8> = n.to_be_bytes().into_iter().skip_while(|b| *b == 0).collect();
            out.push(0x80 | u8::try_from(octets.len()).unwrap());
            out.extend(octets);
        }
    }
    out.extend_from_slice(content);
    out
}

/// A SEQUENCE of what is given.
pub fn sequence(parts: &[Vec<u8>]) -> Vec<u8> {
    tlv(0x30, &parts.concat())
}

fn oid(dotted: &str) -> Vec<u8> {
    tlv(6, const_oid::ObjectIdentifier::new_unwrap(dotted).as_bytes())
}

/// A name of a commonName alone; empty for "".
pub fn name(common: &str) -> Vec<u8> {
    if common.is_empty() {
        return sequence(&[]);
    }
    sequence(&[tlv(0x31, &sequence(&[oid("2.5.4.3"), tlv(0x0c, common.as_bytes())]))])
}

/// An extension's object identifier.
pub mod id {
    #![allow(missing_docs, reason = "the words of RFC 5280")]
    pub const BASIC: &str = "2.5.29.19";
    pub const USAGE: &str = "2.5.29.15";
    pub const PURPOSES: &str = "2.5.29.37";
    pub const NAMES: &str = "2.5.29.17";
    pub const CONSTRAINTS: &str = "2.5.29.30";
    pub const OWN_KEY: &str = "2.5.29.14";
    pub const ISSUERS_KEY: &str = "2.5.29.35";
    pub const SERVER: &str = "1.3.6.1.5.5.7.3.1";
    pub const CLIENT: &str = "1.3.6.1.5.5.7.3.2";
    pub const ANY: &str = "2.5.29.37.0";
}

/// keyUsage bits (RFC 5280 §4.2.1.3), first bit highest.
pub mod bits {
    #![allow(missing_docs, reason = "the words of RFC 5280")]
    pub const DIGITAL_SIGNATURE: u8 = 0x80;
    pub const KEY_ENCIPHERMENT: u8 = 0x20;
    pub const KEY_AGREEMENT: u8 = 0x08;
    pub const CERT_SIGN: u8 = 0x04;
    pub const CRL_SIGN: u8 = 0x02;
}

/// basicConstraints.
pub fn basic(ca: bool, path_length: Option<u8>) -> Vec<u8> {
    let mut parts = Vec::new();
    if ca {
        parts.push(tlv(1, &[0xff]));
    }
    parts.extend(path_length.map(|n| tlv(2, &[n])));
    sequence(&parts)
}

/// keyUsage.
pub fn usage(bits: u8) -> Vec<u8> {
    let unused = u8::try_from(bits.trailing_zeros().min(7)).unwrap();
    tlv(3, &[unused, bits])
}

/// extKeyUsage.
pub fn purposes(list: &[&str]) -> Vec<u8> {
    sequence(&list.iter().map(|p| oid(p)).collect::<Vec<_>>())
}

fn general(typed: &str) -> Vec<u8> {
    match typed.strip_prefix("dns:") {
        Some(text) => tlv(0x82, text.as_bytes()),
        None => match typed.parse::<std::net::IpAddr>() {
            Ok(std::net::IpAddr::V4(a)) => tlv(0x87, &a.octets()),
            Ok(std::net::IpAddr::V6(a)) => tlv(0x87, &a.octets()),
            Err(_) => tlv(0x82, typed.as_bytes()),
        },
    }
}

/// subjectAltName: an address becomes an iPAddress unless `dns:` stands before it.
pub fn names(list: &[&str]) -> Vec<u8> {
    sequence(&list.iter().map(|n| general(n)).collect::<Vec<_>>())
}

fn base(typed: &str) -> Vec<u8> {
    let inner = match typed.split_once('/') {
        Some((address, mask)) => {
            let octets = |t: &str| match t.parse().unwrap() {
                std::net::IpAddr::V4(a) => a.octets().to_vec(),
                std::net::IpAddr::V6(a) => a.octets().to_vec(),
            };
            tlv(0x87, &[octets(address), octets(mask)].concat())
        }
        None => tlv(0x82, typed.as_bytes()),
    };
    sequence(&[inner])
}

/// nameConstraints: domains, and addresses as `10.0.0.0/255.0.0.0`.
pub fn constraints(permitted: &[&str], excluded: &[&str]) -> Vec<u8> {
    let mut parts = Vec::new();
    for (tag, list) in [(0xa0, permitted), (0xa1, excluded)] {
        if !list.is_empty() {
            parts.push(tlv(tag, &list.iter().flat_map(|b| base(b)).collect::<Vec<_>>()));
        }
    }
    sequence(&parts)
}

/// How it is signed.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Hash {
    /// As the issuer's key signs.
    Usual,
    /// RSA with SHA-1.
    Sha1,
}

/// What is to are in a certificate.
#[derive(Clone)]
pub struct Recipe {
    /// The subject, DER.
    pub subject: Vec<u8>,
    /// First moment, seconds from now.
    pub from: i64,
    /// Last moment, seconds from now.
    pub until: i64,
    /// Id, critical, value.
    pub extensions: Vec<(String, bool, Vec<u8>)>,
    /// How it is signed.
    pub hash: Hash,
    /// Change a bit of the signature.
    pub spoilt: bool,
}

impl Recipe {
    /// The same with this extension, in the place of another of its id.
    pub fn set(&mut self, id: &str, critical: bool, value: Vec<u8>) {
        self.without(id);
        self.extensions.push((id.to_owned(), critical, value));
    }

    /// The same without this extension.
    pub fn without(&mut self, id: &str) {
        self.extensions.retain(|e| e.0 != id);
    }

    /// Certifies a public key.
    pub fn sign(&self, key: &PublicKey, issuer: &[u8], by: &PrivateKey, serial: &[u8]) -> Vec<u8> {
        let algorithm = match self.hash {
            Hash::Usual => der::Encode::to_der(&by.signature_algorithm()).unwrap(),
            Hash::Sha1 => sequence(&[oid("1.2.840.113549.1.1.5"), tlv(5, &[])]),
        };
        let extension = |(id, critical, value): &(String, bool, Vec<u8>)| {
            let flag = if *critical { tlv(1, &[0xff]) } else { Vec::new() };
            sequence(&[oid(id), flag, tlv(4, value)])
        };
        let all: Vec<Vec<u8>> = self.extensions.iter().map(extension).collect();
        let mut parts = vec![
            tlv(0xa0, &tlv(2, &[2])),
            tlv(2, serial),
            algorithm.clone(),
            issuer.to_vec(),
            sequence(&[time(now().plus(self.from)), time(now().plus(self.until))]),
            self.subject.clone(),
            key.spki().to_vec(),
        ];
        if !all.is_empty() {
            parts.push(tlv(0xa3, &sequence(&all)));
        }
        let tbs = sequence(&parts);
        let mut signature = match self.hash {
            Hash::Usual => by.sign(&tbs, &System).unwrap(),
            Hash::Sha1 => sha1(by, &tbs),
        };
        if self.spoilt {
            let last = signature.len() - 1;
            signature[last] ^= 1;
        }
        sequence(&[tbs, algorithm, tlv(3, &[vec![0], signature].concat())])
    }
}

/// RFC 8017 §8.2.1 with SHA-1, which nothing else here would make.
fn sha1(by: &PrivateKey, message: &[u8]) -> Vec<u8> {
    let key = rsa::PrivateKey::from_pkcs8_der(&pkcs8(by).unwrap()).unwrap();
    let hash = digest::digest(&digest::SHA1_FOR_LEGACY_USE_ONLY, message);
    let info = sequence(&[sequence(&[oid("1.3.14.3.2.26"), tlv(5, &[])]), tlv(4, hash.as_ref())]);
    key.sign(rsa::Pkcs1v15Sign::new_unprefixed(), &info).unwrap()
}

/// UTCTime until 2049, GeneralizedTime from then on (RFC 5280 §4.1.2.5).
fn time(at: Timestamp) -> Vec<u8> {
    let digits: String = at.to_string().chars().filter(char::is_ascii_digit).collect();
    match &digits[..4] >= "2050" {
        true => tlv(0x18, format!("{digits}Z").as_bytes()),
        false => tlv(0x17, format!("{}Z", &digits[2..]).as_bytes()),
    }
}

/// Reads what must be readable.
pub fn read(der: &[u8]) -> Certificate {
    Certificate::read(der, "a certificate of the matrix").unwrap()
}
