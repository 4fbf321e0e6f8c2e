//! A question to a server (RFC 1035 section 4.1), with room for a larger answer (EDNS, RFC 6891).

use super::{INTERNET, RecordType, UDP_LIMIT, name};

/// A question as a message; `id` comes back in the answer. None for what is no name.
///
/// Recursion is asked for: a lab's server may know a name only by asking another.
pub fn question(id: u16, domain: &str, kind: RecordType) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(64);
    out.extend(id.to_be_bytes());
    // Recursion desired; one question, one additional record.
    out.extend([0x01, 0x00, 0, 1, 0, 0, 0, 0, 0, 1]);
    out.extend(name::written(domain)?);
    out.extend(kind.number().to_be_bytes());
    out.extend(INTERNET.to_be_bytes());
    // The pseudo-record OPT: root, type 41, the size that we take as its class.
    out.extend([0, 0, 41]);
    out.extend(UDP_LIMIT.to_be_bytes());
    out.extend([0; 6]);
    Some(out)
}
