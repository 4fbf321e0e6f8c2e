//! How Chromium compares the host's name, and holds names against constraints.

use super::parsed::{Parsed, normalized};
use crate::check::verify::parts::{Constraints, General};
use crate::vocabulary::name::{Name, ip_octets};

/// Whether the leaf names the host. A common name is never read.
pub fn covers(names: &[General], host: &Name) -> bool {
    match host {
        Name::Ip(a) => {
            let octets = ip_octets(*a);
            names.iter().any(|n| n.kind == 7 && n.octets == octets)
        }
        Name::Dns(host) => {
            let host = host.to_ascii_lowercase();
            let host = host.strip_suffix('.').unwrap_or(&host);
            names.iter().filter(|n| n.kind == 2).any(|n| fits(&n.octets, host))
        }
        _ => false,
    }
}

fn fits(name: &[u8], host: &str) -> bool {
    if name.is_empty() || name.contains(&0) {
        return false;
    }
    let name = String::from_utf8_lossy(name).to_ascii_lowercase();
    let name = name.strip_suffix('.').unwrap_or(&name);
    if name.len() > host.len() {
        return false;
    }
    let split =
        |t: &str| t.split_once('.').map_or((t.to_owned(), String::new()), |(a, b)| (a.to_owned(), b.to_owned()));
    let ((own, domain), (first, rest)) = (split(name), split(host));
    if domain != rest {
        return false;
    }
    own == first || (own == "*" && !rest.is_empty() && !is_public_suffix(&rest))
}

/// Whether names right below it are registered by anyone, so that no star may stand there: a top domain, or the second level of a country
/// where registrations go one level deeper. The whole list of such suffixes changes weekly and is not part of Tamga: these are those that
/// nearly all countries with a second level have.
fn is_public_suffix(domain: &str) -> bool {
    const SECOND: [&str; 12] = ["ac", "co", "com", "edu", "go", "gov", "mil", "ne", "net", "nom", "or", "org"];
    match domain.split_once('.') {
        None => true,
        Some((second, top)) => {
            top.len() == 2 && top.bytes().all(|b| b.is_ascii_alphabetic()) && SECOND.contains(&second)
        }
    }
}

/// The name that the constraints do not let pass.
pub fn forbidden(c: &Parsed<'_>, by: &Constraints, critical: bool) -> Option<General> {
    for name in c.names.iter().flatten() {
        let good = match name.kind {
            2 => allowed(name, by, dns),
            7 => allowed(name, by, |n, base, _| address(n, base)),
            1 => {
                let asked = by.permitted.iter().chain(&by.excluded).any(|t| t.base.kind == 1);
                (!asked || name.octets.contains(&b'@')) && allowed(name, by, |n, base, _| mail(n, base))
            }
            4 => allowed(name, by, |n, base, _| directory(n, base)),
            // A kind that it does not compare, where a critical constraint is on it.
            kind => !critical || !by.permitted.iter().chain(&by.excluded).any(|t| t.base.kind == kind),
        };
        if !good {
            return Some(name.clone());
        }
    }
    let subject = General { kind: 4, octets: c.certificate.subject.clone() };
    let constrains_mail = by.permitted.iter().chain(&by.excluded).any(|t| t.base.kind == 1);
    let has_mail = crate::pki::cert::subject::mailboxes(&c.certificate.subject).into_iter().next();
    if c.names.is_none()
        && constrains_mail
        && let Some(mail) = has_mail
    {
        return Some(General { kind: 1, octets: mail.into_bytes() });
    }
    let is_empty = crate::pki::cert::subject::is_empty(&c.certificate.subject);
    (!is_empty && !allowed(&subject, by, |n, base, _| directory(n, base))).then_some(subject)
}

fn allowed(name: &General, by: &Constraints, holds: impl Fn(&[u8], &[u8], bool) -> bool) -> bool {
    let of = |t: &&crate::check::verify::parts::Subtree| t.base.kind == name.kind;
    if by.excluded.iter().filter(of).any(|t| holds(&name.octets, &t.base.octets, true)) {
        return false;
    }
    let mut permitted = by.permitted.iter().filter(of).peekable();
    permitted.peek().is_none() || permitted.any(|t| holds(&name.octets, &t.base.octets, false))
}

fn dns(name: &[u8], base: &[u8], excluded: bool) -> bool {
    if base.is_empty() {
        return true;
    }
    let bare = |t: &[u8]| t.strip_suffix(b".").unwrap_or(t).to_ascii_lowercase();
    let (name, base) = (bare(name), bare(base));
    if excluded
        && let Some(rest) = name.strip_prefix(b"*.").filter(|r| !r.is_empty())
        && let Some(dot) = base.iter().position(|b| *b == b'.')
        && base[dot + 1..] == *rest
    {
        return true;
    }
    let Some(at) = name.len().checked_sub(base.len()).filter(|at| name[*at..] == base[..]) else { return false };
    at == 0 || base.first() == Some(&b'.') || name[at - 1] == b'.'
}

fn address(name: &[u8], base: &[u8]) -> bool {
    let (wanted, mask) = base.split_at(base.len() / 2);
    name.len() == wanted.len() && name.iter().zip(wanted).zip(mask).all(|((n, w), m)| n & m == w & m)
}

fn mail(name: &[u8], base: &[u8]) -> bool {
    let split = |t: &[u8]| t.iter().rposition(|b| *b == b'@').map(|at| (t[..at].to_vec(), t[at + 1..].to_vec()));
    let Some((local, host)) = split(name) else { return false };
    match split(base) {
        Some((l, h)) => l == local && h.eq_ignore_ascii_case(&host),
        None if base.first() == Some(&b'.') => {
            let at = host.len().checked_sub(base.len()).filter(|n| *n > 0);
            at.is_some_and(|at| host[at..].eq_ignore_ascii_case(base))
        }
        None => host.eq_ignore_ascii_case(base),
    }
}

fn directory(name: &[u8], base: &[u8]) -> bool {
    match (normalized(name), normalized(base)) {
        (Some(name), Some(base)) => name.starts_with(&base),
        _ => false,
    }
}
