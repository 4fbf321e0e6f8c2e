//! The address of a key on a token (RFC 7512).

use crate::error::{Error, Result};
use crate::vocabulary::text::Shown;
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

/// The address of a private key on a PKCS#11 token, such as `pkcs11:token=lab;object=saltmarsh;id=%01`.
///
/// What it names narrows the search; what it does not name may be anything (RFC 7512 §2.4). A secret in it is refused, since others see
/// the arguments of a command.
///
/// ```
/// use tamga_core::pki::token::TokenUri;
///
/// let uri: TokenUri = "pkcs11:token=salt%20marsh;object=saltmarsh;id=%01%fF".parse()?;
/// assert_eq!((uri.token.as_deref(), uri.id.as_deref()), (Some("salt marsh"), Some(&[1, 255][..])));
/// assert_eq!(uri.to_string(), "pkcs11:token=salt%20marsh;object=saltmarsh;id=%01%FF");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TokenUri {
    /// The token's label, without the blanks that fill it up.
    pub token: Option<String>,
    /// Its serial number. Some devices give all tokens the same.
    pub serial: Option<String>,
    /// Its manufacturer.
    pub manufacturer: Option<String>,
    /// Its model.
    pub model: Option<String>,
    /// The number of its slot. Many modules number them differently at every start.
    pub slot: Option<u64>,
    /// The key's label.
    pub object: Option<String>,
    /// The key's identifier, which the public key beside it has too.
    pub id: Option<Vec<u8>>,
    /// The module through which the token is reached (§2.4: `module-path`).
    pub module: Option<PathBuf>,
    /// Whether the key may leave its token; None if that is not known. Written as an attribute of ours, `tamga-extractable`.
    pub extractable: Option<bool>,
}

/// An attribute of ours in the query: whether the key may leave.
const EXTRACTABLE: &str = "tamga-extractable";
/// Longest address that is read: an argument or a line of a file.
const LONGEST: usize = 4096;

impl TokenUri {
    /// The same without what is only of this machine or only of Tamga: what another machine or program needs to find the key.
    #[must_use]
    pub fn portable(&self) -> TokenUri {
        TokenUri { module: None, extractable: None, ..self.clone() }
    }

    /// True if all that this address says of token and key is so of another's: what it leaves out may be anything. Slots and modules are of
    /// one machine, and say nothing of the key.
    pub fn fits(&self, key: &TokenUri) -> bool {
        fn same<T: PartialEq>(said: &Option<T>, is: &Option<T>) -> bool {
            said.is_none() || is.is_none() || said == is
        }
        same(&self.token, &key.token)
            && same(&self.serial, &key.serial)
            && same(&self.manufacturer, &key.manufacturer)
            && same(&self.model, &key.model)
            && same(&self.object, &key.object)
            && same(&self.id, &key.id)
    }
}

impl FromStr for TokenUri {
    type Err = Error;

    fn from_str(typed: &str) -> Result<TokenUri> {
        // Never shown as it was typed: a PIN may be in it.
        parse(typed).map_err(|why| Error::Contradiction {
            what: "the address of the key cannot be used".into(),
            why,
            instead: "write it like this: 'pkcs11:token=lab;object=saltmarsh'".into(),
        })
    }
}

fn parse(typed: &str) -> std::result::Result<TokenUri, String> {
    if typed.len() > LONGEST {
        return Err(format!("it has more than {LONGEST} characters"));
    }
    let rest = match typed.split_once(':') {
        Some((scheme, rest)) if scheme.eq_ignore_ascii_case("pkcs11") => rest,
        _ => return Err("it does not begin with pkcs11:".into()),
    };
    let (path, query) = rest.split_once('?').map_or((rest, ""), |(p, q)| (p, q));
    let mut uri = TokenUri::default();
    for (name, value) in attributes(path, ';')? {
        let text = || decoded_text(name, value);
        match name {
            "token" => uri.token = Some(text()?),
            "serial" => uri.serial = Some(text()?),
            "manufacturer" => uri.manufacturer = Some(text()?),
            "model" => uri.model = Some(text()?),
            "object" => uri.object = Some(text()?),
            "id" => uri.id = Some(decoded(value)?),
            "slot-id" => uri.slot = Some(value.parse().map_err(|_| "slot-id is a number".to_owned())?),
            "type" if value == "private" => {}
            "type" => return Err(format!("it is the address of a {}, and a private key is needed", value.shown())),
            // One that is not looked at could mean another key than the one that is found.
            _ => return Err(format!("the attribute {} is not used for keys", name.shown())),
        }
    }
    for (name, value) in attributes(query, '&')? {
        match name {
            "module-path" => uri.module = Some(PathBuf::from(decoded_text(name, value)?)),
            "pin-value" | "pin-source" => {
                return Err(format!("{name} is not taken from it: give the PIN by --passphrase-file or when asked"));
            }
            EXTRACTABLE => uri.extractable = ["no", "yes"].iter().position(|w| *w == value).map(|at| at == 1),
            _ => return Err(format!("the attribute {} is not known", name.shown())),
        }
    }
    Ok(uri)
}

/// The attributes of one part, each at most once (§2.3).
fn attributes(part: &str, between: char) -> std::result::Result<Vec<(&str, &str)>, String> {
    let mut out: Vec<(&str, &str)> = Vec::new();
    for one in part.split(between).filter(|a| !a.is_empty()) {
        let (name, value) = one.split_once('=').ok_or_else(|| format!("{} has no value", one.shown()))?;
        if out.iter().any(|(n, _)| *n == name) {
            return Err(format!("{} is in it twice", name.shown()));
        }
        out.push((name, value));
    }
    Ok(out)
}

fn decoded(value: &str) -> std::result::Result<Vec<u8>, String> {
    let mut out = Vec::with_capacity(value.len());
    let mut rest = value.bytes();
    while let Some(b) = rest.next() {
        if b != b'%' {
            out.push(b);
            continue;
        }
        let mut digit = || rest.next().and_then(|d| char::from(d).to_digit(16));
        match (digit(), digit()) {
            (Some(high), Some(low)) => out.push((high * 16 + low) as u8),
            _ => return Err("after % two hexadecimal digits are needed".into()),
        }
    }
    Ok(out)
}

fn decoded_text(name: &str, value: &str) -> std::result::Result<String, String> {
    let text = String::from_utf8(decoded(value)?).map_err(|_| format!("{name} is not UTF-8"))?;
    if text.contains('\0') { Err(format!("{name} holds a NUL")) } else { Ok(text) }
}

/// Encodes what may not stand there as it is (§2.3: `pk11-pchar`, `pk11-qchar`).
fn encoded(octets: &[u8], also: &[u8]) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-._~:[]@!$'()*+,=".contains(&b) || also.contains(&b);
    octets.iter().map(|&b| if plain(b) { char::from(b).to_string() } else { format!("%{b:02X}") }).collect()
}

impl fmt::Display for TokenUri {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = |name: &str, value: &Option<String>| {
            value.as_ref().map(|v| format!("{name}={}", encoded(v.as_bytes(), b"&")))
        };
        let path = [
            text("token", &self.token),
            text("serial", &self.serial),
            text("manufacturer", &self.manufacturer),
            text("model", &self.model),
            self.slot.map(|n| format!("slot-id={n}")),
            text("object", &self.object),
            // Every octet encoded, as §2.3 recommends for it.
            self.id.as_ref().map(|id| format!("id={}", id.iter().map(|b| format!("%{b:02X}")).collect::<String>())),
        ];
        let query = [
            self.module.as_ref().map(|m| format!("module-path={}", encoded(m.as_os_str().as_encoded_bytes(), b"/?|"))),
            self.extractable.map(|e| format!("{EXTRACTABLE}={}", if e { "yes" } else { "no" })),
        ];
        write!(f, "pkcs11:{}", path.into_iter().flatten().collect::<Vec<_>>().join(";"))?;
        let query: Vec<String> = query.into_iter().flatten().collect();
        if query.is_empty() { Ok(()) } else { write!(f, "?{}", query.join("&")) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_narrows_nothing_or_holds_a_secret_is_refused() {
        for (typed, part) in [
            ("token=lab", "does not begin"),
            ("pkcs11:token=lab;token=lab", "twice"),
            ("pkcs11:token", "no value"),
            ("pkcs11:id=%0g", "two hexadecimal digits"),
            ("pkcs11:object=%ff", "not UTF-8"),
            ("pkcs11:object=a%00b", "NUL"),
            ("pkcs11:type=cert", "a private key is needed"),
            ("pkcs11:library-version=3", "not used for keys"),
            ("pkcs11:token=lab?pin-value=1234", "--passphrase-file"),
            ("pkcs11:token=lab?module-name=softhsm", "not known"),
        ] {
            let said = typed.parse::<TokenUri>().unwrap_err();
            assert!(crate::error::Diagnostic::why(&said).contains(part), "{typed}: {said:?}");
        }
        // RFC 7512 §3: an empty address and one of everything are both in form.
        assert_eq!("pkcs11:".parse::<TokenUri>().unwrap(), TokenUri::default());
        assert!("PKCS11:object=my-key;type=private?module-path=/mnt/libmypkcs11.so".parse::<TokenUri>().is_ok());
    }

    #[test]
    fn an_address_fits_a_key_of_which_all_that_it_says_is_so() {
        let key: TokenUri = "pkcs11:token=lab;object=saltmarsh;id=%01?module-path=/usr/lib/x.so".parse().unwrap();
        for (typed, fits) in [
            ("pkcs11:", true),
            ("pkcs11:object=saltmarsh", true),
            ("pkcs11:token=lab;object=saltmarsh?module-path=/usr/lib/other.so", true),
            ("pkcs11:object=saltmarsh;slot-id=7", true),
            ("pkcs11:serial=0001;object=saltmarsh", true),
            ("pkcs11:object=harbour", false),
            ("pkcs11:token=other;object=saltmarsh", false),
            ("pkcs11:object=saltmarsh;id=%02", false),
        ] {
            assert_eq!(typed.parse::<TokenUri>().unwrap().fits(&key), fits, "{typed}");
        }
    }

    proptest! {
        #[test]
        fn an_address_is_read_as_it_was_written(
            token in proptest::option::of("[^\0]{0,20}"), object in proptest::option::of("[^\0]{0,20}"),
            id in proptest::option::of(proptest::collection::vec(any::<u8>(), 0..12)), slot in any::<Option<u64>>(),
            module in proptest::option::of("/[^\0]{0,20}"), extractable in any::<Option<bool>>(),
        ) {
            let uri = TokenUri { token, object, id, slot, module: module.map(PathBuf::from), extractable, ..TokenUri::default() };
            let text = uri.to_string();
            prop_assert!(text.is_ascii() && !text.contains(' '), "{text}");
            prop_assert_eq!(text.parse::<TokenUri>().unwrap(), uri);
        }

        #[test]
        fn nothing_panics(text in "\\PC{0,60}", tail in "[a-z0-9%=;&?/-]{0,60}") {
            let _ = text.parse::<TokenUri>();
            let _ = format!("pkcs11:{tail}").parse::<TokenUri>();
        }
    }
}
