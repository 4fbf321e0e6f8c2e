//! What an authority may certify, and how long a path may be under it: never more than what is above it allows.

use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::{GeneralName, NameConstraints};
use crate::pki::cert::profile::name_constraints;
use crate::pki::chain::constraints;
use crate::vocabulary::permit::{Cidr, Permit};
use x509_cert::ext::Extension;

/// What a person asks for.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Domains, names, addresses and blocks as typed.
    pub permit: Vec<String>,
    /// No constraints at all.
    pub any: bool,
}

/// The constraints of a new root: the default set with what was asked for.
pub fn of_root(wanted: &Wanted) -> Result<Permit> {
    let mut permit = if wanted.any { Permit::Any } else { Permit::default_set() };
    for typed in &wanted.permit {
        permit.extend(typed)?;
    }
    Ok(permit)
}

/// The extension of a new intermediate: exactly what was asked for where it lies within what is above; for a kind of name
/// that was not mentioned, and where nothing was asked for, what the authority above has.
pub fn of_intermediate(wanted: &Wanted, parent: &Authority) -> Result<Option<Extension>> {
    if wanted.any {
        return Ok(None);
    }
    let inherited = parent.certificate.extensions.iter().find(|e| e.extn_id.to_string() == "2.5.29.30").cloned();
    if wanted.permit.is_empty() {
        return match inherited {
            Some(extension) => Ok(Some(Extension { critical: true, ..extension })),
            None => Ok(None),
        };
    }
    let mut asked = Permit::Only { domains: Vec::new(), blocks: Vec::new() };
    for typed in &wanted.permit {
        asked.extend(typed)?;
    }
    let Permit::Only { mut domains, mut blocks } = asked else { return Ok(None) };
    let above = parent.certificate.constraints.as_ref().map(permit_of).unwrap_or(Permit::default_set());
    if let Permit::Only { domains: d, blocks: b } = above {
        if domains.is_empty() {
            domains = d;
        }
        if blocks.is_empty() {
            blocks = b;
        }
    }
    let permit = Permit::Only { domains, blocks };
    within(&permit, parent)?;
    name_constraints(&permit)
}

/// Refuses what lies outside the limits of an authority or of one above it.
pub fn within(permit: &Permit, parent: &Authority) -> Result<()> {
    let Permit::Only { domains, blocks } = permit else { return Ok(()) };
    for above in std::iter::once(&parent.certificate).chain(&parent.above) {
        let Some(subtrees) = &above.constraints else { continue };
        let domain = domains.iter().find(|d| constraints::forbids(subtrees, &GeneralName::Dns((*d).clone())));
        let block = blocks.iter().find(|b| !holds_block(subtrees, **b));
        if let Some(outside) = domain.cloned().or(block.map(Cidr::to_string)) {
            return Err(Error::OutsideConstraints {
                name: outside,
                authority: parent.label.to_string(),
                permitted: words(above.constraints.as_ref()),
                free_label: format!("{}-2", parent.label),
            });
        }
    }
    Ok(())
}

fn holds_block(subtrees: &NameConstraints, block: Cidr) -> bool {
    let permitted: Vec<Cidr> = subtrees.permitted.iter().filter_map(block_of).collect();
    let any_kind = subtrees.permitted.iter().any(|g| matches!(g, GeneralName::Ip(_)));
    !any_kind || permitted.iter().any(|p| p.holds(block))
}

/// The path length of an intermediate: as asked for, at most one less than the authority above has.
///
/// Errors: the authority above may not have intermediates under it, or not so many.
pub fn path_length(asked: Option<u8>, parent: &Authority) -> Result<Option<u8>> {
    let above = parent.certificate.basic.and_then(|b| b.path_length);
    let most = match above {
        None => return Ok(asked),
        Some(n) => n.checked_sub(1),
    };
    match (most, asked) {
        (Some(most), None) => Ok(Some(most)),
        (Some(most), Some(asked)) if asked <= most => Ok(Some(asked)),
        (most, asked) => Err(Error::Objection {
            code: "path-too-long",
            what: match asked {
                Some(n) => format!("{} may not have an authority with path length {n} under it", parent.label),
                None => format!("{} may not have an authority under it", parent.label),
            },
            why: match most {
                Some(n) => format!("its own path length leaves {n} for the next"),
                None => "its path length is 0: it signs certificates for servers and clients alone".into(),
            },
            instead: "make the intermediate under an authority higher up: --issuer LABEL".into(),
        }),
    }
}

/// The limits that are in a certificate, as a person would state them; what mail and URIs add follows from the domains.
pub fn permit_of(subtrees: &NameConstraints) -> Permit {
    let domain = |g: &GeneralName| match g {
        GeneralName::Dns(d) => Some(d.trim_start_matches('.').to_ascii_lowercase()),
        _ => None,
    };
    Permit::Only {
        domains: subtrees.permitted.iter().filter_map(domain).collect(),
        blocks: subtrees.permitted.iter().filter_map(block_of).collect(),
    }
}

fn block_of(general: &GeneralName) -> Option<Cidr> {
    match general {
        GeneralName::Ip(octets) => Cidr::from_octets(octets),
        _ => None,
    }
}

/// What an authority may certify, in words.
pub fn words(subtrees: Option<&NameConstraints>) -> String {
    let Some(subtrees) = subtrees else { return Permit::Any.to_string() };
    let of = |list: &[GeneralName], wanted: fn(&GeneralName) -> bool| {
        list.iter().filter(|g| wanted(g)).map(GeneralName::words).collect::<Vec<_>>().join(", ")
    };
    let mut parts = vec![
        of(&subtrees.permitted, |g| matches!(g, GeneralName::Dns(_))),
        of(&subtrees.permitted, |g| matches!(g, GeneralName::Ip(_))),
    ];
    let but = of(&subtrees.excluded, |_| true);
    if !but.is_empty() {
        parts.push(format!("but not {but}"));
    }
    parts.retain(|s| !s.is_empty());
    parts.join("; ")
}

/// The same, short enough for a line: address blocks are only counted.
///
/// ```
/// use tamga_core::ca::authority::limits::briefly;
/// use tamga_core::sample::root;
///
/// assert!(briefly(&root()?.0.certificate).contains("test"), "what it may certify, in a few words");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn briefly(c: &Certificate) -> String {
    let Some(subtrees) = &c.constraints else { return Permit::Any.to_string() };
    let domains: Vec<String> =
        subtrees.permitted.iter().filter(|g| matches!(g, GeneralName::Dns(_))).map(GeneralName::words).collect();
    let blocks = subtrees.permitted.iter().filter(|g| matches!(g, GeneralName::Ip(_))).count();
    match (domains.is_empty(), blocks) {
        (true, n) => format!("{n} address blocks"),
        (false, 1) => format!("{} and 1 address block", domains.join(", ")),
        (false, n) => format!("{} and {n} address blocks", domains.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ca::authority::create::{self, Request};
    use crate::pki::key::{KeyAlgorithm, PrivateKey};
    use crate::test_entropy::Counted;
    use crate::vocabulary::label::Label;
    use crate::vocabulary::timestamp::Timestamp;
    use std::str::FromStr;

    fn request(label: &str, permit: &[&str]) -> Request {
        let mut r = Request::plain(Label::from_str(label).unwrap());
        r.wanted.permit = permit.iter().map(|p| (*p).to_owned()).collect();
        r
    }

    fn root(path_length: Option<u8>) -> (Authority, PrivateKey) {
        let e = Counted::default();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        let r = Request { path_length, ..request("saltmarsh", &["tides.example", "203.0.113.0/24"]) };
        (create::root(&r, &key, "x".into(), now(), &e).unwrap().authority, key)
    }

    fn now() -> Timestamp {
        Timestamp::from_str("2026-11-24").unwrap()
    }

    fn under(parent: &Authority, parent_key: &PrivateKey, r: &Request) -> Result<Authority> {
        let e = Counted::from(7);
        let key = PrivateKey::generate(KeyAlgorithm::P256, &e).unwrap();
        create::intermediate(r, &key, parent, parent_key, "y".into(), now(), &e).map(|m| m.authority)
    }

    #[test]
    fn an_intermediate_inherits_narrows_and_never_widens() {
        let (root, key) = root(None);
        let same = under(&root, &key, &request("web", &[])).unwrap();
        assert_eq!(same.certificate.constraints, root.certificate.constraints);
        let narrow = under(&root, &key, &request("web", &["charts.tides.example"])).unwrap();
        assert_eq!(briefly(&narrow.certificate), "charts.tides.example and 9 address blocks");
        for outside in ["tides.org", "example", "203.0.112.0/23", "8.8.8.8"] {
            let refused = under(&root, &key, &request("web", &[outside]));
            assert!(matches!(refused, Err(Error::OutsideConstraints { .. })), "{outside}");
        }
        // Not even over two steps.
        assert!(within(&Permit::Only { domains: vec!["test".into()], blocks: vec![] }, &narrow).is_err());
    }

    #[test]
    fn path_lengths_count_down_to_nothing() {
        let (root, key) = root(Some(1));
        let first = under(&root, &key, &request("a", &[])).unwrap();
        assert_eq!(first.certificate.basic.unwrap().path_length, Some(0));
        assert!(matches!(path_length(None, &first), Err(Error::Objection { code: "path-too-long", .. })));
        assert!(matches!(path_length(Some(1), &root), Err(Error::Objection { .. })));
        assert_eq!(first.above, std::slice::from_ref(&root.certificate));
        assert!(first.certificate.signed_by(&root.certificate).is_ok());
    }
}
