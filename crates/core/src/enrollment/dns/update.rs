//! Updates of a zone (RFC 2136): TXT records put in and taken out.

use super::{ANY, INTERNET, NONE, RecordType, name};

/// One change of a zone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// A TXT record more, with its time to live in seconds.
    AddText {
        /// Whose.
        owner: String,
        /// Its text, at most 255 octets.
        text: Vec<u8>,
        /// Seconds.
        ttl: u32,
    },
    /// This TXT record less; others of the same name stay.
    RemoveText {
        /// Whose.
        owner: String,
        /// Its text.
        text: Vec<u8>,
    },
    /// No TXT record of that name.
    RemoveAllTexts {
        /// Whose.
        owner: String,
    },
}

/// An update of a zone as a message, still without a signature. None where a name is none, or a text too long.
pub fn update(id: u16, zone: &str, changes: &[Change]) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(256);
    out.extend(id.to_be_bytes());
    // Opcode 5; one zone, no prerequisites.
    out.extend([0x28, 0x00, 0, 1, 0, 0]);
    out.extend(u16::try_from(changes.len()).ok()?.to_be_bytes());
    out.extend([0, 0]);
    out.extend(name::written(zone)?);
    out.extend(RecordType::Soa.number().to_be_bytes());
    out.extend(INTERNET.to_be_bytes());
    for change in changes {
        let (owner, class, ttl, text) = match change {
            Change::AddText { owner, text, ttl } => (owner, INTERNET, *ttl, Some(text)),
            Change::RemoveText { owner, text } => (owner, NONE, 0, Some(text)),
            Change::RemoveAllTexts { owner } => (owner, ANY, 0, None),
        };
        out.extend(name::written(owner)?);
        out.extend(RecordType::Txt.number().to_be_bytes());
        out.extend(class.to_be_bytes());
        out.extend(ttl.to_be_bytes());
        match text {
            Some(text) => {
                let length = u8::try_from(text.len()).ok()?;
                out.extend((u16::from(length) + 1).to_be_bytes());
                out.push(length);
                out.extend(text);
            }
            None => out.extend([0, 0]),
        }
    }
    Some(out)
}

/// What a code of an answer to an update means (RFC 2136 section 2.2, RFC 8945 section 3).
pub fn meaning(code: u8) -> &'static str {
    match code {
        0 => "done",
        1 => "the server does not understand the update",
        2 => "the server failed",
        3 => "a name that must exist does not",
        4 => "the server takes no updates",
        5 => "the server refuses: this key may not change that record",
        9 => "the server does not take the signature: the key, its name or the clock is another",
        10 => "the name is not in that zone",
        _ => "the server refuses, for a reason of its own",
    }
}
