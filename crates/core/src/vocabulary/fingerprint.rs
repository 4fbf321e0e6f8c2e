//! The fingerprint by which a certificate, a request, a key or a revocation list is identified.

use super::text::harmless;
use crate::error::{Error, Result};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::fmt;
use std::str::FromStr;

/// SHA-256 of a DER encoding, as 64 lower-case hex digits.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Sha256Fingerprint([u8; 64]);

impl Sha256Fingerprint {
    /// That of a DER encoding.
    ///
    /// ```
    /// use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
    ///
    /// assert!(Sha256Fingerprint::of(b"abc").starts_with("ba7816bf8f01cfea"));
    /// ```
    pub fn of(der: &[u8]) -> Sha256Fingerprint {
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut out = [b'0'; 64];
        for (pair, byte) in out.chunks_exact_mut(2).zip(Sha256::digest(der)) {
            pair.copy_from_slice(&[DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]);
        }
        Sha256Fingerprint(out)
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        // Only hex digits are ever written into it.
        std::str::from_utf8(&self.0).unwrap_or_default()
    }

    /// The first eight digits, for names and narrow tables.
    pub fn short(&self) -> &str {
        &self.as_str()[..8]
    }
}

impl FromStr for Sha256Fingerprint {
    type Err = Error;

    /// Reads 64 hex digits, however they are set apart.
    ///
    /// ```
    /// use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
    ///
    /// let typed = ["BA:78", "16BF 8F01 CFEA 4141 40DE 5DAE 2223 B003-61A3 9617 7A9C B410 FF61 F200 15AD"].join(":");
    /// assert_eq!(typed.parse::<Sha256Fingerprint>()?, Sha256Fingerprint::of(b"abc"));
    /// assert!("ba7816bf".parse::<Sha256Fingerprint>().is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    fn from_str(typed: &str) -> Result<Sha256Fingerprint> {
        // As a ledger has it; a list reads a million of them.
        if let Ok(found) = <[u8; 64]>::try_from(typed.as_bytes())
            && found.iter().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(b))
        {
            return Ok(Sha256Fingerprint(found));
        }
        // Colons, spaces and the invisible mark that a console puts before a copied line do not matter.
        let digits: Option<Vec<u8>> = typed
            .chars()
            .filter(|c| c.is_alphanumeric())
            .take(65)
            .map(|c| c.is_ascii_hexdigit().then_some(c.to_ascii_lowercase() as u8))
            .collect();
        match digits.map(<[u8; 64]>::try_from) {
            Some(Ok(found)) => Ok(Sha256Fingerprint(found)),
            _ => Err(Error::Word {
                what: "SHA-256 fingerprint",
                typed: harmless(typed),
                accepted: "all 64 hex digits, with or without colons".into(),
            }),
        }
    }
}

impl std::ops::Deref for Sha256Fingerprint {
    type Target = str;

    fn deref(&self) -> &str {
        self.as_str()
    }
}

impl PartialEq<str> for Sha256Fingerprint {
    fn eq(&self, other: &str) -> bool {
        self.as_str() == other
    }
}

impl fmt::Display for Sha256Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl fmt::Debug for Sha256Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

impl TryFrom<String> for Sha256Fingerprint {
    type Error = Error;

    fn try_from(s: String) -> Result<Sha256Fingerprint> {
        s.parse()
    }
}

impl From<Sha256Fingerprint> for String {
    fn from(f: Sha256Fingerprint) -> String {
        f.as_str().to_owned()
    }
}

#[cfg(feature = "schema")]
impl schemars::JsonSchema for Sha256Fingerprint {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Sha256Fingerprint".into()
    }
    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "pattern": "^[0-9a-f]{64}$" })
    }
    fn inline_schema() -> bool {
        true
    }
}
