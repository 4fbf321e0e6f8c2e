//! What webpki reads of a certificate, and what it refuses to read.

use super::Fault;
use crate::check::verify::parts;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, id, seconds};
use crate::pki::format::tlv;

/// A certificate as it reads one.
pub(super) struct Parsed<'a> {
    pub(super) certificate: &'a Certificate,
}

/// Extensions of which it takes the contents; each of them may come once.
const KNOWN: &[&[u8]] = &[
    id::KEY_USAGE,
    id::SUBJECT_ALT_NAME,
    id::BASIC_CONSTRAINTS,
    id::NAME_CONSTRAINTS,
    id::CRL_DISTRIBUTION_POINTS,
    id::EXTENDED_KEY_USAGE,
];

impl<'a> Parsed<'a> {
    /// As a certificate of a path.
    pub(super) fn strict(certificate: &'a Certificate) -> Result<Parsed<'a>, Fault> {
        let raw = &certificate.raw;
        match raw.version.as_deref() {
            Some([2]) => {}
            Some([_]) | None => return Err(Fault::new("version")),
            Some(_) => return Err(Fault::new("encoding")),
        }
        if raw.inner_algorithm != raw.outer_algorithm {
            return Err(Fault::new("two-algorithms"));
        }
        readable(certificate)?;
        for e in raw.extensions.iter().flatten() {
            if e.is_critical() && !KNOWN.contains(&e.id.as_slice()) {
                return Err(Fault::new("critical"));
            }
        }
        Ok(Parsed { certificate })
    }

    /// As if nothing were wrong with it: what would be said if it did not mind?
    pub(super) fn lenient(certificate: &'a Certificate) -> Parsed<'a> {
        Parsed { certificate }
    }

    /// notBefore and notAfter in seconds.
    pub(super) fn validity(&self) -> Result<(i64, i64), Fault> {
        let raw = &self.certificate.raw;
        let read = |e: &Element| seconds(e).filter(|_| e.body.last() == Some(&b'Z')).ok_or(Fault::new("time"));
        let (from, until) = (read(&raw.not_before)?, read(&raw.not_after)?);
        // Seconds since 1970 have no sign.
        if from < 0 || until < 0 { Err(Fault::new("time")) } else { Ok((from, until)) }
    }

    /// Whether it is an authority, and how many may stand below.
    pub(super) fn basic(&self) -> Result<(bool, Option<usize>), Fault> {
        let Some(e) = self.certificate.raw.extension(id::BASIC_CONSTRAINTS) else { return Ok((false, None)) };
        let bad = || Fault::new("encoding");
        let fields = whole(&e.value).ok_or_else(bad)?;
        let (ca, rest) = match fields.split_first() {
            Some((t, rest)) if t.tag == 0x01 => match t.body {
                [0xff] => (true, rest),
                [0] => (false, rest),
                _ => return Err(bad()),
            },
            _ => (false, &fields[..]),
        };
        match rest {
            [] => Ok((ca, None)),
            [length] => match length.expect(tlv::INTEGER).ok_or_else(bad)? {
                [n] if n & 0x80 == 0 => Ok((ca, Some(usize::from(*n)))),
                [0, n] if n & 0x80 != 0 => Ok((ca, Some(usize::from(*n)))),
                _ => Err(bad()),
            },
            _ => Err(bad()),
        }
    }

    /// extKeyUsage lets it serve, or is not there.
    pub(super) fn serves(&self) -> Result<(), Fault> {
        let Some(e) = self.certificate.raw.extension(id::EXTENDED_KEY_USAGE) else { return Ok(()) };
        let list = whole(&e.value).ok_or(Fault::new("encoding"))?;
        if list.is_empty() {
            return Err(Fault::new("no-purpose"));
        }
        for t in list {
            let id = t.expect(tlv::OID).ok_or(Fault::new("encoding"))?;
            if id == parts::SERVER_AUTH {
                return Ok(());
            }
        }
        Err(Fault::new("purpose"))
    }

    /// nameConstraints' contents.
    pub(super) fn constraints(&self) -> Option<&'a [u8]> {
        self.certificate.raw.extension(id::NAME_CONSTRAINTS).map(|e| e.value.as_slice())
    }
}

/// An anchor: nothing of it counts but name, key and constraints. None where it cannot be read even so.
pub(super) fn anchor(certificate: &Certificate) -> Option<Parsed<'_>> {
    let bare = certificate.raw.version.is_none() && certificate.raw.extensions.is_none();
    let raw = &certificate.raw;
    let strict = raw.version.as_deref() == Some(&[2]) && raw.inner_algorithm == raw.outer_algorithm;
    (bare || strict && readable(certificate).is_ok()).then_some(Parsed { certificate })
}

/// The extensions as far as it opens them: a SEQUENCE in each of those that it knows, a flag of one octet, none twice.
fn readable(certificate: &Certificate) -> Result<(), Fault> {
    let raw = &certificate.raw;
    let mut seen: Vec<&[u8]> = Vec::new();
    for e in raw.extensions.iter().flatten() {
        if e.flag.as_deref().is_some_and(|f| f != [0xff] && f != [0]) {
            return Err(Fault::new("encoding"));
        }
        if !KNOWN.contains(&e.id.as_slice()) {
            continue;
        }
        if seen.contains(&e.id.as_slice()) {
            return Err(Fault::new("twice"));
        }
        seen.push(&e.id);
        // keyUsage is not opened.
        if e.id != id::KEY_USAGE && tlv::one(&e.value).is_none_or(|t| t.tag != tlv::SEQUENCE) {
            return Err(Fault::new("encoding"));
        }
    }
    Ok(())
}

/// The elements of a SEQUENCE after which nothing follows.
fn whole(der: &[u8]) -> Option<Vec<tlv::Tlv<'_>>> {
    tlv::one(der).filter(|t| t.tag == tlv::SEQUENCE)?.inside()
}
