//! Text from certificates, servers and logs, made harmless before anyone sees it.

use std::fmt;
use std::path::Path;

/// True for a character that would steer a terminal or a reading direction, or would not be seen: control characters (Cc), format
/// characters (Cf), line and paragraph separators (Zl, Zp), tags (Unicode 16, UnicodeData.txt).
pub fn is_unsafe_to_show(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{600}'..='\u{605}' | '\u{61c}' | '\u{6dd}' | '\u{70f}' | '\u{890}'..='\u{891}' | '\u{8e2}' | '\u{180e}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}'
            | '\u{110bd}' | '\u{110cd}' | '\u{13430}'..='\u{1343f}' | '\u{1bca0}'..='\u{1bca3}' | '\u{1d173}'..='\u{1d17a}'
            | '\u{e0000}'..='\u{e007f}')
}

/// Escapes control, escape, direction and format characters as `\u{…}`; everything else stays.
///
/// ```
/// use tamga_core::vocabulary::text::harmless;
///
/// assert_eq!(harmless("charts"), "charts");
/// assert!(!harmless("charts\u{1b}[31m").contains('\u{1b}'), "no text from outside colours a terminal");
/// ```
pub fn harmless(text: &str) -> String {
    // Nearly every text is plain: a list has a million of them.
    if text.bytes().all(|b| matches!(b, b' '..=b'~')) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unsafe_to_show(c) {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
    }
    out
}

/// Text from outside: a server's greeting, a file name, a member of an archive. It can only be shown escaped.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Untrusted(Box<str>);

impl Untrusted {
    /// Bytes that claim to be text; what is not UTF-8 becomes U+FFFD.
    pub fn from_bytes(bytes: &[u8]) -> Untrusted {
        Untrusted(String::from_utf8_lossy(bytes).into())
    }

    /// The text as it came, for comparing; never for showing.
    pub fn as_received(&self) -> &str {
        &self.0
    }
}

impl<T: Into<Box<str>>> From<T> for Untrusted {
    fn from(text: T) -> Untrusted {
        Untrusted(text.into())
    }
}

impl fmt::Display for Untrusted {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&harmless(&self.0))
    }
}

/// A path as a person may read it.
pub trait Shown {
    /// Escapes what would steer a terminal as `\u{…}`, and bytes that are not UTF-8 as `\xHH`.
    fn shown(&self) -> String;
}

impl<T: AsRef<Path> + ?Sized> Shown for T {
    fn shown(&self) -> String {
        let mut out = String::new();
        for chunk in self.as_ref().as_os_str().as_encoded_bytes().utf8_chunks() {
            out.push_str(&harmless(chunk.valid()));
            for byte in chunk.invalid() {
                out.push_str(&format!("\\x{byte:02x}"));
            }
        }
        out
    }
}

/// At most `most` characters, with an ellipsis where something was cut.
///
/// ```
/// assert_eq!(tamga_core::vocabulary::text::cut("tide gauge", 5), "tide…");
/// ```
pub fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let mut out: String = text.chars().take(most.saturating_sub(1)).collect();
    out.push('…');
    out
}

/// The word that was probably meant by one that is not known; None if none is near (Damerau-Levenshtein distance of at most 2, and less
/// than half of the word).
///
/// ```
/// use tamga_core::vocabulary::text::nearest;
///
/// assert_eq!(nearest("firefx", ["chromium", "firefox"].into_iter()), Some("firefox"));
/// assert_eq!(nearest("netscape", ["chromium", "firefox"].into_iter()), None);
/// ```
pub fn nearest<'a>(typed: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let near = |word: &'a str| {
        let distance = strsim::damerau_levenshtein(&typed.to_lowercase(), &word.to_lowercase());
        (distance <= 2 && distance * 2 < word.chars().count()).then_some((distance, word))
    };
    known.filter_map(near).min().map(|(_, word)| word)
}

/// Lower-case hex without separators.
///
/// ```
/// assert_eq!(tamga_core::vocabulary::text::hex(&[0, 0xab]), "00ab");
/// ```
pub fn hex(bytes: &[u8]) -> String {
    use std::fmt::Write;
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut s, b| {
        let _ = write!(s, "{b:02x}");
        s
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn escape_and_direction_characters_are_shown_not_obeyed() {
        assert_eq!(harmless("a\x1b[31mb"), "a\\u{1b}[31mb");
        assert_eq!(harmless("a\u{202e}b\nc"), "a\\u{202e}b\\u{a}c");
        assert_eq!(harmless("Gezeiten-Ü 7"), "Gezeiten-Ü 7");
        for c in ['\u{ad}', '\u{206a}', '\u{206f}', '\u{fff9}', '\u{2066}', '\u{e0041}', '\u{7f}', '\u{9b}'] {
            assert!(harmless(&c.to_string()).starts_with("\\u{"), "{}", c.escape_unicode());
        }
        assert_eq!(Untrusted::from_bytes(b"220 hello\x1b]0;x\x07").to_string(), "220 hello\\u{1b}]0;x\\u{7}");
    }

    #[cfg(unix)]
    #[test]
    fn every_byte_of_a_path_is_shown() {
        use std::os::unix::ffi::OsStrExt;
        let path = Path::new(std::ffi::OsStr::from_bytes(b"/lab/\xff\xfe\x1b[2J/k\xc3\xbcste"));
        assert_eq!(path.shown(), "/lab/\\xff\\xfe\\u{1b}[2J/küste");
    }

    #[test]
    fn cutting_counts_characters() {
        assert_eq!(cut("äöü", 3), "äöü");
        assert_eq!(cut("äöüß", 3), "äö…");
    }
}
