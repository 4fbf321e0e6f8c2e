//! An answer of a server (RFC 1035 section 4.1), read from anybody: bounded, and only what was asked.

use super::{INTERNET, RecordType, name};
use std::net::IpAddr;

/// Upper bound on the records that are read of one answer.
const MOST_RECORDS: usize = 512;
/// A chain of other names is followed no further.
const MOST_ALIASES: usize = 8;

/// What a server answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// The code of RFC 1035 section 4.1.1 and RFC 2136 section 2.2: 0 all is well, 3 no such name.
    pub code: u8,
    /// True if there is more than fitted: to be asked again over TCP.
    pub truncated: bool,
    /// What it says of the name, other names followed.
    pub records: Vec<Record>,
    /// The zone that the name is in, where a start of authority was asked for.
    pub zone: Option<String>,
}

/// One record of the type that was asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Record {
    /// An address.
    Address(IpAddr),
    /// The texts of a TXT record, put together (RFC 7208 section 3.3 does the same).
    Text(Vec<u8>),
    /// A CAA record (RFC 8659 section 4.1).
    Caa {
        /// True if one who does not know the tag must not issue.
        critical: bool,
        /// `issue`, `issuewild` and others, in lower case.
        tag: String,
        /// Its value.
        value: Vec<u8>,
    },
    /// The first server of the zone that the name is in.
    Primary(String),
}

/// Why a message is no answer to a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoAnswer {
    /// It is to another question.
    #[error("it answers another question")]
    Other,
    /// It does not parse.
    #[error("it does not parse (RFC 1035 section 4.1)")]
    Form,
}

struct Raw<'a> {
    owner: String,
    kind: u16,
    class: u16,
    data: &'a [u8],
    at: usize,
}

/// Reads a message as the answer to a question.
///
/// Errors: it is to another question (so it may be somebody else's, and the right one may still come), or does not parse.
pub fn read(message: &[u8], id: u16, domain: &str, kind: RecordType) -> Result<Answer, NoAnswer> {
    let word = |at: usize| message.get(at..at + 2).map(|b| u16::from_be_bytes([b[0], b[1]])).ok_or(NoAnswer::Form);
    if word(0)? != id || word(2)? & 0x8000 == 0 {
        return Err(NoAnswer::Other);
    }
    let flags = word(2)?;
    if word(4)? != 1 {
        return Err(NoAnswer::Form);
    }
    let (asked, at) = name::read(message, 12).ok_or(NoAnswer::Form)?;
    let wanted = domain.strip_suffix('.').unwrap_or(domain).to_ascii_lowercase();
    if asked != wanted || word(at)? != kind.number() || word(at + 2)? != INTERNET {
        return Err(NoAnswer::Other);
    }
    let (answers, authority) = (usize::from(word(6)?), usize::from(word(8)?));
    let mut at = at + 4;
    let mut all = Vec::new();
    // Of a name without the record the zone's start is beside the answer.
    let counted = if kind == RecordType::Soa { answers + authority } else { answers };
    let truncated = flags & 0x0200 != 0;
    for _ in 0..counted.min(MOST_RECORDS) {
        match record(message, at) {
            Some((raw, next)) => {
                all.push(raw);
                at = next;
            }
            // What did not fit is cut off anywhere.
            None if truncated => break,
            None => return Err(NoAnswer::Form),
        }
    }
    let records = followed(message, &all, wanted, kind).ok_or(NoAnswer::Form)?;
    let zone = all.iter().find(|r| kind == RecordType::Soa && r.kind == kind.number()).map(|r| r.owner.clone());
    Ok(Answer { code: (flags & 0x000f) as u8, truncated, records, zone })
}

/// The code of an answer to an update; None if it is none (RFC 2136 section 3.8).
pub fn code(message: &[u8], id: u16) -> Option<u8> {
    let head = message.get(..4)?;
    (head[..2] == id.to_be_bytes() && head[2] & 0x80 != 0).then(|| head[3] & 0x0f)
}

fn record(message: &[u8], at: usize) -> Option<(Raw<'_>, usize)> {
    let (owner, at) = name::read(message, at)?;
    let head = message.get(at..at + 10)?;
    let length = usize::from(u16::from_be_bytes([head[8], head[9]]));
    let data = message.get(at + 10..at + 10 + length)?;
    let kind = u16::from_be_bytes([head[0], head[1]]);
    let class = u16::from_be_bytes([head[2], head[3]]);
    Some((Raw { owner, kind, class, data, at: at + 10 }, at + 10 + length))
}

/// The records of a name, or of the name that it is another name for. None if one of them does not parse.
fn followed(message: &[u8], all: &[Raw<'_>], mut owner: String, kind: RecordType) -> Option<Vec<Record>> {
    let alias = |owner: &str| all.iter().find(|r| r.kind == RecordType::Cname.number() && r.owner == owner);
    for _ in 0..MOST_ALIASES {
        match alias(&owner) {
            Some(r) if kind != RecordType::Soa => owner = name::read(message, r.at)?.0,
            _ => break,
        }
    }
    let is_asked =
        |r: &&Raw<'_>| r.class == INTERNET && r.kind == kind.number() && (kind == RecordType::Soa || r.owner == owner);
    all.iter().filter(is_asked).map(|r| parsed(message, r, kind)).collect()
}

fn parsed(message: &[u8], raw: &Raw<'_>, kind: RecordType) -> Option<Record> {
    Some(match kind {
        RecordType::A => Record::Address(IpAddr::from(<[u8; 4]>::try_from(raw.data).ok()?)),
        RecordType::Aaaa => Record::Address(IpAddr::from(<[u8; 16]>::try_from(raw.data).ok()?)),
        RecordType::Txt => {
            let (mut text, mut rest) = (Vec::new(), raw.data);
            while let Some((length, more)) = rest.split_first() {
                text.extend(more.get(..usize::from(*length))?);
                rest = &more[usize::from(*length)..];
            }
            Record::Text(text)
        }
        RecordType::Caa => {
            let (flags, length) = (*raw.data.first()?, usize::from(*raw.data.get(1)?));
            let tag = std::str::from_utf8(raw.data.get(2..2 + length)?).ok()?.to_ascii_lowercase();
            Record::Caa { critical: flags & 0x80 != 0, tag, value: raw.data[2 + length..].to_vec() }
        }
        RecordType::Soa | RecordType::Cname => Record::Primary(name::read(message, raw.at)?.0),
    })
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::super::question::question;
    use super::*;
    use proptest::prelude::*;

    /// The answer to our own question, with these records: owner as a pointer to the question's name, type, data.
    fn message(domain: &str, kind: RecordType, flags: [u8; 2], records: &[(&[u8], u16, Vec<u8>)]) -> Vec<u8> {
        let mut out = question(7, domain, kind).unwrap();
        out.truncate(out.len() - 11);
        out[2..4].copy_from_slice(&flags);
        out[6..8].copy_from_slice(&(records.len() as u16).to_be_bytes());
        out[10..12].copy_from_slice(&[0, 0]);
        for (owner, number, data) in records {
            out.extend(*owner);
            out.extend(number.to_be_bytes());
            out.extend([0, 1, 0, 0, 0, 1]);
            out.extend((data.len() as u16).to_be_bytes());
            out.extend(data);
        }
        out
    }

    const SAME: &[u8] = &[0xc0, 12];

    #[test]
    fn records_are_read_and_other_names_followed() {
        let domain = "_acme-challenge.charts.saltmarsh.test";
        let texts = [(SAME, 16, b"\x03abc\x02de".to_vec()), (SAME, 16, b"\x01x".to_vec())];
        let answer = read(&message(domain, RecordType::Txt, [0x85, 0x80], &texts), 7, domain, RecordType::Txt).unwrap();
        assert_eq!((answer.code, answer.truncated), (0, false));
        assert_eq!(answer.records, [Record::Text(b"abcde".to_vec()), Record::Text(b"x".to_vec())]);

        let target = name::written("elsewhere.test").unwrap();
        let aliased = [(SAME, 5, target.clone()), (&target[..], 1, vec![192, 168, 7, 7]), (SAME, 1, vec![10, 0, 0, 1])];
        let answer =
            read(&message("a.test", RecordType::A, [0x81, 0x80], &aliased), 7, "A.test.", RecordType::A).unwrap();
        assert_eq!(answer.records, [Record::Address("192.168.7.7".parse().unwrap())]);

        let caa = [(SAME, 257, b"\x80\x05Issuesaltmarsh.test".to_vec())];
        let answer =
            read(&message("a.test", RecordType::Caa, [0x81, 0x80], &caa), 7, "a.test", RecordType::Caa).unwrap();
        let wanted = Record::Caa { critical: true, tag: "issue".into(), value: b"saltmarsh.test".to_vec() };
        assert_eq!(answer.records, [wanted]);

        let none = read(&message("a.test", RecordType::A, [0x81, 0x83], &[]), 7, "a.test", RecordType::A).unwrap();
        assert_eq!((none.code, none.records.len()), (3, 0));
    }

    #[test]
    fn what_was_not_asked_is_no_answer() {
        let good = message("a.test", RecordType::A, [0x81, 0x80], &[(SAME, 1, vec![10, 0, 0, 1])]);
        let of = |m: &[u8], id, domain, kind| read(m, id, domain, kind).unwrap_err();
        assert_eq!(of(&good, 8, "a.test", RecordType::A), NoAnswer::Other);
        assert_eq!(of(&good, 7, "b.test", RecordType::A), NoAnswer::Other);
        assert_eq!(of(&good, 7, "a.test", RecordType::Txt), NoAnswer::Other);
        let asking = message("a.test", RecordType::A, [0x01, 0x00], &[]);
        assert_eq!(of(&asking, 7, "a.test", RecordType::A), NoAnswer::Other);
        assert_eq!(of(&good[..good.len() - 1], 7, "a.test", RecordType::A), NoAnswer::Form);
        // Cut off, it says so; what was whole counts.
        let mut cut = good.clone();
        cut[2] |= 0x02;
        cut[7] = 2;
        let answer = read(&cut, 7, "a.test", RecordType::A).unwrap();
        assert!(answer.truncated && answer.records.len() == 1);
        // A circle of other names ends.
        let own = name::written("a.test").unwrap();
        let circle = message("a.test", RecordType::A, [0x81, 0x80], &[(SAME, 5, own)]);
        assert_eq!(read(&circle, 7, "a.test", RecordType::A).unwrap().records, []);
    }

    proptest! {
        #[test]
        fn any_octets_are_an_answer_or_none(tail in proptest::collection::vec(any::<u8>(), 0..400), kind in 0..6_usize) {
            let kind = RecordType::ALL[kind];
            let mut message = message("a.test", kind, [0x81, 0x80], &[]);
            message[7] = 3;
            message.extend(tail);
            let _ = read(&message, 7, "a.test", kind);
            let _ = read(&message[12..], 7, "a.test", kind);
        }
    }
}
