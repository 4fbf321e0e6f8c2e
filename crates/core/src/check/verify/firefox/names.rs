//! How mozilla::pkix compares names, and holds them against constraints.

use super::errors::Error;
use crate::check::verify::parts::{self, General};
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::id;
use crate::pki::format::tlv::{self, SEQUENCE, Tlv};
use crate::vocabulary::name::Name;
use std::net::IpAddr;

/// What a name is used as.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Role {
    /// What is asked for.
    Reference,
    /// What the certificate says.
    Presented,
    /// A constraint's base.
    Constraint,
}

/// Whether a host's name has the form that its role wants.
fn is_dns(name: &[u8], role: Role) -> bool {
    if name.len() > 253 {
        return false;
    }
    if role == Role::Constraint && name.is_empty() {
        return true;
    }
    let star = role == Role::Presented && name.first() == Some(&b'*');
    let bare = if star { name.strip_prefix(b"*.") } else { Some(name) };
    let Some(bare) = bare.filter(|b| !b.is_empty()) else { return false };
    let labels: Vec<&[u8]> = bare.split(|b| *b == b'.').collect();
    let last = labels.len() - 1;
    for (i, label) in labels.iter().enumerate() {
        if label.is_empty() {
            let in_front = i == 0 && role == Role::Constraint && last > 0;
            let behind = i == last && role == Role::Reference && last > 0;
            if !(in_front || behind) {
                return false;
            }
            continue;
        }
        let plain = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_');
        let hyphens = label.first() == Some(&b'-') || label.last() == Some(&b'-');
        if label.len() > 63 || !label.iter().all(plain) || hyphens {
            return false;
        }
    }
    let end = labels.iter().rev().find(|l| !l.is_empty()).copied().unwrap_or_default();
    if end.iter().all(u8::is_ascii_digit) {
        return false;
    }
    !star || (labels.len() >= 2 && !bare.to_ascii_lowercase().starts_with(b"xn--"))
}

/// Whether a presented name matches; an error where either has not the form of one.
fn dns(presented: &[u8], base: &[u8], role: Role, subdomains: bool) -> Result<bool, Error> {
    if !is_dns(presented, Role::Presented) || !is_dns(base, role) {
        return Err(Error::BadDer);
    }
    let (mut own, mut wanted) = (presented, base);
    if role == Role::Constraint && presented.len() > base.len() {
        if base.is_empty() {
            return Ok(true);
        }
        let at = presented.len() - base.len();
        if base[0] == b'.' {
            own = &presented[at..];
        } else if subdomains {
            if presented[at - 1] != b'.' {
                return Ok(false);
            }
            own = &presented[at..];
        }
    }
    if own.first() == Some(&b'*') {
        own = &own[1..];
        let Some(dot) = wanted.iter().skip(1).position(|b| *b == b'.') else { return Ok(false) };
        wanted = &wanted[dot + 1..];
    }
    if role == Role::Reference && wanted.len() == own.len() + 1 {
        wanted = wanted.strip_suffix(b".").unwrap_or(wanted);
    }
    Ok(own.eq_ignore_ascii_case(wanted))
}

/// Every name of subjectAltName, in order; an error where it does not parse.
fn alternative(c: &Certificate) -> Result<Option<Vec<General>>, Error> {
    let Some(e) = c.raw.extension(id::SUBJECT_ALT_NAME) else { return Ok(None) };
    let list = tlv::one(&e.value).filter(|t| t.tag == SEQUENCE).ok_or(Error::BadDer)?;
    let names: Option<Vec<General>> = list.inside().ok_or(Error::BadDer)?.iter().map(parts::general).collect();
    names.map(Some).ok_or(Error::BadDer)
}

/// Whether the leaf names the host; what cannot be read names nothing.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    let Some(e) = leaf.raw.extension(id::SUBJECT_ALT_NAME) else { return false };
    let Some(list) = tlv::one(&e.value).filter(|t| t.tag == SEQUENCE) else { return false };
    let mut rest = list.body;
    let mut matched = false;
    // In order: Firefox does not read past the first name that matches, so a damaged one behind it does no harm.
    while let Some(t) = tlv::first(rest).filter(|_| !matched) {
        rest = &rest[t.whole.len()..];
        let Some(name) = parts::general(&t) else { break };
        matched = match (name.kind, host) {
            (2, Name::Dns(d)) => dns(&name.octets, d.as_bytes(), Role::Reference, true) == Ok(true),
            (7, Name::Ip(IpAddr::V4(a))) => name.octets == a.octets(),
            (7, Name::Ip(IpAddr::V6(a))) => name.octets == a.octets(),
            _ => false,
        };
    }
    let is_host = match host {
        Name::Dns(d) => is_dns(d.as_bytes(), Role::Reference),
        _ => true,
    };
    is_host && matched
}

/// Holds the names of a path's lower certificates against an issuer's constraints. `path` is leaf first, up to the issuer's child.
pub fn constrained(path: &[&Certificate], by: &[u8]) -> Result<(), Error> {
    for (i, c) in path.iter().enumerate().rev() {
        let names = alternative(c)?;
        let mut common = i == 0;
        for name in names.iter().flatten() {
            one(name, by)?;
            if matches!(name.kind, 2 | 7) {
                common = false;
            }
        }
        one(&General { kind: 4, octets: c.subject.clone() }, by)?;
        if names.is_none() {
            for octets in
                parts::attributes(&c.subject).unwrap_or_default().into_iter().filter(|a| a.1 == parts::EMAIL_ADDRESS)
            {
                one(&General { kind: 1, octets: octets.3 }, by)?;
            }
        }
        if common && let Some((_, octets)) = parts::common_names(&c.subject).pop() {
            let text = String::from_utf8_lossy(&octets).into_owned();
            match text.parse::<IpAddr>() {
                Ok(IpAddr::V4(a)) => one(&General { kind: 7, octets: a.octets().to_vec() }, by)?,
                Ok(IpAddr::V6(a)) => one(&General { kind: 7, octets: a.octets().to_vec() }, by)?,
                Err(_) if is_dns(&octets, Role::Presented) => one(&General { kind: 2, octets }, by)?,
                Err(_) => {}
            }
        }
    }
    Ok(())
}

fn one(name: &General, by: &[u8]) -> Result<(), Error> {
    let outer = tlv::one(by).filter(|t| t.tag == SEQUENCE && !t.body.is_empty()).ok_or(Error::BadDer)?;
    let mut rest: &[Tlv<'_>] = &outer.inside().ok_or(Error::BadDer)?;
    for tag in [0xa0, 0xa1] {
        let Some((list, more)) = rest.split_first().filter(|(l, _)| l.tag == tag) else { continue };
        rest = more;
        subtrees(name, list, tag == 0xa0)?;
    }
    if rest.is_empty() { Ok(()) } else { Err(Error::BadDer) }
}

fn subtrees(name: &General, list: &Tlv<'_>, permitted: bool) -> Result<(), Error> {
    let trees = list.inside().filter(|t| !t.is_empty()).ok_or(Error::BadDer)?;
    let (mut matched, mut missed) = (false, false);
    for tree in trees {
        let fields = Some(tree).filter(|t| t.tag == SEQUENCE).and_then(|t| t.inside()).ok_or(Error::BadDer)?;
        // Neither minimum nor maximum may be written.
        let [base] = fields[..] else { return Err(Error::BadDer) };
        let base = parts::general(&base).ok_or(Error::BadDer)?;
        if base.kind != name.kind {
            continue;
        }
        let holds = match base.kind {
            2 => dns(&name.octets, &base.octets, Role::Constraint, true)?,
            7 => address(&name.octets, &base.octets)?,
            // Any excluded directory counts as one that holds the name.
            4 => !permitted || directory(&name.octets, &base.octets),
            1 => mail(&name.octets, &base.octets)?,
            _ => return Err(Error::CertNotInNameSpace),
        };
        match (permitted, holds) {
            (true, true) => matched = true,
            (true, false) => missed = true,
            (false, true) => return Err(Error::CertNotInNameSpace),
            (false, false) => {}
        }
    }
    if missed && !matched { Err(Error::CertNotInNameSpace) } else { Ok(()) }
}

fn address(name: &[u8], base: &[u8]) -> Result<bool, Error> {
    if !matches!(name.len(), 4 | 16) || !matches!(base.len(), 8 | 32) {
        return Err(Error::BadDer);
    }
    let (wanted, mask) = base.split_at(base.len() / 2);
    Ok(name.len() == wanted.len() && name.iter().zip(wanted).zip(mask).all(|((n, w), m)| (n ^ w) & m == 0))
}

/// RDN by RDN, by the octets of each value.
fn directory(name: &[u8], base: &[u8]) -> bool {
    let (Some(name), Some(base)) = (parts::attributes(name), parts::attributes(base)) else { return false };
    base.len() <= name.len() && base.iter().zip(&name).all(|(b, n)| (b.0, &b.1, &b.3) == (n.0, &n.1, &n.3))
}

fn mail(name: &[u8], base: &[u8]) -> Result<bool, Error> {
    let split = |t: &[u8]| t.iter().position(|b| *b == b'@').map(|at| (t[..at].to_vec(), t[at + 1..].to_vec()));
    let local = |l: &[u8]| {
        let plain = |b: &u8| b.is_ascii_alphanumeric() || b"!#$%&'*+-/=?^_`{|}~.".contains(b);
        !l.is_empty() && l.iter().all(plain) && !l.starts_with(b".") && !l.ends_with(b".")
    };
    let Some((own, host)) = split(name).filter(|(l, h)| local(l) && is_dns(h, Role::Presented) && !h.starts_with(b"*"))
    else {
        return Err(Error::BadDer);
    };
    match split(base) {
        Some((l, h)) => Ok(l.eq_ignore_ascii_case(&own) && h.eq_ignore_ascii_case(&host)),
        None => dns(&host, base, Role::Constraint, false),
    }
}
