//! Distinguished names (RFC 5280 §4.1.2.4): built attribute by attribute, shown, compared.

use crate::error::{Error, Result};
use const_oid::ObjectIdentifier;
use der::asn1::{PrintableStringRef, SetOfVec, Utf8StringRef};
use der::{Any, Decode, Encode, Sequence, ValueOrd};

/// The subject fields of the interface; all optional.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Subject {
    /// commonName.
    pub common_name: Option<String>,
    /// organizationName.
    pub organization: Option<String>,
    /// organizationalUnitName.
    pub unit: Option<String>,
    /// countryName: two letters (ISO 3166).
    pub country: Option<String>,
    /// stateOrProvinceName.
    pub state: Option<String>,
    /// localityName.
    pub locality: Option<String>,
}

#[derive(Sequence, ValueOrd, Clone, PartialEq, Eq)]
struct Attribute {
    oid: ObjectIdentifier,
    value: Any,
}

type Rdn = SetOfVec<Attribute>;

const COUNTRY: &str = "2.5.4.6";
/// Identifier, short word, most characters (RFC 5280 appendix A.1).
const KNOWN: [(&str, &str, usize); 8] = [
    (COUNTRY, "C", 2),
    ("2.5.4.8", "ST", 128),
    ("2.5.4.7", "L", 128),
    ("2.5.4.10", "O", 64),
    ("2.5.4.11", "OU", 64),
    ("2.5.4.3", "CN", 64),
    ("1.2.840.113549.1.9.1", "emailAddress", 255),
    ("0.9.2342.19200300.100.1.25", "DC", 255),
];

impl Subject {
    /// The DER of the name, one attribute per RDN, country first and common name last.
    ///
    /// Errors: a country that is not two letters, a field that is too long or holds control characters.
    ///
    /// ```
    /// use tamga_core::pki::cert::subject::{Subject, words};
    ///
    /// let subject = Subject { common_name: Some("charts".into()), country: Some("NL".into()), ..Subject::default() };
    /// assert_eq!(words(&subject.to_der()?), "CN=charts, C=NL");
    /// assert!(Subject { country: Some("Holland".into()), ..Subject::default() }.to_der().is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn to_der(&self) -> Result<Vec<u8>> {
        let values = [&self.country, &self.state, &self.locality, &self.organization, &self.unit, &self.common_name];
        let mut rdns: Vec<Rdn> = Vec::new();
        for ((oid, word, most), value) in KNOWN.iter().zip(values) {
            let Some(value) = value else { continue };
            let refuse = |why: String| Error::Name {
                typed: value.clone(),
                why,
                instead: "shorten or correct it, or leave the option away: the subject is decoration".into(),
            };
            if value.is_empty() || value.chars().count() > *most || value.chars().any(char::is_control) {
                return Err(refuse(format!(
                    "as {word}: 1 to {most} characters without control characters (RFC 5280 appendix A.1)"
                )));
            }
            let encoded = if *oid == COUNTRY {
                if value.len() != 2 || !value.bytes().all(|b| b.is_ascii_alphabetic()) {
                    return Err(refuse("as C: a country is its two letters (ISO 3166)".into()));
                }
                PrintableStringRef::new(&value.to_ascii_uppercase()).and_then(|s| Any::encode_from(&s))
            } else {
                Utf8StringRef::new(value).and_then(|s| Any::encode_from(&s))
            };
            let rdn =
                encoded.and_then(|value| Rdn::try_from([Attribute { oid: ObjectIdentifier::new_unwrap(oid), value }]));
            rdns.push(rdn.map_err(|_| Error::Crypto { doing: "encoding a subject" })?);
        }
        rdns.to_der().map_err(|_| Error::Crypto { doing: "encoding a subject" })
    }
}

/// True for a name without any attribute.
pub fn is_empty(name: &[u8]) -> bool {
    name == [0x30, 0]
}

/// A name in words, `CN=…, O=…`, most specific first; escaped for showing.
pub fn words(name: &[u8]) -> String {
    let Ok(rdns) = Vec::<Rdn>::from_der(name) else {
        return "(unreadable name)".into();
    };
    let parts: Vec<String> = rdns
        .iter()
        .rev()
        .flat_map(|rdn| rdn.iter())
        .map(|a| {
            let oid = a.oid.to_string();
            let word = KNOWN.iter().find(|k| k.0 == oid).map_or(oid.as_str(), |k| k.1);
            format!("{word}={}", crate::vocabulary::text::harmless(&text(&a.value)))
        })
        .collect();
    if parts.is_empty() { "(empty)".into() } else { parts.join(", ") }
}

/// The first common name, unescaped.
pub fn common_name(name: &[u8]) -> Option<String> {
    let rdns = Vec::<Rdn>::from_der(name).ok()?;
    rdns.iter().flat_map(|rdn| rdn.iter()).find(|a| a.oid.to_string() == "2.5.4.3").map(|a| text(&a.value))
}

/// The values of emailAddress (RFC 2985 §5.2.1).
pub fn mailboxes(name: &[u8]) -> Vec<String> {
    let rdns = Vec::<Rdn>::from_der(name).unwrap_or_default();
    let all = rdns.iter().flat_map(|rdn| rdn.iter());
    all.filter(|a| a.oid.to_string() == "1.2.840.113549.1.9.1").map(|a| text(&a.value)).collect()
}

/// Compares two names as RFC 5280 §7.1 says: by type and by value without case and with white space folded.
///
/// ```
/// use tamga_core::pki::cert::subject::{Subject, same};
///
/// let named = |name: &str| Subject { common_name: Some(name.into()), ..Subject::default() }.to_der();
/// assert!(same(&named("Saltmarsh  Root")?, &named("saltmarsh root")?));
/// assert!(!same(&named("saltmarsh")?, &named("harbour")?));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn same(a: &[u8], b: &[u8]) -> bool {
    if a == b {
        return true;
    }
    match (Vec::<Rdn>::from_der(a), Vec::<Rdn>::from_der(b)) {
        (Ok(a), Ok(b)) => folded(&a) == folded(&b),
        _ => false,
    }
}

/// True if the first RDNs of `name` are those of `base` (a directoryName constraint, RFC 5280 §7.1).
pub fn starts_with(name: &[u8], base: &[u8]) -> bool {
    match (Vec::<Rdn>::from_der(name), Vec::<Rdn>::from_der(base)) {
        (Ok(name), Ok(base)) => folded(&name).starts_with(&folded(&base)),
        _ => false,
    }
}

fn folded(rdns: &[Rdn]) -> Vec<Vec<(String, String)>> {
    rdns.iter()
        .map(|rdn| {
            let mut set: Vec<(String, String)> = rdn
                .iter()
                .map(|a| {
                    let folded: Vec<String> = text(&a.value).split_whitespace().map(str::to_lowercase).collect();
                    (a.oid.to_string(), folded.join(" "))
                })
                .collect();
            set.sort();
            set
        })
        .collect()
}

fn text(value: &Any) -> String {
    use der::{Tag, Tagged};
    let bytes = value.value();
    match value.tag() {
        Tag::BmpString => {
            let units: Vec<u16> =
                bytes.chunks(2).map(|c| u16::from_be_bytes([c[0], *c.get(1).unwrap_or(&0)])).collect();
            String::from_utf16_lossy(&units)
        }
        Tag::TeletexString => bytes.iter().map(|b| *b as char).collect(),
        _ => String::from_utf8_lossy(bytes).into_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cn(s: &str) -> Vec<u8> {
        Subject { common_name: Some(s.into()), ..Subject::default() }.to_der().unwrap()
    }

    #[test]
    fn order_and_words() {
        let s = Subject {
            common_name: Some("saltmarsh root".into()),
            organization: Some("Saltmarsh, tide-gauge lab".into()),
            country: Some("nl".into()),
            ..Subject::default()
        };
        assert_eq!(words(&s.to_der().unwrap()), "CN=saltmarsh root, O=Saltmarsh, tide-gauge lab, C=NL");
        assert!(is_empty(&Subject::default().to_der().unwrap()));
        assert_eq!(common_name(&cn("x")).as_deref(), Some("x"));
    }

    #[test]
    fn names_compare_without_case_and_space() {
        assert!(same(&cn("Saltmarsh  Root"), &cn(" saltmarsh root")));
        assert!(!same(&cn("saltmarsh root"), &cn("saltmarsh roots")));
        assert!(!same(b"\x30\x01", &cn("x")));
    }

    #[test]
    fn fields_that_do_not_fit_are_refused() {
        for s in [
            Subject { country: Some("NLD".into()), ..Subject::default() },
            Subject { common_name: Some("x".repeat(65)), ..Subject::default() },
            Subject { unit: Some("a\u{7}".into()), ..Subject::default() },
            Subject { locality: Some(String::new()), ..Subject::default() },
        ] {
            assert!(s.to_der().is_err(), "{s:?}");
        }
    }
}
