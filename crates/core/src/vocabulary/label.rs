//! Labels: the short words by which a person calls authorities and certificates.

use crate::error::{Error, Result};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// `[a-z0-9._-]`, no leading dot, at most 200 characters: safe as a file name everywhere.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Label(String);

impl Label {
    /// A label made from any text: what is not allowed becomes a hyphen.
    ///
    /// ```
    /// use tamga_core::vocabulary::label::Label;
    ///
    /// assert_eq!(Label::from_text("Tide Gauge 7")?.as_str(), "tide-gauge-7");
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn from_text(text: &str) -> Result<Label> {
        let mapped: String = text
            .to_lowercase()
            .chars()
            .map(|c| if c.is_ascii() && allowed(c as u8) { c } else { '-' })
            .take(200)
            .collect();
        Label::from_str(mapped.trim_start_matches(['.', '-']))
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::str::FromStr for Label {
    type Err = Error;

    /// Checks a label as typed.
    ///
    /// ```
    /// use tamga_core::vocabulary::label::Label;
    ///
    /// assert_eq!("charts.saltmarsh.test".parse::<Label>()?.as_str(), "charts.saltmarsh.test");
    /// assert!("../charts".parse::<Label>().is_err());
    /// assert!("--yes".parse::<Label>().is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    fn from_str(typed: &str) -> Result<Label> {
        let why = if typed.is_empty() {
            "it is empty"
        } else if typed.starts_with('.') {
            "it starts with a dot"
        } else if typed.starts_with('-') {
            "it starts with a hyphen, like an option"
        } else if typed.len() > 200 {
            "it is longer than 200 characters"
        } else if !typed.bytes().all(allowed) {
            "only a-z, 0-9, dot, hyphen and underscore are allowed"
        } else {
            return Ok(Label(typed.to_owned()));
        };
        Err(Error::Name {
            typed: typed.to_owned(),
            why: format!("as a label: {why}"),
            instead: "choose a label such as saltmarsh or charts.saltmarsh.test".into(),
        })
    }
}

fn allowed(b: u8) -> bool {
    b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'.' | b'_' | b'-')
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Label {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Label".into()
    }
    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        String::json_schema(generator)
    }
    fn inline_schema() -> bool {
        true
    }
}

impl AsRef<std::path::Path> for Label {
    fn as_ref(&self) -> &std::path::Path {
        std::path::Path::new(&self.0)
    }
}

impl PartialEq<Label> for str {
    fn eq(&self, other: &Label) -> bool {
        self == other.0
    }
}

impl PartialEq<Label> for &str {
    fn eq(&self, other: &Label) -> bool {
        *self == other.0
    }
}

impl std::ops::Deref for Label {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl std::borrow::Borrow<str> for Label {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl PartialEq<str> for Label {
    fn eq(&self, other: &str) -> bool {
        self.0 == other
    }
}

impl PartialEq<&str> for Label {
    fn eq(&self, other: &&str) -> bool {
        self.0 == *other
    }
}

impl fmt::Display for Label {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl TryFrom<String> for Label {
    type Error = Error;
    fn try_from(s: String) -> Result<Label> {
        Label::from_str(&s)
    }
}

impl From<&Label> for String {
    fn from(l: &Label) -> String {
        l.0.clone()
    }
}

impl From<Label> for String {
    fn from(l: Label) -> String {
        l.0
    }
}
