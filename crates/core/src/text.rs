//! Text from certificates, servers and logs, made harmless before anyone sees it.

/// Escapes control, escape and direction characters as `\u{…}`; everything else stays.
pub fn harmless(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        let unsafe_to_show = c.is_control()
            || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}' | '\u{061c}')
            || ('\u{e0000}'..='\u{e007f}').contains(&c);
        if unsafe_to_show {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
    }
    out
}

/// At most `most` characters, with an ellipsis where something was cut.
pub fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most {
        return text.to_owned();
    }
    let mut out: String = text.chars().take(most.saturating_sub(1)).collect();
    out.push('…');
    out
}

/// Lower-case hex without separators.
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
    }

    #[test]
    fn cutting_counts_characters() {
        assert_eq!(cut("äöü", 3), "äöü");
        assert_eq!(cut("äöüß", 3), "äö…");
    }
}
