//! What Chromium's verifier reads of a certificate: strictly, and all extensions that it knows, critical or not.

use crate::check::verify::parts::{self, Constraints, General};
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, Raw, RawExtension, id, seconds};
use crate::pki::format::tlv::{self, OCTETS, SEQUENCE};

/// A certificate as it holds it.
#[derive(Clone, Debug)]
pub struct Parsed<'a> {
    /// The certificate.
    pub certificate: &'a Certificate,
    /// Seconds since 1970.
    pub not_before: i64,
    /// Seconds since 1970.
    pub not_after: i64,
    /// basicConstraints: CA.
    pub basic: Option<bool>,
    /// Its path length.
    pub path_length: Option<u8>,
    /// keyUsage's first octet.
    pub usage: Option<u8>,
    /// extKeyUsage.
    pub purposes: Option<Vec<Vec<u8>>>,
    /// subjectAltName.
    pub names: Option<Vec<General>>,
    /// nameConstraints, and whether they are critical.
    pub constraints: Option<(Constraints, bool)>,
    /// subjectKeyIdentifier.
    pub own_key: Option<Vec<u8>>,
    /// authorityKeyIdentifier's key.
    pub issuer_key: Option<Vec<u8>>,
    /// The subject, normalized.
    pub subject: Vec<u8>,
    /// The issuer, normalized.
    pub issuer: Vec<u8>,
}

impl Parsed<'_> {
    /// Subject and issuer are the same.
    pub fn is_self_issued(&self) -> bool {
        self.subject == self.issuer
    }
}

/// True where already the program's view of a server's certificate fails: version, extensions of older versions, times, texts of names.
pub fn is_bad_format(raw: &Raw) -> bool {
    let has_extensions = raw.extensions.is_some();
    let version = match raw.version.as_deref() {
        None => 0,
        Some([n @ 1..=2]) => *n,
        Some(_) => return true,
    };
    (has_extensions && version < 2)
        || time(&raw.not_before).is_none()
        || time(&raw.not_after).is_none()
        || normalized(&raw.subject).is_none()
        || normalized(&raw.issuer).is_none()
}

/// A leap second is taken.
fn time(element: &Element) -> Option<i64> {
    seconds(element).or_else(|| {
        let text = element.body.strip_suffix(b"60Z")?;
        seconds(&Element { tag: element.tag, body: [text, b"59Z"].concat() }).map(|t| t + 1)
    })
}

/// Reads one; None for one that is left aside.
pub fn parse(certificate: &Certificate) -> Option<Parsed<'_>> {
    let raw = &certificate.raw;
    if is_bad_format(raw) {
        return None;
    }
    let all: Vec<&RawExtension> = raw.extensions.iter().flatten().collect();
    let twice = all.iter().enumerate().any(|(i, e)| all[..i].iter().any(|o| o.id == e.id));
    // DER writes a flag only where it is TRUE.
    let flag = |e: &&&RawExtension| e.flag.as_ref().is_some_and(|f| f != &[0xff]);
    if twice || all.iter().any(|e| flag(&e)) || raw.extensions.as_ref().is_some_and(Vec::is_empty) {
        return None;
    }
    let mut parsed = Parsed {
        certificate,
        not_before: time(&raw.not_before)?,
        not_after: time(&raw.not_after)?,
        basic: None,
        path_length: None,
        usage: None,
        purposes: None,
        names: None,
        constraints: None,
        own_key: None,
        issuer_key: None,
        subject: normalized(&certificate.subject)?,
        issuer: normalized(&certificate.issuer)?,
    };
    for e in all {
        parsed.take(e)?;
    }
    // RFC 5280 §4.1.2.6: names alone must be critical.
    let is_empty = crate::pki::cert::subject::is_empty(&certificate.subject);
    let critical = raw.extension(id::SUBJECT_ALT_NAME).is_none_or(RawExtension::is_critical);
    (!is_empty || critical).then_some(parsed)
}

impl Parsed<'_> {
    fn take(&mut self, e: &RawExtension) -> Option<()> {
        let sequence = || tlv::one(&e.value).filter(|t| t.tag == SEQUENCE);
        match e.id.as_slice() {
            id::BASIC_CONSTRAINTS => {
                sequence()?;
                let (ca, length) = parts::basic(&e.value)?;
                self.basic = Some(match ca.as_deref() {
                    None | Some([0]) => false,
                    Some([0xff]) => true,
                    Some(_) => return None,
                });
                self.path_length = match length.as_deref() {
                    None => None,
                    Some(l) if !parts::is_minimal(l) => return None,
                    Some([n @ 0..0x80] | [0, n]) => Some(*n),
                    Some(_) => return None,
                };
            }
            id::KEY_USAGE => {
                tlv::one(&e.value)?;
                let (unused, octets) = parts::bits(&e.value)?;
                if octets.iter().all(|b| *b == 0) || octets.last()? & ((1u16 << unused) - 1) as u8 != 0 {
                    return None;
                }
                self.usage = octets.first().copied();
            }
            id::EXTENDED_KEY_USAGE => {
                sequence()?;
                self.purposes = Some(parts::purposes(&e.value).filter(|p| !p.is_empty())?);
            }
            id::SUBJECT_ALT_NAME => {
                let names: Option<Vec<General>> = sequence()?.inside()?.iter().map(general).collect();
                self.names = Some(names.filter(|n| !n.is_empty())?);
            }
            id::NAME_CONSTRAINTS => {
                sequence()?;
                let by = parts::constraints(&e.value)?;
                let all: Vec<&parts::Subtree> = by.permitted.iter().chain(&by.excluded).collect();
                let good = |t: &&&parts::Subtree| match t.base.kind {
                    7 => matches!(t.base.octets.len(), 8 | 32) && is_mask(&t.base.octets[t.base.octets.len() / 2..]),
                    1 | 2 | 6 => t.base.octets.is_ascii(),
                    4 => normalized(&t.base.octets).is_some(),
                    _ => true,
                };
                if all.is_empty()
                    || by.has_empty_list
                    || all.iter().any(|t| t.writes_minimum || t.has_maximum || !good(&t))
                {
                    return None;
                }
                self.constraints = Some((by, e.is_critical()));
            }
            id::CERTIFICATE_POLICIES => {
                let all = sequence()?.inside().filter(|a| !a.is_empty())?;
                let is_policy = |t: &tlv::Tlv<'_>| {
                    t.tag == SEQUENCE && t.inside().is_some_and(|i| i.first().is_some_and(|o| o.tag == tlv::OID))
                };
                all.iter().all(is_policy).then_some(())?;
            }
            id::POLICY_CONSTRAINTS | id::POLICY_MAPPINGS | id::AUTHORITY_INFO_ACCESS => {
                sequence()?.inside().filter(|a| !a.is_empty())?;
            }
            id::AUTHORITY_KEY_IDENTIFIER => {
                sequence()?;
                let read = parts::authority_key(&e.value)?;
                if read.has_issuer != read.serial.is_some() {
                    return None;
                }
                self.issuer_key = read.key;
            }
            id::SUBJECT_KEY_IDENTIFIER => {
                self.own_key = Some(tlv::one(&e.value)?.expect(OCTETS)?.to_vec());
            }
            _ => {}
        }
        Some(())
    }
}

fn general(t: &tlv::Tlv<'_>) -> Option<General> {
    let name = parts::general(t)?;
    let good = match name.kind {
        1 | 2 | 6 => name.octets.is_ascii(),
        7 => matches!(name.octets.len(), 4 | 16),
        4 => normalized(&name.octets).is_some(),
        _ => true,
    };
    good.then_some(name)
}

/// Ones, then zeros.
fn is_mask(mask: &[u8]) -> bool {
    let ones: u32 = mask.iter().map(|b| b.count_ones()).sum();
    let full = mask.iter().take_while(|b| **b == 0xff).count();
    let led = full as u32 * 8 + mask.get(full).map_or(0, |b| b.leading_ones());
    ones == led
}

/// A name as it is compared; None where a text of it is none of its type.
pub fn normalized(name: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::new();
    for (rdn, kind, tag, octets) in parts::attributes(name)? {
        out.extend([0xff, u8::try_from(rdn % 251).unwrap_or(0)]);
        out.extend(&kind);
        let printable = |b: &u8| b.is_ascii_alphanumeric() || b" '()+,-./:=?".contains(b);
        match tag {
            0x13 if !octets.iter().all(printable) => return None,
            0x16 if !octets.is_ascii() => return None,
            _ => {}
        }
        match tag {
            0x0c if std::str::from_utf8(&octets).is_err() => {
                out.push(tag);
                out.extend(octets);
            }
            0x0c | 0x13 | 0x16 | 0x1c | 0x1e => {
                let text = parts::text(tag, &octets)?;
                let folded = text.split(' ').filter(|w| !w.is_empty()).collect::<Vec<_>>().join(" ");
                out.push(0x0c);
                out.extend(folded.to_ascii_lowercase().into_bytes());
            }
            _ => {
                out.push(tag);
                out.extend(octets);
            }
        }
    }
    Some(out)
}
