//! Renewal: the same names, purposes and files, with a new key or the old one; names added and dropped.

use crate::ca::issue::{Request, distinct, life_of};
use crate::ca::report::Issued;
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::profile::{self, Links};
use crate::pki::key::{KeyAlgorithm, Strength};
use crate::vocabulary::label::Label;
use crate::vocabulary::name::{self, Name};
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::{Span, Timestamp};
use std::str::FromStr;

/// What changes.
#[derive(Clone, Debug, Default)]
pub struct Change {
    /// Further names.
    pub add: Vec<Name>,
    /// Names to leave out.
    pub drop: Vec<Name>,
    /// Another life.
    pub valid_for: Option<Span>,
}

/// The request for the same certificate again.
///
/// Errors: a name to drop that is not in it; no name left.
pub fn again(issued: &Issued, change: &Change) -> Result<Request> {
    let c = &issued.certificate;
    let before = names_of(c);
    if let Some(unknown) = change.drop.iter().find(|n| !before.contains(n)) {
        return Err(Error::Name {
            typed: unknown.to_string(),
            why: format!("{} does not name it", issued.label),
            instead: format!("its names are {}", c.name_words().join(", ")),
        });
    }
    let names: Vec<Name> = before.iter().chain(&change.add).filter(|n| !change.drop.contains(n)).cloned().collect();
    if before.is_empty() {
        return Err(Error::NamesNeeded { what: format!("the certificate {}", issued.label) });
    }
    if names.is_empty() {
        return Err(Error::NamesNeeded { what: format!("the certificate {} without these names", issued.label) });
    }
    // A subject that was made from the names follows them; one that was typed stays.
    let own = !profile::is_made_of_names(&c.subject, &before)?;
    Ok(Request {
        names: distinct(names),
        label: Label::from_str(&issued.label)?,
        folder: issued.folder.clone(),
        purposes: purposes_of(c),
        from: None,
        valid_for: change.valid_for.unwrap_or(life_of(c)),
        until: None,
        subject: own.then(|| c.subject.clone()),
        links: Links {
            crl: c.crl_urls.first().cloned(),
            issuer: c.issuer_urls.first().cloned(),
            ocsp: c.ocsp_urls.first().cloned(),
        },
        accepted: Vec::new(),
    })
}

/// The names of a certificate, as they would be typed.
///
/// ```
/// use tamga_core::ca::renew::names_of;
/// use tamga_core::sample::leaf;
///
/// let (certificate, _) = leaf(&["charts.saltmarsh.test", "192.168.7.7"])?;
/// assert_eq!(names_of(&certificate), ["charts.saltmarsh.test".parse()?, "192.168.7.7".parse()?]);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn names_of(c: &Certificate) -> Vec<Name> {
    let one = |g: &GeneralName| match g {
        GeneralName::Ip(octets) => name::ip(octets).map(Name::Ip),
        GeneralName::Dns(text) | GeneralName::Mail(text) | GeneralName::Uri(text) => Name::from_str(text).ok(),
        _ => None,
    };
    c.names.iter().flatten().filter_map(one).collect()
}

/// The purposes of a certificate; server where it says none.
pub fn purposes_of(c: &Certificate) -> Vec<Purpose> {
    let listed = |p: &Purpose| c.purposes.as_ref().is_some_and(|l| l.contains(&p.oid()));
    let out: Vec<Purpose> = Purpose::ALL.into_iter().filter(listed).collect();
    if out.is_empty() { vec![Purpose::Server] } else { out }
}

/// The kind of key that a certificate has; P-256 where Tamga makes no such keys.
pub fn algorithm_of(c: &Certificate) -> KeyAlgorithm {
    match c.key.strength() {
        Strength::P384 => KeyAlgorithm::P384,
        Strength::P521 => KeyAlgorithm::P521,
        Strength::Ed25519 => KeyAlgorithm::Ed25519,
        Strength::Rsa(bits) if bits > 3072 => KeyAlgorithm::Rsa4096,
        Strength::Rsa(bits) if bits > 2048 => KeyAlgorithm::Rsa3072,
        Strength::Rsa(_) => KeyAlgorithm::Rsa2048,
        Strength::P256 | Strength::Other => KeyAlgorithm::P256,
    }
}

/// True if a certificate should be renewed now: within the span given, else when a third of its life is left.
///
/// ```
/// use tamga_core::ca::renew::is_due;
/// use tamga_core::sample::{NOW, leaf};
/// use tamga_core::vocabulary::timestamp::{DAY, Span};
///
/// let (certificate, _) = leaf(&["charts.saltmarsh.test"])?; // for 397 days
/// assert!(!is_due(&certificate, None, NOW));
/// assert!(is_due(&certificate, None, NOW.plus(300 * DAY)), "less than a third is left");
/// assert!(!is_due(&certificate, Some(Span::days(30)), NOW.plus(300 * DAY)));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn is_due(c: &Certificate, within: Option<Span>, now: Timestamp) -> bool {
    let left = c.not_after.unix() - now.unix();
    let span = within.map_or((c.not_after.unix() - c.not_before.unix()) / 3, Span::seconds);
    left <= span
}
