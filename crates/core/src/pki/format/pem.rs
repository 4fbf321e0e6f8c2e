//! PEM (RFC 7468): strict when written, tolerant when read.

use base64ct::{Base64, Encoding};
use zeroize::Zeroizing;

/// One object of a PEM file.
#[derive(Clone)]
pub struct Block {
    /// The word between the dashes, such as `CERTIFICATE`.
    pub label: String,
    /// The bytes; wiped when dropped, since they may be a key.
    pub der: Zeroizing<Vec<u8>>,
    /// Headers such as `DEK-Info`, in order (RFC 1421 §4.6).
    pub headers: Vec<(String, String)>,
}

/// The label of certificates.
pub const CERTIFICATE: &str = "CERTIFICATE";
/// The label of certificate requests.
pub const REQUEST: &str = "CERTIFICATE REQUEST";
/// The label of revocation lists.
pub const CRL: &str = "X509 CRL";

/// Writes one object in lines of 64 columns.
pub fn write(label: &str, der: &[u8]) -> Zeroizing<String> {
    let text = Zeroizing::new(Base64::encode_string(der));
    let mut out = Zeroizing::new(String::with_capacity(text.len() + text.len() / 64 + 2 * label.len() + 40));
    out.push_str(&format!("-----BEGIN {label}-----\n"));
    let mut rest = text.as_str();
    while !rest.is_empty() {
        let (line, more) = rest.split_at(rest.len().min(64));
        out.push_str(line);
        out.push('\n');
        rest = more;
    }
    out.push_str(&format!("-----END {label}-----\n"));
    out
}

/// Reads every object of a file, in order. Other columns, CRLF, a byte-order mark, trailing spaces, headers and
/// text around are tolerated. An object whose base64 is broken or that never ends is passed over and counted.
///
/// ```
/// use tamga_core::pki::format::pem;
///
/// let file = format!("what a console put before it\n{}", *pem::write(pem::CERTIFICATE, &[0x30, 0]));
/// let (blocks, broken) = pem::read(file.as_bytes());
/// assert_eq!((blocks.len(), broken), (1, 0));
/// assert_eq!((blocks[0].label.as_str(), &blocks[0].der[..]), (pem::CERTIFICATE, &[0x30, 0][..]));
/// ```
pub fn read(bytes: &[u8]) -> (Vec<Block>, usize) {
    let text = String::from_utf8_lossy(bytes);
    let (mut blocks, mut broken) = (Vec::new(), 0);
    // Lines of the text itself: a key's is not copied while it grows.
    type Open<'a> = (String, Vec<&'a str>, Vec<(String, String)>);
    let mut open: Option<Open<'_>> = None;
    for line in text.trim_start_matches('\u{feff}').lines().map(str::trim) {
        if let Some(label) = line.strip_prefix("-----BEGIN ").and_then(|l| l.strip_suffix("-----")) {
            broken += usize::from(open.is_some());
            open = Some((label.to_owned(), Vec::new(), Vec::new()));
        } else if line.starts_with("-----END ") {
            match open.take().map(|(label, body, headers)| (label, decode(&body), headers)) {
                Some((label, Some(der), headers)) => blocks.push(Block { label, der, headers }),
                _ => broken += 1,
            }
        } else if let Some((_, body, headers)) = &mut open {
            match line.split_once(':') {
                Some((name, value)) => headers.push((name.trim().to_owned(), value.trim().to_owned())),
                None => body.push(line),
            }
        }
    }
    (blocks, broken + usize::from(open.is_some()))
}

fn decode(lines: &[&str]) -> Option<Zeroizing<Vec<u8>>> {
    let length: usize = lines.iter().map(|l| l.len()).sum();
    let mut packed = Zeroizing::new(String::with_capacity(length + 3));
    for line in lines {
        packed.extend(line.chars().filter(|c| !c.is_whitespace()));
    }
    while !packed.len().is_multiple_of(4) {
        packed.push('=');
    }
    Base64::decode_vec(&packed).map(Zeroizing::new).ok().filter(|d| !d.is_empty())
}

/// The DER of a text that is base64 alone, as consoles hand it out; None if it is anything else.
pub fn bare(text: &str) -> Option<Zeroizing<Vec<u8>>> {
    decode(&[text.trim()]).filter(|der| der.len() > 64 && der[0] == 0x30)
}

/// Every certificate's DER in a file that is PEM or a single DER object.
pub fn certificates(bytes: &[u8]) -> Vec<Vec<u8>> {
    if bytes.first() == Some(&0x30) {
        return vec![bytes.to_vec()];
    }
    read(bytes)
        .0
        .into_iter()
        .filter(|b| matches!(b.label.as_str(), CERTIFICATE | "X509 CERTIFICATE" | "TRUSTED CERTIFICATE"))
        .map(|b| b.der.to_vec())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn written_is_read_back() {
        for n in [1, 47, 48, 49, 500] {
            let der: Vec<u8> = (0..n).map(|i| (i % 251) as u8).collect();
            let text = write(CERTIFICATE, &der);
            assert!(text.lines().all(|l| l.len() <= 64));
            let (blocks, broken) = read(text.as_bytes());
            assert_eq!((blocks.len(), broken), (1, 0));
            assert_eq!(*blocks[0].der, der);
        }
    }

    #[test]
    fn odd_files_are_read() {
        let one_line = "\u{feff}Bag Attributes\r\n  friendlyName: x\r\n-----BEGIN CERTIFICATE-----\r\nMAMCAQE  \r\n-----END CERTIFICATE-----\r\nmore";
        assert_eq!(certificates(one_line.as_bytes()), [[0x30, 3, 2, 1, 1]]);
        let (blocks, broken) =
            read(b"-----BEGIN CERTIFICATE-----\n!!!\n-----END CERTIFICATE-----\n-----BEGIN X-----\nMAA=\n");
        assert_eq!((blocks.len(), broken), (0, 2));
    }
}
