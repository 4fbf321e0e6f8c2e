//! Everything as one file says: what it asks for, what there is, and what differs. Only what differs is done.

pub mod file;
pub mod host;
pub mod place;
mod raw;
mod reader;
pub mod service;

use crate::ca::authority::{limits, permit};
use crate::ca::renew;
use crate::ca::report::{Authority, Issued, KeyPlace};
use crate::pki::key::KeyAlgorithm;
use crate::vocabulary::label::Label;
use crate::vocabulary::name::Name;
use crate::vocabulary::permit::Permit;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::Timestamp;
use file::{Authority as WantedAuthority, Certificate as Wanted};

/// What is to be done about a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Todo {
    /// There is none.
    Issue,
    /// There is one, and another is needed.
    Renew {
        /// Further names.
        add: Vec<Name>,
        /// Names that are not asked for any more.
        drop: Vec<Name>,
        /// Another kind of key.
        algorithm: Option<KeyAlgorithm>,
        /// Under another authority.
        issuer: Option<Label>,
        /// In words.
        why: String,
    },
    /// What is asked for cannot be had by renewing.
    Impossible {
        /// In words.
        why: String,
        /// What a person must do.
        remedy: String,
    },
}

/// What differs between a certificate that is asked for and the one that there is; None if nothing.
pub fn compare(wanted: &Wanted, current: Option<&Issued>, authorities: &[Authority], now: Timestamp) -> Option<Todo> {
    let Some(current) = current.filter(|c| c.is_live()) else { return Some(Todo::Issue) };
    let c = &current.certificate;
    let has = renew::names_of(c);
    let add: Vec<Name> = wanted.names.iter().filter(|n| !has.contains(n)).cloned().collect();
    let drop: Vec<Name> = has.iter().filter(|n| !wanted.names.contains(n)).cloned().collect();
    let purposes = renew::purposes_of(c);
    if !wanted.purposes.is_empty() && !same(&purposes, &wanted.purposes) {
        let words = |list: &[Purpose]| list.iter().map(|p| p.word()).collect::<Vec<_>>().join(",");
        return Some(Todo::Impossible {
            why: format!("it is for {}, and the file asks for {}", words(&purposes), words(&wanted.purposes)),
            remedy: format!("revoke it, or give it another label: tamga revoke {} --reason superseded", current.label),
        });
    }
    let algorithm = wanted.key_algorithm.filter(|a| *a != renew::algorithm_of(c));
    let issuer = wanted.issuer.clone().filter(|i| current.authority.as_ref() != Some(i));
    if let Some(unknown) = issuer.as_ref().filter(|i| !authorities.iter().any(|a| a.label == **i)) {
        let labels: Vec<&str> = authorities.iter().map(|a| a.label.as_str()).collect();
        return Some(Todo::Impossible {
            why: format!("the file asks for the issuer {unknown}, and there is no such authority"),
            remedy: match crate::vocabulary::text::nearest(unknown, labels.iter().copied()) {
                Some(near) => format!("did you mean {near}? there are: {}", labels.join(", ")),
                None => format!("add an [[authority]] of that label, or name one of: {}", labels.join(", ")),
            },
        });
    }
    let mut whys = Vec::new();
    if !add.is_empty() {
        whys.push(format!("it lacks {}", listed(&add)));
    }
    if !drop.is_empty() {
        whys.push(format!("it names {}, which is not asked for any more", listed(&drop)));
    }
    if let Some(a) = algorithm {
        whys.push(format!("its key is to be {}", a.word()));
    }
    if let Some(i) = &issuer {
        whys.push(format!("it is to be under {i}"));
    }
    if c.not_after < now {
        whys.push(format!("it ended on {}", c.not_after.date()));
    } else if renew::is_due(c, wanted.renew, now) {
        whys.push(format!("it ends on {}, in {} days", c.not_after.date(), c.not_after.days_after(now)));
    }
    (!whys.is_empty()).then(|| Todo::Renew { add, drop, algorithm, issuer, why: whys.join("; ") })
}

/// That an authority's key is not where the file says that it is; None if it is there, or the file says nothing.
pub fn key_elsewhere(wanted: &WantedAuthority, current: &Authority) -> Option<String> {
    let asked = wanted.key_uri.as_ref()?;
    match &current.key {
        KeyPlace::Token(uri) if asked.fits(uri) => None,
        KeyPlace::Token(uri) => Some(format!("its key is {}, and the file says {}", uri.portable(), asked.portable())),
        _ => Some("its key is not on a token, and the file says that it is".to_owned()),
    }
}

/// How the limits of an authority differ from what the file asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Limits {
    /// The file asks for more.
    Wider(Vec<String>),
    /// The authority may certify what the file does not ask for, in words.
    Narrower(String),
}

/// Compares the limits of an authority with those that the file asks for; None if they are the same.
pub fn compare_limits(wanted: &WantedAuthority, current: &Authority, parent: Option<&Authority>) -> Option<Limits> {
    if permit::wider(current, &wanted.permit, parent).is_ok_and(|wider| wider.is_some()) {
        return Some(Limits::Wider(wanted.permit.clone()));
    }
    let Permit::Only { domains, blocks } = current.certificate.constraints.as_ref().map(limits::permit_of)? else {
        return None;
    };
    // An intermediate that asks for nothing has what is above it.
    if !current.is_root() && wanted.permit.is_empty() {
        return None;
    }
    let asked = limits::Wanted { permit: wanted.permit.clone(), any: false };
    let Permit::Only { domains: d, blocks: b } = limits::of_root(&asked).ok()? else { return None };
    let more: Vec<String> = domains
        .into_iter()
        .filter(|x| !d.contains(x))
        .chain(blocks.into_iter().filter(|x| !b.contains(x)).map(|x| x.to_string()))
        .collect();
    (!more.is_empty()).then(|| Limits::Narrower(more.join(", ")))
}

fn same(a: &[Purpose], b: &[Purpose]) -> bool {
    a.iter().all(|p| b.contains(p)) && b.iter().all(|p| a.contains(p))
}

fn listed(names: &[Name]) -> String {
    names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// What `tamga apply --example` prints: the sample lab.
pub const EXAMPLE: &str = include_str!("example.toml");

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_example_is_what_it_is_an_example_of() {
        let lab = file::read(EXAMPLE, "the example", std::path::Path::new("/lab")).unwrap();
        assert_eq!((lab.authorities.len(), lab.certificates.len()), (1, 4));
        assert!(lab.certificates.iter().any(|c| !c.targets.is_empty()));
    }
}
