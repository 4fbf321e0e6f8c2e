//! What the JVM reads of a certificate, and what it cannot read at all.

use crate::check::verify::parts;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, RawExtension, id, seconds};
use crate::pki::format::tlv::{self, SEQUENCE};
use crate::pki::key::Shape;

/// A certificate as the JVM holds it.
#[derive(Clone, Debug)]
pub struct Held<'a> {
    /// The certificate.
    pub certificate: &'a Certificate,
    /// 1, 2 or 3.
    pub version: u8,
    /// Seconds since 1970.
    pub not_before: i64,
    /// Seconds since 1970.
    pub not_after: i64,
    /// As getBasicConstraints has it: -1 is no CA, else the path length, which may be without limit.
    pub path_length: i64,
    /// keyUsage's first octet.
    pub usage: Option<u8>,
    /// extKeyUsage.
    pub purposes: Option<Vec<Vec<u8>>>,
    /// subjectAltName, where it is there and can be read.
    pub names: Option<Vec<parts::General>>,
    /// nameConstraints.
    pub constraints: Option<parts::Constraints>,
    /// The subject as it is compared.
    pub subject: Vec<u8>,
    /// The issuer as it is compared.
    pub issuer: Vec<u8>,
}

impl Held<'_> {
    /// Subject and issuer are the same.
    pub fn is_self_issued(&self) -> bool {
        self.subject == self.issuer
    }
}

/// Reads one; None where the JVM reads none.
pub fn read(certificate: &Certificate) -> Option<Held<'_>> {
    let raw = &certificate.raw;
    let version = raw.version_number().filter(|v| *v <= 2)? + 1;
    let has_extensions = raw.extensions.as_ref().is_some_and(|e| !e.is_empty());
    if raw.serial.is_empty() || raw.inner_algorithm != raw.outer_algorithm || (has_extensions && version < 3) {
        return None;
    }
    if parts::attributes(&certificate.issuer)?.is_empty() {
        return None;
    }
    if matches!(certificate.key.shape(), Shape::Ec { explicit: true, .. } | Shape::Ec { compressed: true, .. }) {
        return None;
    }
    let all: Vec<&RawExtension> = raw.extensions.iter().flatten().collect();
    if all.iter().enumerate().any(|(i, e)| all[..i].iter().any(|o| o.id == e.id)) {
        return None;
    }
    let mut held = Held {
        certificate,
        version,
        not_before: time(&raw.not_before)?,
        not_after: time(&raw.not_after)?,
        path_length: -1,
        usage: None,
        purposes: None,
        names: None,
        constraints: None,
        subject: canonical(&certificate.subject),
        issuer: canonical(&certificate.issuer),
    };
    for e in all {
        // A known extension that cannot be read is left aside, unless it is critical.
        if held.take(e).is_none() && e.is_critical() {
            return None;
        }
    }
    let is_empty = parts::attributes(&certificate.subject)?.is_empty();
    let has_critical_names = raw.extension(id::SUBJECT_ALT_NAME).is_some_and(RawExtension::is_critical);
    (!is_empty || has_critical_names).then_some(held)
}

impl Held<'_> {
    fn take(&mut self, e: &RawExtension) -> Option<()> {
        match e.id.as_slice() {
            id::BASIC_CONSTRAINTS => {
                let (ca, length) = parts::basic(&e.value)?;
                let says_so = ca.is_some_and(|b| b.iter().any(|b| *b != 0));
                let length = match length {
                    None => i64::MAX,
                    Some(l) if l.is_empty() || l.len() > 4 => return None,
                    Some(l) => {
                        let start = if l[0] & 0x80 != 0 { -1 } else { 0 };
                        l.iter().fold(start, |n, b| n << 8 | i64::from(*b))
                    }
                };
                self.path_length = if says_so { length } else { -1 };
            }
            id::KEY_USAGE => {
                let (_, octets) = parts::bits(&e.value)?;
                self.usage = Some(octets.first().copied().unwrap_or(0));
            }
            id::EXTENDED_KEY_USAGE => self.purposes = Some(parts::purposes(&e.value)?),
            id::SUBJECT_ALT_NAME => {
                let names = tlv::one(&e.value).filter(|t| t.tag == SEQUENCE)?;
                let names: Option<Vec<parts::General>> = names.inside()?.iter().map(parts::general).collect();
                let good = |n: &parts::General| match n.kind {
                    7 => matches!(n.octets.len(), 4 | 8 | 16 | 32),
                    4 => parts::attributes(&n.octets).is_some(),
                    6 => is_uri(&n.octets),
                    _ => true,
                };
                self.names = Some(names?).filter(|n| n.iter().all(good) && !n.is_empty());
                self.names.as_ref()?;
            }
            id::NAME_CONSTRAINTS => {
                let by = parts::constraints(&e.value)?;
                let good = |t: &parts::Subtree| match t.base.kind {
                    7 => matches!(t.base.octets.len(), 4 | 8 | 16 | 32),
                    _ => true,
                };
                self.constraints = Some(by).filter(|c| c.permitted.iter().chain(&c.excluded).all(good));
                self.constraints.as_ref()?;
            }
            id::CERTIFICATE_POLICIES
            | id::CRL_DISTRIBUTION_POINTS
            | id::AUTHORITY_INFO_ACCESS
            | id::POLICY_MAPPINGS => {
                parts::first(&e.value).filter(|t| t.tag == SEQUENCE)?;
            }
            id::AUTHORITY_KEY_IDENTIFIER => {
                parts::authority_key(&e.value)?;
            }
            id::SUBJECT_KEY_IDENTIFIER => {
                parts::first(&e.value)?.expect(0x04)?;
            }
            _ => {}
        }
        Some(())
    }
}

/// A scheme and something behind it, without spaces.
fn is_uri(octets: &[u8]) -> bool {
    let text = String::from_utf8_lossy(octets);
    let plain = |c: char| c.is_ascii_graphic() && !"\"<>\\^`{|}".contains(c);
    match text.split_once(':') {
        Some((scheme, rest)) => !scheme.is_empty() && !rest.is_empty() && text.chars().all(plain),
        None => false,
    }
}

/// Without seconds, with an offset, or with a fraction: older rules are kept, and days that a month has not go over into the next.
fn time(element: &Element) -> Option<i64> {
    if let Some(t) = seconds(element) {
        return Some(t);
    }
    let text = std::str::from_utf8(&element.body).ok()?;
    let (text, offset) = match text.strip_suffix('Z') {
        Some(text) => (text, 0),
        None => {
            let (text, zone) = text.split_at_checked(text.len().checked_sub(5)?)?;
            let sign = if zone.starts_with('+') { 1 } else { -1 };
            let zone = zone.strip_prefix(['+', '-'])?;
            (text, sign * (zone.get(..2)?.parse::<i64>().ok()? * 3_600 + zone.get(2..)?.parse::<i64>().ok()? * 60))
        }
    };
    let whole = if element.tag == 0x18 { text.split('.').next()? } else { text };
    let year = if element.tag == 0x17 { 2 } else { 4 };
    let mut digits = whole.to_owned();
    if digits.len() == year + 8 {
        digits.push_str("00");
    }
    if digits.len() != year + 10 || !digits.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    // The 30th of February is the 2nd of March, or so: the last day that there is comes near enough.
    let day: u32 = digits.get(year + 2..year + 4)?.parse().ok()?;
    let known = |digits: &str| seconds(&Element { tag: element.tag, body: format!("{digits}Z").into_bytes() });
    let shorter = |n: u32| format!("{}{:02}{}", &digits[..year + 2], day - n, &digits[year + 4..]);
    let found = known(&digits)
        .or_else(|| (1..=3).filter(|n| (29..=31).contains(&day) && day > *n).find_map(|n| known(&shorter(n))));
    found.map(|t| t - offset)
}

/// A name as X500Principal compares it: printable and UTF-8 text in lower case with white space folded, the rest as octets.
pub fn canonical(name: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    for (rdn, kind, tag, octets) in parts::attributes(name).unwrap_or_default() {
        out.extend([0xff, u8::try_from(rdn % 251).unwrap_or(0)]);
        out.extend(&kind);
        match parts::text(tag, &octets).filter(|_| matches!(tag, 0x0c | 0x13)) {
            Some(text) => {
                out.push(0x0c);
                out.extend(text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase().into_bytes());
            }
            None => {
                out.push(tag);
                out.extend(octets);
            }
        }
    }
    out
}

/// True if an INTEGER has the fewest octets: kept for the serial numbers of identifiers.
pub fn same_number(a: &[u8], b: &[u8]) -> bool {
    let bare = |n: &[u8]| -> Vec<u8> {
        let skip = n.iter().take_while(|b| **b == 0).count().min(n.len().saturating_sub(1));
        n[skip..].to_vec()
    };
    a == b || (!parts::is_minimal(a) || !parts::is_minimal(b)) && bare(a) == bare(b)
}
