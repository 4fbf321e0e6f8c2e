//! How two certificates, requests or keys differ, field by field.

use crate::pki::cert::Certificate;
use crate::pki::cert::csr::Csr;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::subject;
use crate::pki::key::PublicKey;
use crate::vocabulary::purpose::usage_words;
use const_oid::ObjectIdentifier;

/// One field that differs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// Which field.
    pub field: &'static str,
    /// In the first.
    pub first: String,
    /// In the second.
    pub second: String,
}

/// What can be compared with each other.
pub enum Thing<'a> {
    /// A certificate.
    Certificate(&'a Certificate),
    /// A request.
    Request(&'a Csr),
    /// A public key, or the public half of a private one.
    Key(&'a PublicKey),
}

impl Thing<'_> {
    fn key(&self) -> &PublicKey {
        match self {
            Thing::Certificate(c) => &c.key,
            Thing::Request(r) => &r.key,
            Thing::Key(k) => k,
        }
    }

    /// Subject, names and purposes, where it has them.
    fn said(&self) -> Option<(&[u8], &[GeneralName], &[ObjectIdentifier])> {
        match self {
            Thing::Certificate(c) => {
                Some((&c.subject, c.names.as_deref().unwrap_or_default(), c.purposes.as_deref().unwrap_or_default()))
            }
            Thing::Request(r) => Some((
                &r.subject,
                r.wishes.names.as_deref().unwrap_or_default(),
                r.wishes.purposes.as_deref().unwrap_or_default(),
            )),
            Thing::Key(_) => None,
        }
    }
}

/// Compares two things. Whether their keys are the same comes first.
///
/// ```
/// use tamga_core::pki::difference::{Thing, compare};
/// use tamga_core::sample::leaf;
///
/// let (a, b) = (leaf(&["charts.saltmarsh.test"])?.0, leaf(&["archive.saltmarsh.test"])?.0);
/// let all = compare(&Thing::Certificate(&a), &Thing::Certificate(&b));
/// let names = all.iter().find(|d| d.field == "names only here").expect("other names");
/// assert_eq!((&*names.first, &*names.second), ("charts.saltmarsh.test", "archive.saltmarsh.test"));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn compare(a: &Thing<'_>, b: &Thing<'_>) -> Vec<Difference> {
    let mut out = Vec::new();
    let mut add = |field, first: String, second: String| {
        if first != second {
            out.push(Difference { field, first, second });
        }
    };
    let key = |t: &Thing<'_>| format!("{}, SHA-256 {}", t.key().strength(), t.key().fingerprint());
    add("public key", key(a), key(b));
    if let (Some((sa, na, pa)), Some((sb, nb, pb))) = (a.said(), b.said()) {
        add("subject", subject::words(sa), subject::words(sb));
        let only = |these: &[GeneralName], those: &[GeneralName]| {
            these.iter().filter(|n| !those.contains(n)).map(GeneralName::words).collect::<Vec<_>>().join(", ")
        };
        add("names only here", only(na, nb), only(nb, na));
        let words = |p: &[ObjectIdentifier]| p.iter().map(usage_words).collect::<Vec<_>>().join(", ");
        add("purposes", words(pa), words(pb));
    }
    if let (Thing::Certificate(a), Thing::Certificate(b)) = (a, b) {
        certificates(a, b, &mut add);
    }
    out
}

fn certificates(a: &Certificate, b: &Certificate, add: &mut impl FnMut(&'static str, String, String)) {
    let mut each = |field, of: &dyn Fn(&Certificate) -> String| add(field, of(a), of(b));
    each("issuer", &Certificate::issuer_words);
    each("signed by key", &|c| {
        c.issuer_key_identifier.as_deref().map(crate::vocabulary::text::hex).unwrap_or_default()
    });
    each("valid from", &|c| c.not_before.to_string());
    each("valid until", &|c| c.not_after.to_string());
    each("may sign", &|c| if c.is_ca() { "yes".into() } else { "no".into() });
    each("path length", &|c| match c.basic.and_then(|b| b.path_length) {
        Some(n) => n.to_string(),
        None => "not limited".into(),
    });
    each("key usage", &|c| c.usage.map(|u| u.words()).unwrap_or_default());
    each("limited to", &|c| match &c.constraints {
        Some(s) => s.permitted.iter().map(GeneralName::words).collect::<Vec<_>>().join(", "),
        None => "nothing".into(),
    });
    each("signature", &|c| c.algorithm.oid.to_string());
    each("serial", &|c| c.serial.clone());
    each("SHA-256", &|c| c.sha256().to_string());
}
