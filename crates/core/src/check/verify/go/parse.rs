//! What Go's crypto/x509 reads of a certificate, and the words with which it refuses to. Measured with Go 1.19.

use super::constraints::{Constraint, reverse_labels};
use crate::check::verify::parts;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, Raw, RawExtension, id, seconds};
use crate::pki::format::tlv::{self, SEQUENCE};
use crate::pki::key::{P256, P384, P521, Shape};
use std::net::IpAddr;

/// A certificate as Go holds it.
#[derive(Clone, Debug)]
pub struct Parsed<'a> {
    /// The certificate.
    pub certificate: &'a Certificate,
    /// 1, 2 or 3.
    pub version: u8,
    /// Seconds since 1970.
    pub not_before: i64,
    /// Seconds since 1970.
    pub not_after: i64,
    /// basicConstraints are there: whether they say CA.
    pub basic: Option<bool>,
    /// The path length, if one is given.
    pub path_length: Option<i64>,
    /// keyUsage's first octet; 0 where there is none.
    pub usage: u8,
    /// extKeyUsage's identifiers.
    pub purposes: Vec<Vec<u8>>,
    /// dNSName.
    pub dns: Vec<String>,
    /// iPAddress.
    pub addresses: Vec<IpAddr>,
    /// subjectAltName is there.
    pub has_names: bool,
    /// rfc822Name, dNSName, uniformResourceIdentifier and iPAddress, in order.
    pub names: Vec<parts::General>,
    /// subjectKeyIdentifier.
    pub own_key: Vec<u8>,
    /// authorityKeyIdentifier.
    pub issuer_key: Vec<u8>,
    /// nameConstraints: permitted.
    pub permitted: Vec<Constraint>,
    /// nameConstraints: excluded.
    pub excluded: Vec<Constraint>,
    /// nameConstraints are there.
    pub has_constraints: bool,
    /// A critical extension that it does not handle.
    pub unhandled: bool,
    /// Its key is of a kind that Go knows.
    pub has_key: bool,
}

/// Reads one, or says why not, in Go's words.
pub fn parse(certificate: &Certificate) -> Result<Parsed<'_>, String> {
    let raw = &certificate.raw;
    let version = match raw.version.as_deref() {
        None => 1,
        Some([n]) if *n < 3 => n + 1,
        Some([n, ..]) if n & 0x80 != 0 => return Err("malformed version".into()),
        Some(_) => return Err("invalid version".into()),
    };
    if raw.serial.is_empty() || !parts::is_minimal(&raw.serial) {
        return Err("malformed serial number".into());
    }
    if raw.inner_algorithm != raw.outer_algorithm {
        return Err("inner and outer signature algorithm identifiers don't match".into());
    }
    name(&raw.issuer)?;
    let (not_before, not_after) = (time(&raw.not_before)?, time(&raw.not_after)?);
    name(&raw.subject)?;
    let has_key = key(certificate)?;
    let mut parsed = Parsed {
        certificate,
        version,
        not_before,
        not_after,
        basic: None,
        path_length: None,
        usage: 0,
        purposes: Vec::new(),
        dns: Vec::new(),
        addresses: Vec::new(),
        has_names: false,
        names: Vec::new(),
        own_key: Vec::new(),
        issuer_key: Vec::new(),
        permitted: Vec::new(),
        excluded: Vec::new(),
        has_constraints: false,
        unhandled: false,
        has_key,
    };
    if version == 3 {
        parsed.extensions(raw)?;
    }
    Ok(parsed)
}

/// Why octets without the shape of a certificate are none.
pub fn of_junk(der: &[u8]) -> String {
    let Some(outer) = tlv::first(der).filter(|t| t.tag == SEQUENCE) else { return "malformed certificate".into() };
    if outer.whole.len() < der.len() {
        return "trailing data".into();
    }
    "malformed tbs certificate".into()
}

fn time(element: &Element) -> Result<i64, String> {
    if let Some(t) = seconds(element) {
        return Ok(t);
    }
    let text = String::from_utf8_lossy(&element.body).into_owned();
    let kind = match element.tag {
        0x17 => "malformed UTCTime",
        0x18 => "malformed GeneralizedTime",
        _ => return Err("unsupported time format".into()),
    };
    // Without seconds, and with an offset, as older rules had it.
    let (digits, offset) = match text.strip_suffix('Z') {
        Some(digits) => (digits.to_owned(), 0),
        None => {
            let at = text.len().checked_sub(5).filter(|at| text.is_char_boundary(*at)).ok_or(kind)?;
            let (digits, zone) = text.split_at(at);
            let sign = match zone.as_bytes()[0] {
                b'+' => 1,
                b'-' => -1,
                _ => return Err(kind.into()),
            };
            let number =
                |range: std::ops::Range<usize>| zone.get(range).and_then(|t| t.parse::<i64>().ok()).ok_or(kind);
            (digits.to_owned(), sign * (number(1..3)? * 3_600 + number(3..5)? * 60))
        }
    };
    let digits = if element.tag == 0x17 && digits.len() == 10 { format!("{digits}00") } else { digits };
    let whole = Element { tag: element.tag, body: format!("{digits}Z").into_bytes() };
    seconds(&whole).map(|t| t - offset).ok_or_else(|| kind.into())
}

fn name(der: &[u8]) -> Result<(), String> {
    let said = |why: &str| Err(format!("invalid RDNSequence: invalid attribute value: {why}"));
    let Some(all) = parts::attributes(der) else { return Err("invalid RDNSequence".into()) };
    for (_, _, tag, octets) in all {
        let printable = |b: &u8| b.is_ascii_alphanumeric() || b" '()+,-./:=?*&".contains(b);
        match tag {
            0x13 if !octets.iter().all(printable) => return said("invalid PrintableString"),
            0x0c if std::str::from_utf8(&octets).is_err() => return said("invalid UTF-8 string"),
            0x1e if octets.len() % 2 != 0 => return said("invalid BMPString"),
            0x16 if !octets.is_ascii() => return said("invalid IA5String"),
            0x0c | 0x13 | 0x14 | 0x16 | 0x1e | 0x12 => {}
            other => return said(&format!("unsupported string type: {other}")),
        }
    }
    Ok(())
}

fn key(certificate: &Certificate) -> Result<bool, String> {
    match certificate.key.shape() {
        Shape::Ec { explicit: true, .. } => Err("invalid ECDSA parameters".into()),
        Shape::Ec { compressed: true, .. } => Err("failed to unmarshal elliptic curve point".into()),
        Shape::Ec { curve, .. } if ![P256, P384, P521].contains(&curve) => Err("unsupported elliptic curve".into()),
        Shape::Ec { .. } | Shape::Ed25519 | Shape::Rsa { pss_only: false, .. } => Ok(true),
        Shape::Rsa { pss_only: true, .. } | Shape::Other | Shape::Unreadable => Ok(false),
    }
}

impl Parsed<'_> {
    fn extensions(&mut self, raw: &Raw) -> Result<(), String> {
        let mut seen: Vec<&[u8]> = Vec::new();
        for e in raw.extensions.iter().flatten() {
            if e.flag.as_ref().is_some_and(|f| !matches!(f[..], [0] | [0xff])) {
                return Err("malformed extension critical field".into());
            }
            if seen.contains(&e.id.as_slice()) {
                return Err("certificate contains duplicate extensions".into());
            }
            seen.push(&e.id);
        }
        for e in raw.extensions.iter().flatten() {
            let handled = self.take(e)?;
            self.unhandled |= e.is_critical() && !handled;
        }
        Ok(())
    }

    /// Whether it is handled.
    fn take(&mut self, e: &RawExtension) -> Result<bool, String> {
        let sequence = |why: &str| parts::first(&e.value).filter(|t| t.tag == SEQUENCE).ok_or_else(|| why.to_owned());
        match e.id.as_slice() {
            id::KEY_USAGE => {
                let (unused, octets) = parts::bits(&e.value).ok_or("invalid key usage")?;
                if octets.last().is_some_and(|l| l & ((1u16 << unused) - 1) as u8 != 0) {
                    return Err("invalid key usage".into());
                }
                self.usage = octets.first().copied().unwrap_or(0);
                // decipherOnly is in the second octet; it is a usage all the same.
                if self.usage == 0 && octets.get(1).is_some_and(|b| b & 0x80 != 0) {
                    self.usage = 1;
                }
            }
            id::BASIC_CONSTRAINTS => {
                let inside =
                    parts::first(&e.value).filter(|t| t.tag == SEQUENCE).ok_or("invalid basic constraints a")?;
                // What follows the two fields is not looked at.
                let mut rest = inside.body;
                self.basic = Some(false);
                if rest.first() == Some(&0x01) {
                    let field = parts::first(rest).ok_or("invalid basic constraints b")?;
                    self.basic = Some(match field.body {
                        [0] => false,
                        [0xff] => true,
                        _ => return Err("invalid basic constraints b".into()),
                    });
                    rest = &rest[field.whole.len()..];
                }
                if rest.first() == Some(&0x02) {
                    let why = "invalid basic constraints c";
                    let length = parts::first(rest).ok_or(why)?.body;
                    if length.is_empty() || !parts::is_minimal(length) || length.len() > 8 {
                        return Err(why.into());
                    }
                    let start = if length[0] & 0x80 != 0 { -1 } else { 0 };
                    self.path_length = Some(length.iter().fold(start, |n: i64, b| n << 8 | i64::from(*b)));
                }
            }
            id::SUBJECT_ALT_NAME => {
                self.has_names = true;
                self.alternative(e)?;
                return Ok(!self.names.is_empty());
            }
            id::NAME_CONSTRAINTS => {
                self.has_constraints = true;
                return self.constraints(e);
            }
            id::CRL_DISTRIBUTION_POINTS => {
                sequence("invalid CRL distribution points")?;
            }
            id::AUTHORITY_KEY_IDENTIFIER => {
                let inside = sequence("invalid authority key identifier")?.inside();
                let first = inside.and_then(|all| all.first().copied()).filter(|t| t.tag == 0x80);
                self.issuer_key = first.map(|t| t.body.to_vec()).unwrap_or_default();
            }
            id::EXTENDED_KEY_USAGE => {
                self.purposes = parts::purposes(&e.value).ok_or("invalid extended key usages")?;
            }
            id::SUBJECT_KEY_IDENTIFIER => {
                let octets = parts::first(&e.value).and_then(|t| t.expect(0x04)).map(<[u8]>::to_vec);
                self.own_key = octets.ok_or("invalid subject key identifier")?;
            }
            id::CERTIFICATE_POLICIES => {
                let inside =
                    sequence("invalid certificate policies")?.inside().ok_or("invalid certificate policies")?;
                let is_policy = |t: &tlv::Tlv<'_>| {
                    t.tag == SEQUENCE && t.inside().is_some_and(|i| i.first().is_some_and(|o| o.tag == tlv::OID))
                };
                if !inside.iter().all(is_policy) {
                    return Err("invalid certificate policies".into());
                }
            }
            id::AUTHORITY_INFO_ACCESS => {
                sequence("invalid authority info access")?;
            }
            _ => return Ok(false),
        }
        Ok(true)
    }

    fn alternative(&mut self, e: &RawExtension) -> Result<(), String> {
        let list = parts::first(&e.value).filter(|t| t.tag == SEQUENCE).ok_or("invalid subject alternative names")?;
        let all = list.inside().ok_or("invalid subject alternative name")?;
        for t in all {
            let text = || String::from_utf8_lossy(t.body).into_owned();
            let kind = t.tag ^ 0x80;
            match kind {
                1 if !t.body.is_ascii() => return Err("SAN rfc822Name is malformed".into()),
                2 if !t.body.is_ascii() => return Err("SAN dNSName is malformed".into()),
                6 if !t.body.is_ascii() => return Err("SAN uniformResourceIdentifier is malformed".into()),
                2 => self.dns.push(text()),
                6 => {
                    let host = super::constraints::uri_host(&text());
                    if !host.is_empty() && reverse_labels(&host).is_none() {
                        return Err(format!("cannot parse URI {:?}: invalid domain", text()));
                    }
                }
                7 => match crate::vocabulary::name::ip(t.body).filter(|_| matches!(t.body.len(), 4 | 16)) {
                    Some(a) => self.addresses.push(a),
                    None => return Err(format!("cannot parse IP address of length {}", t.body.len())),
                },
                1 => {}
                _ => continue,
            }
            self.names.push(parts::General { kind, octets: t.body.to_vec() });
        }
        Ok(())
    }

    fn constraints(&mut self, e: &RawExtension) -> Result<bool, String> {
        let invalid = || "invalid NameConstraints extension".to_owned();
        let outer = tlv::one(&e.value).filter(|t| t.tag == SEQUENCE).ok_or_else(invalid)?;
        let (mut lists, mut handled) = (Vec::new(), true);
        for list in outer.inside().ok_or_else(invalid)? {
            match (list.tag, lists.last()) {
                (0xa0, None) | (0xa1, None | Some((0xa0, _))) => lists.push((list.tag, list)),
                _ => return Err(invalid()),
            }
        }
        if lists.iter().all(|(_, l)| l.body.is_empty()) {
            return Err("empty name constraints extension".into());
        }
        for (tag, list) in lists {
            for tree in list.inside().ok_or_else(invalid)? {
                let base =
                    Some(tree).filter(|t| t.tag == SEQUENCE).and_then(|t| parts::first(t.body)).ok_or_else(invalid)?;
                match Constraint::read(base.tag, base.body)? {
                    Some(c) if tag == 0xa0 => self.permitted.push(c),
                    Some(c) => self.excluded.push(c),
                    None => handled = false,
                }
            }
        }
        Ok(handled)
    }
}
