//! What GnuTLS cannot read at all, in its own words.

use crate::check::verify::parts;
use crate::pki::cert::raw::{Element, Raw, id};
use crate::pki::format::tlv::{self, SEQUENCE};
use crate::pki::key::{PublicKey, Shape};

const IN_DER: &str = "GnuTLS: ASN1 parser: Error in DER parsing.";
const IN_CERTIFICATE: &str = "GnuTLS: Error in the certificate.";
const IN_TAG: &str = "GnuTLS: ASN1 parser: Error in TAG.";

/// Why these octets are no certificate to it; None if they are one.
pub fn fault(der: &[u8]) -> Option<&'static str> {
    let Some(raw) = Raw::read(der) else { return Some(IN_TAG) };
    let of_time = time(&raw.not_before).or_else(|| time(&raw.not_after));
    if of_time == Some(ENCODING) {
        return of_time;
    }
    if raw.inner_algorithm != raw.outer_algorithm {
        return Some(IN_CERTIFICATE);
    }
    if let Some(why) = names(&raw) {
        return Some(why);
    }
    let all: Vec<&[u8]> = raw.extensions.iter().flatten().map(|e| e.id.as_slice()).collect();
    if all.iter().enumerate().any(|(i, id)| all[..i].contains(id)) {
        return Some("GnuTLS: Duplicate extension in X.509 certificate.");
    }
    let is_old = raw.version_number().is_none_or(|v| v < 2);
    if !all.is_empty() && is_old {
        return Some(IN_CERTIFICATE);
    }
    of_time
}

/// Why a server's own certificate is refused at once: its key is read too.
pub fn fault_in_leaf(der: &[u8]) -> Option<&'static str> {
    fault(der).or_else(|| match PublicKey::from_spki(Raw::read(der)?.key).shape() {
        Shape::Ec { explicit: true, .. } => Some(IN_DER),
        Shape::Ec { compressed: true, .. } => Some("GnuTLS: Error in parsing."),
        _ => None,
    })
}

/// The same up to TLS 1.2, where all that was sent is read at once and the reason is not passed on.
pub fn fault_in_any(all: &[&[u8]]) -> Option<&'static str> {
    let leaf = all.first().and_then(|der| fault_in_leaf(der));
    leaf.or_else(|| all.iter().skip(1).find_map(|der| fault(der))).map(|_| IN_CERTIFICATE)
}

const ENCODING: &str = "GnuTLS: The DER time encoding is invalid.";

fn time(element: &Element) -> Option<&'static str> {
    const IN_FIELDS: &str = "GnuTLS: Error in the time fields of certificate.";
    let Some(text) = element.body.strip_suffix(b"Z") else { return Some(ENCODING) };
    let whole = text.split(|b| *b == b'.').next().unwrap_or_default();
    let lengths: &[usize] = if element.tag == 0x17 { &[10, 12] } else { &[14] };
    if !whole.iter().all(u8::is_ascii_digit) || !lengths.contains(&whole.len()) {
        return Some(ENCODING);
    }
    if whole.len() < text.len() {
        return Some(IN_FIELDS);
    }
    let at = if element.tag == 0x17 { 2 } else { 4 };
    let month = (whole[at] - b'0') * 10 + whole[at + 1] - b'0';
    // Days and seconds that do not exist are taken.
    (!(1..=12).contains(&month)).then_some(IN_FIELDS)
}

fn names(raw: &Raw) -> Option<&'static str> {
    let value = &raw.extension(id::SUBJECT_ALT_NAME)?.value;
    if value.first().is_some_and(|tag| *tag != SEQUENCE) {
        return Some(IN_TAG);
    }
    let Some(first) = tlv::first(value) else { return Some(IN_DER) };
    if first.whole.len() < value.len() {
        return Some(IN_DER);
    }
    let Some(all) = parts::names(value) else { return Some(IN_DER) };
    let is_empty = |n: &parts::General| matches!(n.kind, 1 | 2 | 6 | 7) && n.octets.is_empty();
    all.iter().any(is_empty).then_some("GnuTLS: Unknown Subject Alternative name in X.509 certificate.")
}
