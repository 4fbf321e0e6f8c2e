//! A certificate's fields as their octets stand (RFC 5280 §4.1), before anybody judges them: libraries differ in what they take.

use crate::pki::format::tlv::{self, Tlv};

/// One element: its tag, and what is inside.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Element {
    /// The identifier octet (X.690 §8.1.2).
    pub tag: u8,
    /// The contents octets.
    pub body: Vec<u8>,
}

/// An extension as its octets stand (RFC 5280 §4.1).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RawExtension {
    /// The identifier's contents octets.
    pub id: Vec<u8>,
    /// The BOOLEAN's contents, where one is written.
    pub flag: Option<Vec<u8>>,
    /// What the OCTET STRING holds.
    pub value: Vec<u8>,
}

impl RawExtension {
    /// True if any bit of its flag is set.
    pub fn is_critical(&self) -> bool {
        self.flag.as_ref().is_some_and(|f| f.iter().any(|b| *b != 0))
    }
}

/// The fields that libraries read differently.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Raw {
    /// The INTEGER in `[0]`, where one is written.
    pub version: Option<Vec<u8>>,
    /// The serial number's contents octets.
    pub serial: Vec<u8>,
    /// The algorithm inside the signed part, DER.
    pub inner_algorithm: Vec<u8>,
    /// The algorithm beside the signature, DER.
    pub outer_algorithm: Vec<u8>,
    /// notBefore.
    pub not_before: Element,
    /// notAfter.
    pub not_after: Element,
    /// The extensions, where the field is there.
    pub extensions: Option<Vec<RawExtension>>,
    /// The signed part, DER.
    pub signed: Vec<u8>,
    /// The issuer's name, DER.
    pub issuer: Vec<u8>,
    /// The subject's name, DER.
    pub subject: Vec<u8>,
    /// The SubjectPublicKeyInfo, DER.
    pub key: Vec<u8>,
    /// The signature's octets.
    pub signature: Vec<u8>,
}

impl Raw {
    /// Takes a certificate apart. None where it has not the shape of one.
    pub fn read(der: &[u8]) -> Option<Raw> {
        let outer = tlv::one(der).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
        let [signed, algorithm, signature] = outer[..] else { return None };
        let bits = signature.expect(0x03)?;
        let mut raw = Raw {
            outer_algorithm: algorithm.whole.to_vec(),
            signed: signed.whole.to_vec(),
            signature: bits.get(1..)?.to_vec(),
            ..Raw::default()
        };
        let all = Some(signed).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
        let mut parts = all.into_iter().peekable();
        if let Some(version) = parts.next_if(|t| t.tag == tlv::FIRST) {
            raw.version = Some(tlv::one(version.body)?.expect(tlv::INTEGER)?.to_vec());
        }
        raw.serial = parts.next()?.expect(tlv::INTEGER)?.to_vec();
        let mut sequence = || parts.next().filter(|t| t.tag == tlv::SEQUENCE);
        raw.inner_algorithm = sequence()?.whole.to_vec();
        raw.issuer = sequence()?.whole.to_vec();
        let [from, until] = sequence()?.inside()?[..] else { return None };
        let element = |t: Tlv<'_>| Element { tag: t.tag, body: t.body.to_vec() };
        (raw.not_before, raw.not_after) = (element(from), element(until));
        raw.subject = sequence()?.whole.to_vec();
        raw.key = sequence()?.whole.to_vec();
        for part in parts {
            match part.tag {
                0x81 | 0x82 => {}
                0xa3 if raw.extensions.is_none() => raw.extensions = Some(extensions(part)?),
                _ => return None,
            }
        }
        Some(raw)
    }

    /// The number in `[0]`: 0 is v1, also where none is written; None for one that does not fit.
    pub fn version_number(&self) -> Option<u8> {
        match self.version.as_deref() {
            None => Some(0),
            Some([n]) if *n < 0x80 => Some(*n),
            Some(_) => None,
        }
    }

    /// Every extension of an identifier (contents octets).
    pub fn named<'a>(&'a self, id: &'a [u8]) -> impl Iterator<Item = &'a RawExtension> {
        self.extensions.iter().flatten().filter(move |e| e.id == id)
    }

    /// The first of them.
    pub fn extension(&self, id: &[u8]) -> Option<&RawExtension> {
        self.extensions.iter().flatten().find(|e| e.id == id)
    }
}

fn extensions(field: Tlv<'_>) -> Option<Vec<RawExtension>> {
    let list = tlv::one(field.body).filter(|t| t.tag == tlv::SEQUENCE)?;
    list.inside()?
        .into_iter()
        .map(|e| {
            let parts = Some(e).filter(|t| t.tag == tlv::SEQUENCE)?.inside()?;
            let (id, flag, value) = match parts[..] {
                [id, value] => (id, None, value),
                [id, flag, value] => (id, Some(flag.expect(0x01)?.to_vec()), value),
                _ => return None,
            };
            Some(RawExtension { id: id.expect(tlv::OID)?.to_vec(), flag, value: value.expect(tlv::OCTETS)?.to_vec() })
        })
        .collect()
}

/// Identifiers of extensions, contents octets (RFC 5280 §4.2).
pub mod id {
    #![allow(missing_docs, reason = "the words of RFC 5280")]
    pub const KEY_USAGE: &[u8] = &[0x55, 0x1d, 15];
    pub const SUBJECT_ALT_NAME: &[u8] = &[0x55, 0x1d, 17];
    pub const ISSUER_ALT_NAME: &[u8] = &[0x55, 0x1d, 18];
    pub const BASIC_CONSTRAINTS: &[u8] = &[0x55, 0x1d, 19];
    pub const NAME_CONSTRAINTS: &[u8] = &[0x55, 0x1d, 30];
    pub const CRL_DISTRIBUTION_POINTS: &[u8] = &[0x55, 0x1d, 31];
    pub const CERTIFICATE_POLICIES: &[u8] = &[0x55, 0x1d, 32];
    pub const POLICY_MAPPINGS: &[u8] = &[0x55, 0x1d, 33];
    pub const AUTHORITY_KEY_IDENTIFIER: &[u8] = &[0x55, 0x1d, 35];
    pub const POLICY_CONSTRAINTS: &[u8] = &[0x55, 0x1d, 36];
    pub const EXTENDED_KEY_USAGE: &[u8] = &[0x55, 0x1d, 37];
    pub const INHIBIT_ANY_POLICY: &[u8] = &[0x55, 0x1d, 54];
    pub const SUBJECT_KEY_IDENTIFIER: &[u8] = &[0x55, 0x1d, 14];
    pub const AUTHORITY_INFO_ACCESS: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 1, 1];
    pub const TLS_FEATURES: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 1, 24];
    pub const PRECERTIFICATE_POISON: &[u8] = &[0x2b, 6, 1, 4, 1, 0xd6, 0x79, 2, 4, 3];
    pub const NETSCAPE_CERT_TYPE: &[u8] = &[0x60, 0x86, 0x48, 1, 0x86, 0xf8, 0x42, 1, 1];
}

/// Seconds since 1970 of a UTCTime or GeneralizedTime as DER writes it (RFC 5280 §4.1.2.5): `YYMMDDHHMMSSZ` or `YYYYMMDDHHMMSSZ`.
pub fn seconds(element: &Element) -> Option<i64> {
    let digits = element.body.strip_suffix(b"Z")?;
    if !digits.iter().all(u8::is_ascii_digit) {
        return None;
    }
    let number = |range: std::ops::Range<usize>| -> Option<i64> {
        Some(digits.get(range)?.iter().fold(0, |n, d| n * 10 + i64::from(d - b'0')))
    };
    let (year, rest) = match (element.tag, digits.len()) {
        (0x17, 12) => (number(0..2).map(|y| if y < 50 { 2000 + y } else { 1900 + y })?, 2),
        (0x18, 14) => (number(0..4)?, 4),
        _ => return None,
    };
    let field = |i: usize| number(rest + 2 * i..rest + 2 * i + 2);
    let (month, day, hour, minute, second) = (field(0)?, field(1)?, field(2)?, field(3)?, field(4)?);
    let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let most = match month {
        4 | 6 | 9 | 11 => 30,
        2 => 28 + i64::from(leap),
        1..=12 => 31,
        _ => return None,
    };
    if day < 1 || day > most || hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    // Days from the civil date, with years that begin in March.
    let (y, m) = if month > 2 { (year, month - 3) } else { (year - 1, month + 9) };
    let era = y.div_euclid(400);
    let of_era = y.rem_euclid(400);
    let days = era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + (153 * m + 2) / 5 + day - 1 - 719_468;
    Some(days * 86_400 + hour * 3_600 + minute * 60 + second)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_before_and_after_1970() {
        let at = |tag, text: &str| seconds(&Element { tag, body: text.as_bytes().to_vec() });
        assert_eq!(at(0x17, "700101000000Z"), Some(0));
        assert_eq!(at(0x17, "690101000000Z"), Some(-365 * 86_400));
        assert_eq!(at(0x18, "20000229120000Z"), Some(951_825_600));
        assert_eq!(at(0x18, "99991231235959Z"), Some(253_402_300_799));
        for bad in ["690101000000", "6901010000Z", "690132000000Z", "690229000000Z", "690101240000Z", "6901010000+0Z"] {
            assert_eq!(at(0x17, bad), None, "{bad}");
        }
    }
}
