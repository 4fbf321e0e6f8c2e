//! Paths as the ledger and the journal hold them: any bytes that the platform allows, in text.
//!
//! A path that is UTF-8 is stored as it is. Another one, which is rare, as `BYTES` and the hex of its bytes; recorded paths are
//! absolute, so that no path begins like that.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::path::{Path, PathBuf};
use tamga_core::vocabulary::text::hex;

/// What the text of a path that is not UTF-8 begins with.
const BYTES: &str = "bytes:";

/// The text of a path.
pub fn stored(path: &Path) -> String {
    match path.to_str() {
        Some(text) => text.to_owned(),
        None => format!("{BYTES}{}", hex(path.as_os_str().as_encoded_bytes())),
    }
}

/// The path of a text.
pub fn restored(text: &str) -> PathBuf {
    text.strip_prefix(BYTES).and_then(from_hex).unwrap_or_else(|| PathBuf::from(text))
}

#[cfg(unix)]
fn from_hex(text: &str) -> Option<PathBuf> {
    use std::os::unix::ffi::OsStringExt;
    let digits = text.as_bytes();
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    let bytes: Option<Vec<u8>> = digits.chunks(2).map(|p| if p.len() == 2 { byte(p) } else { None }).collect();
    bytes.map(|b| PathBuf::from(std::ffi::OsString::from_vec(b)))
}

/// Windows' names are UTF-16: those that are no text are not written by us.
#[cfg(windows)]
fn from_hex(_: &str) -> Option<PathBuf> {
    None
}

/// A path within a journal's row.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct StoredPath(pub PathBuf);

impl std::ops::Deref for StoredPath {
    type Target = Path;

    fn deref(&self) -> &Path {
        &self.0
    }
}

impl AsRef<Path> for StoredPath {
    fn as_ref(&self) -> &Path {
        &self.0
    }
}

impl<T: Into<PathBuf>> From<T> for StoredPath {
    fn from(path: T) -> StoredPath {
        StoredPath(path.into())
    }
}

impl Serialize for StoredPath {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&stored(&self.0))
    }
}

impl<'de> Deserialize<'de> for StoredPath {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<StoredPath, D::Error> {
        String::deserialize(from).map(|text| StoredPath(restored(&text)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[cfg(unix)]
    #[test]
    fn every_path_comes_back_as_it_was() {
        use std::os::unix::ffi::OsStrExt;
        for bytes in [&b"/lab/tls"[..], b"/lab/\xff\xfe", b"/lab/k\xc3\xbcste", b"/\x80"] {
            let path = Path::new(std::ffi::OsStr::from_bytes(bytes));
            assert_eq!(restored(&stored(path)), path);
            let json = serde_json::to_string(&StoredPath(path.to_owned())).unwrap_or_default();
            assert_eq!(serde_json::from_str::<StoredPath>(&json).ok(), Some(StoredPath(path.to_owned())));
        }
        assert_eq!(restored("bytes:zz"), Path::new("bytes:zz"));
    }
}
