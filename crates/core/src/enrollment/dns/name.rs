//! Domain names in messages (RFC 1035 section 3.1), with the compression of answers (section 4.1.4).

/// Upper bound on a name in octets (RFC 1035 section 2.3.4).
const LONGEST: usize = 255;
/// A name follows no more pointers: each leads further to the front.
const MOST_POINTERS: usize = 64;

/// A name as a message has it, without compression, in lower case. None for one that is too long, has an empty label, or one of more than
/// 63 octets.
pub fn written(name: &str) -> Option<Vec<u8>> {
    let name = name.strip_suffix('.').unwrap_or(name);
    let mut out = Vec::with_capacity(name.len() + 2);
    for label in name.split('.').filter(|_| !name.is_empty()) {
        let octets = label.as_bytes();
        if octets.is_empty() || octets.len() > 63 {
            return None;
        }
        out.push(octets.len() as u8);
        out.extend(octets.iter().map(u8::to_ascii_lowercase));
    }
    out.push(0);
    (out.len() <= LONGEST).then_some(out)
}

/// Reads a name; returns it in lower case without its last point, and where what follows it begins. None if it leads out of the message, in a
/// circle, or is too long.
pub fn read(message: &[u8], at: usize) -> Option<(String, usize)> {
    let (mut labels, mut length) = (Vec::new(), 1);
    let (mut here, mut end, mut pointers) = (at, None, 0);
    loop {
        let first = usize::from(*message.get(here)?);
        match first {
            0 => break,
            1..=63 => {
                let label = message.get(here + 1..here + 1 + first)?;
                length += first + 1;
                if length > LONGEST {
                    return None;
                }
                labels.push(label.iter().map(|b| escaped(*b)).collect::<String>());
                here += first + 1;
            }
            192..=255 => {
                let target = (first & 63) << 8 | usize::from(*message.get(here + 1)?);
                end.get_or_insert(here + 2);
                pointers += 1;
                // Only to the front: so it ends.
                if target >= here || pointers > MOST_POINTERS {
                    return None;
                }
                here = target;
            }
            _ => return None,
        }
    }
    Some((labels.join("."), end.unwrap_or(here + 1)))
}

/// An octet of a label as text: what is no letter, digit, hyphen or underscore as its number (RFC 1035 section 5.1).
fn escaped(octet: u8) -> String {
    match octet {
        b'a'..=b'z' | b'0'..=b'9' | b'-' | b'_' | b'*' => char::from(octet).to_string(),
        b'A'..=b'Z' => char::from(octet.to_ascii_lowercase()).to_string(),
        other => format!("\\{other:03}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_of_every_shape() {
        assert_eq!(written("Charts.Test."), Some(b"\x06charts\x04test\x00".to_vec()));
        assert_eq!(written(""), Some(vec![0]));
        assert_eq!(written("a..test"), None);
        assert_eq!(written(&"a".repeat(64)), None);
        assert_eq!(written(&["a"; 128].join(".")), None);
        // RFC 1035 section 4.1.4: F.ISI.ARPA at 0, then FOO with a pointer to it.
        let message = b"\x01F\x03ISI\x04ARPA\x00\x03FOO\xc0\x00\xff";
        assert_eq!(read(message, 0), Some(("f.isi.arpa".into(), 12)));
        assert_eq!(read(message, 12), Some(("foo.f.isi.arpa".into(), 18)));
        // To itself, further on, out of it, of the two reserved kinds.
        for wrong in
            [&b"\xc0\x00"[..], b"\xc0\x02\x01a\x00", b"\xc0\x40", b"\x40", b"\x80\x00", b"\x05ab", b"\x01a", b""]
        {
            assert_eq!(read(wrong, 0), None, "{wrong:?}");
        }
        assert_eq!(read(b"\x02a.\x00", 0).map(|n| n.0), Some("a\\046".into()));
    }

    proptest! {
        #[test]
        fn what_is_written_is_read(labels in proptest::collection::vec("[a-z0-9_-]{1,63}", 0..8)) {
            let name = labels.join(".");
            if let Some(octets) = written(&name) {
                prop_assert_eq!(read(&octets, 0), Some((name, octets.len())));
            }
        }

        #[test]
        fn any_octets_end(message in proptest::collection::vec(any::<u8>(), 0..600), at in 0..600_usize) {
            if let Some((name, next)) = read(&message, at) {
                prop_assert!(next <= message.len() && name.len() <= 4 * LONGEST);
            }
        }
    }
}
