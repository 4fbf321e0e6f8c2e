//! Templates: `{word}` is replaced by a value, and a line that begins with `?flag ` or `!flag ` stands only where the flag
//! is set or not.

use std::collections::BTreeMap;

/// How a value is written inside a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Quote {
    /// As it is.
    Bare,
    /// As one word of a POSIX shell.
    Shell,
    /// In double quotes where it is more than one plain word, `\` and `"` escaped.
    Word,
    /// Inside double quotes that the template has, `\` and `"` escaped.
    Inside,
    /// Inside single quotes that the template has, `'` doubled.
    Single,
    /// As one word of PowerShell, a path with a drive written with `\`.
    PowerShell,
    /// Inside an XML attribute.
    Xml,
}

impl Quote {
    /// A value as it is written.
    pub fn quoted(self, value: &str) -> String {
        let plain = |c: char| c.is_alphanumeric() || "/._-:=@+,*[]%".contains(c);
        let escaped = || value.replace('\\', "\\\\").replace('"', "\\\"");
        match self {
            Quote::Bare => value.to_owned(),
            Quote::Shell
                if !value.is_empty() && value.chars().all(|c| plain(c) && c != '*' && c != '[' && c != ']') =>
            {
                value.to_owned()
            }
            Quote::Shell => format!("'{}'", value.replace('\'', "'\\''")),
            Quote::Word if value.chars().all(plain) => value.to_owned(),
            Quote::Word => format!("\"{}\"", escaped()),
            Quote::Inside => escaped(),
            Quote::Single => value.replace('\'', "''"),
            Quote::PowerShell => {
                let is_path = value.contains(":/") || value.starts_with("./");
                let value = if is_path { value.replace('/', "\\") } else { value.to_owned() };
                match !value.is_empty() && value.chars().all(|c| c.is_alphanumeric() || "\\._-:".contains(c)) {
                    true => value,
                    // Typographic quotes end a string there too.
                    false => {
                        let doubled = |c: char| match c {
                            '\'' | '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{201b}' => format!("{c}{c}"),
                            c => c.to_string(),
                        };
                        format!("'{}'", value.chars().map(doubled).collect::<String>())
                    }
                }
            }
            Quote::Xml => value.replace('&', "&amp;").replace('"', "&quot;").replace('<', "&lt;"),
        }
    }
}

/// What a template is filled with.
#[derive(Clone, Debug, Default)]
pub(super) struct Values {
    /// What is quoted as the file wants it: paths.
    pub quoted: BTreeMap<&'static str, String>,
    /// What is written as it is: numbers, host names, words of ours.
    pub bare: BTreeMap<&'static str, String>,
    /// The flags that are set.
    pub flags: Vec<&'static str>,
}

impl Values {
    /// Fills a template in. A word that is not known stays with its braces: configuration languages have braces too.
    pub(super) fn fill(&self, template: &str, quote: Quote) -> String {
        let mut out = String::new();
        for line in template.lines() {
            let Some(line) = self.chosen(line) else { continue };
            let mut rest = line;
            while let Some(at) = rest.find('{') {
                out.push_str(&rest[..at]);
                let after = &rest[at + 1..];
                let word = after.split('}').next().unwrap_or_default();
                match (self.quoted.get(word), self.bare.get(word)) {
                    (Some(value), _) => out.push_str(&quote.quoted(value)),
                    (None, Some(value)) => out.push_str(value),
                    (None, None) => {
                        out.push('{');
                        rest = after;
                        continue;
                    }
                }
                rest = &after[word.len() + 1..];
            }
            out.push_str(rest);
            out.push('\n');
        }
        out
    }

    /// A line without its conditions, if they hold.
    fn chosen<'a>(&self, line: &'a str) -> Option<&'a str> {
        let mut line = line;
        while let Some(mark @ (b'?' | b'!')) = line.bytes().next() {
            let (flag, rest) = line[1..].split_once(' ').unwrap_or((&line[1..], ""));
            if flag.is_empty() || !flag.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit()) {
                break;
            }
            if self.flags.contains(&flag) != (mark == b'?') {
                return None;
            }
            line = rest;
        }
        Some(line)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_quoted_conditions_hold_and_other_braces_stay() {
        let values = Values {
            quoted: [("key", "/my lab/key.pem".to_owned())].into(),
            bare: [("port", "8443".to_owned())].into(),
            flags: vec!["redirect"],
        };
        let text = "a {key};\n?redirect b {port}\n!redirect c\n?clients d\nserver { {none} }\n?redirect !clients e";
        assert_eq!(values.fill(text, Quote::Word), "a \"/my lab/key.pem\";\nb 8443\nserver { {none} }\ne\n");
        assert!(values.fill("{key}", Quote::Shell).starts_with("'/my lab"));
        assert_eq!(Quote::Shell.quoted("it's"), "'it'\\''s'");
        assert_eq!((Quote::Single.quoted("it's"), Quote::Xml.quoted("a\"&")), ("it''s".into(), "a&quot;&amp;".into()));
        assert_eq!(Quote::Inside.quoted("C:\\a"), "C:\\\\a");
    }
}
