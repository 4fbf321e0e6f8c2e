//! What OpenSSL cannot read at all: its reason, as its own number and words.

use crate::check::verify::parts;
use crate::pki::cert::raw::Raw;
use crate::pki::format::tlv::{self, SEQUENCE};

/// A reason of its decoder's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reason {
    /// The number that curl shows.
    pub number: &'static str,
    /// Its words.
    pub words: &'static str,
}

const WRONG_TAG: Reason = Reason { number: "068000A8", words: "wrong tag" };
const FIELD_MISSING: Reason = Reason { number: "06800079", words: "field missing" };
const HEADER_TOO_LONG: Reason = Reason { number: "0680007B", words: "header too long" };
const TOO_LONG: Reason = Reason { number: "0680009B", words: "too long" };
const ZERO_CONTENT: Reason = Reason { number: "068000DE", words: "illegal zero content" };
const PADDING: Reason = Reason { number: "068000DD", words: "illegal padding" };
const INVALID_UTF8: Reason = Reason { number: "06800086", words: "invalid utf8string" };

/// Why these octets are no certificate to it; None if they are one.
pub fn fault(der: &[u8]) -> Option<Reason> {
    let Some(raw) = Raw::read(der) else { return Some(shape(der)) };
    if raw.serial.is_empty() {
        return Some(ZERO_CONTENT);
    }
    if !parts::is_minimal(&raw.serial) {
        return Some(PADDING);
    }
    if super::text::is_unreadable(&raw.issuer) || super::text::is_unreadable(&raw.subject) {
        return Some(INVALID_UTF8);
    }
    None
}

/// Of octets that have not the shape of a certificate: what its decoder stumbles over first.
fn shape(der: &[u8]) -> Reason {
    match header(der) {
        Err(reason) => reason,
        Ok(SEQUENCE) => match tlv::first(der).and_then(|t| t.inside()) {
            Some(parts) if parts.is_empty() => FIELD_MISSING,
            Some(parts) if parts.first().is_some_and(|t| t.tag == SEQUENCE) => FIELD_MISSING,
            Some(_) => WRONG_TAG,
            None => parts::first(der).map_or(TOO_LONG, |t| header(t.body).err().unwrap_or(WRONG_TAG)),
        },
        Ok(_) => WRONG_TAG,
    }
}

/// The tag of the first element, if its header holds.
fn header(der: &[u8]) -> Result<u8, Reason> {
    let Some((&tag, mut rest)) = der.split_first() else { return Err(HEADER_TOO_LONG) };
    if tag & 0x1f == 0x1f {
        let end = rest.iter().position(|b| b & 0x80 == 0).ok_or(HEADER_TOO_LONG)?;
        // A tag number of more than four octets.
        if end > 3 {
            return Err(HEADER_TOO_LONG);
        }
        rest = &rest[end + 1..];
    }
    let Some((&first, rest)) = rest.split_first() else { return Err(HEADER_TOO_LONG) };
    let length = match first {
        0x80 if tag & 0x20 == 0 => return Err(HEADER_TOO_LONG),
        0x80 => return Ok(tag),
        n if n & 0x80 == 0 => usize::from(n),
        n => {
            let count = usize::from(n & 0x7f);
            let digits = rest.get(..count).ok_or(HEADER_TOO_LONG)?;
            let bare: Vec<u8> = digits.iter().copied().skip_while(|b| *b == 0).collect();
            if bare.len() > 7 || (bare.len() == 8 && bare[0] & 0x80 != 0) {
                return Err(HEADER_TOO_LONG);
            }
            let length = bare.iter().fold(0usize, |l, b| l << 8 | usize::from(*b));
            if length > rest.len() - count {
                return Err(TOO_LONG);
            }
            return Ok(tag);
        }
    };
    if length > rest.len() { Err(TOO_LONG) } else { Ok(tag) }
}

impl Reason {
    /// As Node.js writes it.
    pub fn node(self) -> String {
        format!("ERR_SSL_{}", self.words.to_ascii_uppercase().replace(' ', "_"))
    }
}
