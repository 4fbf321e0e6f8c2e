//! An invitation as a file: one setting a line, named as the clients' own settings name them (external account binding, RFC 8555 section 7.3.4).

use crate::enrollment::{base64url, from_base64url};
use crate::error::{Error, Result};
use zeroize::Zeroizing;

/// A key of fewer octets is none.
const SHORTEST: usize = 16;

/// An invitation as a client reads it.
pub struct Given {
    /// The directory of the service, if the file says it.
    pub directory: Option<String>,
    /// The key id.
    pub key_id: String,
    /// The key.
    pub key: Zeroizing<Vec<u8>>,
}

/// The text of the file.
pub fn written(key_id: &str, key: &[u8], directory: Option<&str>) -> Zeroizing<String> {
    let key = Zeroizing::new(base64url(key));
    let mut out = Zeroizing::new(String::with_capacity(512));
    if let Some(url) = directory {
        out.push_str(&format!("directory = {url}\n"));
    }
    out.push_str(&format!("key-id = {key_id}\nkey = "));
    out.push_str(&key);
    out.push('\n');
    out
}

/// Reads it. `what` is what an error calls it.
///
/// ```
/// use tamga_core::enrollment::invitation::{read, written};
///
/// let text = written("lab", &[7; 32], None);
/// assert_eq!(read(&text, "it")?.key_id, "lab");
/// assert!(read("key-id = lab", "it").is_err(), "a key is needed");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
///
/// Errors: a line is missing, or is none.
pub fn read(text: &str, what: &str) -> Result<Given> {
    let value = |name: &str| {
        text.lines().find_map(|l| {
            let (found, value) = l.split_once('=')?;
            (found.trim() == name).then(|| value.trim())
        })
    };
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let key_id = value("key-id").filter(|k| !k.is_empty()).ok_or_else(|| malformed("it has no line key-id = …"))?;
    let key = value("key").and_then(from_base64url).filter(|k| k.len() >= SHORTEST);
    let key = key.ok_or_else(|| malformed("it has no line key = … with a key in base64url"))?;
    Ok(Given { directory: value("directory").map(str::to_owned), key_id: key_id.to_owned(), key: Zeroizing::new(key) })
}
