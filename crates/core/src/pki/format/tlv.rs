//! Tag, length, value (X.690): a writer of DER, and a reader that takes BER as older programs write it: lengths that are not
//! definite, octet strings in pieces.

use zeroize::Zeroizing;

/// Nesting that no honest file reaches.
const DEPTH: usize = 40;

pub(crate) const INTEGER: u8 = 0x02;
pub(crate) const OCTETS: u8 = 0x04;
pub(crate) const NULL: u8 = 0x05;
pub(crate) const OID: u8 = 0x06;
pub(crate) const BMP: u8 = 0x1e;
pub(crate) const SEQUENCE: u8 = 0x30;
pub(crate) const SET: u8 = 0x31;
/// `[0]`, with something whole inside.
pub(crate) const FIRST: u8 = 0xa0;

/// One element: its tag, and what is inside.
#[derive(Clone, Copy)]
pub(crate) struct Tlv<'a> {
    pub(crate) tag: u8,
    pub(crate) body: &'a [u8],
    pub(crate) whole: &'a [u8],
}

impl<'a> Tlv<'a> {
    /// The elements inside.
    pub(crate) fn inside(&self) -> Option<Vec<Tlv<'a>>> {
        all(self.body)
    }

    /// The body, if the tag is this one.
    pub(crate) fn expect(&self, tag: u8) -> Option<&'a [u8]> {
        (self.tag == tag).then_some(self.body)
    }

    /// A whole number that fits.
    pub(crate) fn number(&self) -> Option<u32> {
        let body = self.expect(INTEGER)?;
        let bare = body.strip_prefix(&[0]).unwrap_or(body);
        (bare.len() <= 4 && body.first().is_some_and(|b| b & 0x80 == 0))
            .then(|| bare.iter().fold(0, |n, b| n << 8 | u32::from(*b)))
    }
}

/// The single element that these bytes of DER are.
pub(crate) fn one(der: &[u8]) -> Option<Tlv<'_>> {
    let found = all(der)?;
    (found.len() == 1).then(|| found[0])
}

/// The element with which these bytes of DER begin, whatever follows it.
pub(crate) fn first(der: &[u8]) -> Option<Tlv<'_>> {
    let (tag, length, head) = header(der)?;
    let end = head.checked_add(length?)?;
    Some(Tlv { tag, body: der.get(head..end)?, whole: &der[..end] })
}

/// The elements that stand one after another in these bytes of DER.
pub(crate) fn all(mut der: &[u8]) -> Option<Vec<Tlv<'_>>> {
    let mut out = Vec::new();
    while !der.is_empty() {
        let next = first(der)?;
        der = &der[next.whole.len()..];
        out.push(next);
    }
    Some(out)
}

/// Tag, length (None where it is not definite), and how many bytes both take.
fn header(bytes: &[u8]) -> Option<(u8, Option<usize>, usize)> {
    let (&tag, &first) = (bytes.first()?, bytes.get(1)?);
    if tag & 0x1f == 0x1f {
        return None;
    }
    match first {
        0x80 => Some((tag, None, 2)),
        n if n & 0x80 == 0 => Some((tag, Some(usize::from(n)), 2)),
        n => {
            let count = usize::from(n & 0x7f);
            let digits = bytes.get(2..2 + count).filter(|_| count <= 4)?;
            Some((tag, Some(digits.iter().fold(0, |l, b| l << 8 | usize::from(*b))), 2 + count))
        }
    }
}

/// The first element of these bytes of BER as DER; what follows it does not count.
pub(crate) fn to_der(ber: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
    let mut out = Zeroizing::new(Vec::with_capacity(ber.len()));
    element(ber, &mut out, DEPTH)?;
    Some(out)
}

/// Appends one element as DER; returns how many bytes of BER it took.
fn element(ber: &[u8], out: &mut Vec<u8>, depth: usize) -> Option<usize> {
    let (tag, length, head) = header(ber)?;
    let depth = depth.checked_sub(1)?;
    if tag & 0x20 == 0 {
        let end = head.checked_add(length?)?;
        push(out, tag, &[ber.get(head..end)?]);
        return Some(end);
    }
    let mut inner = Zeroizing::new(Vec::new());
    let mut at = head;
    match length {
        Some(length) => {
            let end = head.checked_add(length)?;
            let body = ber.get(..end)?;
            while at < end {
                at += element(&body[at..], &mut inner, depth)?;
            }
        }
        None => loop {
            if ber.get(at..at + 2)? == [0, 0] {
                at += 2;
                break;
            }
            at += element(&ber[at..], &mut inner, depth)?;
        },
    }
    // A string in pieces: the pieces are joined.
    if tag == OCTETS | 0x20 {
        let pieces = all(&inner)?;
        let bodies: Option<Vec<&[u8]>> = pieces.iter().map(|p| p.expect(OCTETS)).collect();
        push(out, OCTETS, &bodies?);
    } else {
        push(out, tag, &[&inner]);
    }
    Some(at)
}

/// What an implicit `[0]` OCTET STRING holds, in one piece or several.
pub(crate) fn implicit_octets(t: &Tlv<'_>) -> Option<Zeroizing<Vec<u8>>> {
    match t.tag {
        0x80 => Some(Zeroizing::new(t.body.to_vec())),
        FIRST => {
            let mut out = Zeroizing::new(Vec::new());
            for piece in t.inside()? {
                out.extend_from_slice(piece.expect(OCTETS)?);
            }
            Some(out)
        }
        _ => None,
    }
}

/// One element of DER.
pub(crate) fn write(tag: u8, parts: &[&[u8]]) -> Zeroizing<Vec<u8>> {
    let mut out = Zeroizing::new(Vec::with_capacity(parts.iter().map(|p| p.len()).sum::<usize>() + 6));
    push(&mut out, tag, parts);
    out
}

/// A whole number as an INTEGER.
pub(crate) fn integer(n: u32) -> Zeroizing<Vec<u8>> {
    let bytes = n.to_be_bytes();
    let skip = bytes.iter().take(3).take_while(|b| **b == 0).count();
    let sign: &[u8] = if bytes[skip] & 0x80 == 0 { &[] } else { &[0] };
    write(INTEGER, &[sign, &bytes[skip..]])
}

fn push(out: &mut Vec<u8>, tag: u8, parts: &[&[u8]]) {
    let length: usize = parts.iter().map(|p| p.len()).sum();
    out.push(tag);
    if length < 0x80 {
        out.push(length as u8);
    } else {
        let digits = length.to_be_bytes();
        let skip = digits.iter().take_while(|b| **b == 0).count();
        out.push(0x80 | (digits.len() - skip) as u8);
        out.extend_from_slice(&digits[skip..]);
    }
    for part in parts {
        out.extend_from_slice(part);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_definite_becomes_definite() {
        // SEQUENCE { OCTET STRING in two pieces, [0] { INTEGER } } with lengths that end at a mark.
        let ber = [0x30, 0x80, 0x24, 0x80, 4, 1, 7, 4, 2, 8, 9, 0, 0, 0xa0, 0x80, 2, 1, 3, 0, 0, 0, 0];
        assert_eq!(*to_der(&ber).unwrap(), [0x30, 10, 4, 3, 7, 8, 9, 0xa0, 3, 2, 1, 3]);
        let long = write(OCTETS, &[&[5; 300]]);
        assert_eq!(to_der(&long).unwrap(), long);
        for bad in [&ber[..ber.len() - 2], &[0x30, 0x05, 1][..], &[0x1f, 0x81, 1, 0], &[0x80]] {
            assert!(to_der(bad).is_none());
        }
        assert!(to_der(&[0x30, 0x80].repeat(100)).is_none(), "nested without an end");
    }

    #[test]
    fn numbers() {
        for n in [0, 1, 127, 128, 255, 256, 2048, 600_000, u32::MAX] {
            assert_eq!(one(&integer(n)).unwrap().number(), Some(n));
        }
        assert_eq!(one(&[2, 1, 0x80]).unwrap().number(), None);
    }
}
