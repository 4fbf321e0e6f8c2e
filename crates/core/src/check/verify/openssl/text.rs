//! Names as OpenSSL compares them.

use crate::check::verify::parts;

/// A name as it is compared: text in UTF-8, lower case in ASCII, white space folded; what is no text stays as it is.
pub fn canonical(name: &[u8]) -> Vec<u8> {
    let Some(all) = parts::attributes(name) else { return name.to_vec() };
    let mut out = Vec::new();
    for (rdn, kind, tag, octets) in all {
        // Where one RDN ends and the next begins is part of the name.
        out.extend([0xff, u8::try_from(rdn % 251).unwrap_or(0)]);
        out.extend(&kind);
        match parts::text(tag, &octets) {
            Some(text) => {
                let folded = text.split([' ', '\t', '\n', '\u{b}', '\u{c}', '\r']).filter(|w| !w.is_empty());
                out.push(0x0c);
                out.extend(folded.collect::<Vec<_>>().join(" ").to_ascii_lowercase().into_bytes());
            }
            None => {
                out.push(tag);
                out.extend(octets);
            }
        }
    }
    out
}

/// True if the text of a name cannot be read, which makes the whole certificate unreadable.
pub fn is_unreadable(name: &[u8]) -> bool {
    let unreadable = |(_, _, tag, octets): &(usize, Vec<u8>, u8, Vec<u8>)| {
        matches!(tag, 0x0c | 0x1e | 0x1c) && parts::text(*tag, octets).is_none()
    };
    parts::attributes(name).is_none_or(|all| all.iter().any(unreadable))
}
