//! Name constraints as OpenSSL holds names against them (RFC 5280 §4.2.1.10, with its own choices).

use super::cached::Cached;
use super::text::canonical;
use crate::check::verify::parts::{self, Constraints, General, Subtree};

/// What came out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// No permitted subtree holds the name.
    Permitted,
    /// An excluded subtree holds it.
    Excluded,
    /// A subtree with a minimum or a maximum.
    MinMax,
    /// A kind of constraint that it does not know.
    Kind,
    /// A name that it cannot read.
    Syntax,
    /// Too many names for the constraints.
    TooMany,
}

/// The most comparisons that it makes.
const MOST: usize = 1 << 20;

/// Holds a certificate's subject and alternative names against constraints; gives the name that is at fault. `boring`: as
/// BoringSSL does it, which knows no constraints of addresses.
pub fn check(of: &Cached<'_>, by: &Constraints, boring: bool) -> Result<(), (Fault, General)> {
    let subject = parts::attributes(&of.certificate.subject).unwrap_or_default();
    let all = General { kind: 4, octets: of.certificate.subject.clone() };
    let limits = by.permitted.len() + by.excluded.len();
    if limits > 0 && subject.len() + of.names.len() > MOST / limits {
        return Err((Fault::TooMany, all));
    }
    if !subject.is_empty() {
        one(&all, by, boring)?;
        for (_, _, tag, octets) in subject.iter().filter(|a| a.1 == parts::EMAIL_ADDRESS) {
            let mail = General { kind: 1, octets: octets.clone() };
            if *tag != 0x16 {
                return Err((Fault::Syntax, mail));
            }
            one(&mail, by, boring)?;
        }
    }
    of.names.iter().try_for_each(|name| one(name, by, boring))
}

/// Holds the common names against them, as far as they look like a host's name.
pub fn check_common_names(of: &Cached<'_>, by: &Constraints) -> Result<(), (Fault, General)> {
    for (tag, octets) in parts::common_names(&of.certificate.subject) {
        let Some(text) = parts::text(tag, &octets) else { continue };
        let text = text.trim_end_matches('\0');
        if looks_like_a_host(text) {
            one(&General { kind: 2, octets: text.as_bytes().to_vec() }, by, false)?;
        }
    }
    Ok(())
}

/// True if a common name looks like a host's name, a wildcard included.
pub fn has_host_as_common_name(of: &Cached<'_>) -> bool {
    let commons = parts::common_names(&of.certificate.subject);
    let mut texts = commons.iter().filter_map(|(tag, octets)| parts::text(*tag, octets));
    texts.any(|t| looks_like_a_host(t.strip_prefix("*.").unwrap_or(&t)))
}

/// Letters, digits, hyphens and underscores in labels, with at least one dot.
fn looks_like_a_host(text: &str) -> bool {
    let bytes = text.as_bytes();
    let mut has_dot = false;
    for (i, b) in bytes.iter().enumerate() {
        match b {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' => {}
            b'-' if i > 0 && i + 1 < bytes.len() => {}
            b'.' if i > 0
                && i + 1 < bytes.len()
                && bytes[i - 1] != b'.'
                && bytes[i - 1] != b'-'
                && bytes[i + 1] != b'-' =>
            {
                has_dot = true;
            }
            _ => return false,
        }
    }
    has_dot
}

/// SmtpUTF8Mailbox (RFC 8398 §3).
const SMTP_UTF8: &[u8] = &[0x2b, 6, 1, 5, 5, 7, 8, 9];

fn other_kind(name: &General) -> Option<Vec<u8>> {
    parts::first(&name.octets)?.expect(0x06).map(<[u8]>::to_vec)
}

fn one(name: &General, by: &Constraints, boring: bool) -> Result<(), (Fault, General)> {
    let is_mailbox = name.kind == 0 && other_kind(name).as_deref() == Some(SMTP_UTF8);
    let kind = if is_mailbox { 1 } else { name.kind };
    let applies = |s: &&Subtree| s.base.kind == kind && (kind != 0 || other_kind(&s.base) == other_kind(name));
    let at_fault = |fault| (fault, name.clone());
    let holds = |base: &General, excludes: bool| match kind {
        7 if boring => Err(Fault::Kind),
        2 if boring => Ok(dns_boring(&name.octets, &base.octets, excludes)),
        6 if boring && has_address(&name.octets) => Err(Fault::Syntax),
        _ => holds(kind, name, base),
    };
    let has_limits = |t: &Subtree| t.has_minimum || t.has_maximum || boring && t.writes_minimum;
    let (mut asked, mut found) = (false, false);
    for tree in by.permitted.iter().filter(applies) {
        if has_limits(tree) {
            return Err(at_fault(Fault::MinMax));
        }
        asked = true;
        if !found {
            found = holds(&tree.base, false).map_err(at_fault)?;
        }
    }
    if asked && !found {
        return Err(at_fault(Fault::Permitted));
    }
    for tree in by.excluded.iter().filter(applies) {
        if has_limits(tree) {
            return Err(at_fault(Fault::MinMax));
        }
        if holds(&tree.base, true).map_err(at_fault)? {
            return Err(at_fault(Fault::Excluded));
        }
    }
    Ok(())
}

fn holds(kind: u8, name: &General, base: &General) -> Result<bool, Fault> {
    match kind {
        4 => Ok(canonical(&name.octets).starts_with(&canonical(&base.octets))),
        2 => Ok(dns(&name.octets, &base.octets)),
        1 if name.kind == 0 => {
            let value = parts::first(&name.octets).and_then(|id| name.octets.get(id.whole.len()..));
            let inner = value.and_then(parts::first).and_then(|t| parts::first(t.body).map(|t| t.body.to_vec()));
            mail(&inner.ok_or(Fault::Syntax)?, &base.octets)
        }
        1 => mail(&name.octets, &base.octets),
        6 => uri(&name.octets, &base.octets),
        7 => address(&name.octets, &base.octets),
        _ => Err(Fault::Kind),
    }
}

fn dns(name: &[u8], base: &[u8]) -> bool {
    if base.is_empty() {
        return true;
    }
    let Some(at) = name.len().checked_sub(base.len()) else { return false };
    if at > 0 && base[0] != b'.' && name[at - 1] != b'.' {
        return false;
    }
    name[at..].eq_ignore_ascii_case(base)
}

/// Dots at the end do not count; an excluded host keeps a star from standing for it.
fn dns_boring(name: &[u8], base: &[u8], excludes: bool) -> bool {
    let bare = |text: &'_ [u8]| text.strip_suffix(b".").unwrap_or(text).to_vec();
    let (name, base) = (bare(name), bare(base));
    if excludes
        && let Some(rest) = name.strip_prefix(b"*")
        && let Some(dot) = base.iter().position(|b| *b == b'.')
        && rest.len() > 1
        && base[dot..].eq_ignore_ascii_case(rest)
    {
        return true;
    }
    dns(&name, &base)
}

/// The host in a URI is an address.
fn has_address(uri: &[u8]) -> bool {
    let text = String::from_utf8_lossy(uri);
    let host = text.split_once("://").map(|(_, rest)| rest.split([':', '/']).next().unwrap_or_default());
    host.is_some_and(|h| h.parse::<std::net::IpAddr>().is_ok())
}

fn split(mailbox: &[u8]) -> Option<(&[u8], &[u8])> {
    let at = mailbox.iter().rposition(|b| *b == b'@')?;
    Some((&mailbox[..at], &mailbox[at + 1..]))
}

fn mail(name: &[u8], base: &[u8]) -> Result<bool, Fault> {
    let (local, host) = split(name).ok_or(Fault::Syntax)?;
    let (wanted, base_host) = match split(base) {
        Some((local, host)) => (Some(local).filter(|l| !l.is_empty()), host),
        None if base.first() == Some(&b'.') => {
            let at = name.len().checked_sub(base.len()).filter(|n| *n > 0);
            return Ok(at.is_some_and(|at| name[at..].eq_ignore_ascii_case(base)));
        }
        None => (None, base),
    };
    Ok(wanted.is_none_or(|w| w == local) && host.eq_ignore_ascii_case(base_host))
}

fn uri(name: &[u8], base: &[u8]) -> Result<bool, Fault> {
    let colon = name.iter().position(|b| *b == b':').ok_or(Fault::Syntax)?;
    let rest = name[colon + 1..].strip_prefix(b"//").ok_or(Fault::Syntax)?;
    let end = rest.iter().position(|b| *b == b':').or_else(|| rest.iter().position(|b| *b == b'/'));
    let host = &rest[..end.unwrap_or(rest.len())];
    if host.is_empty() {
        return Err(Fault::Syntax);
    }
    if base.first() == Some(&b'.') {
        let at = host.len().checked_sub(base.len()).filter(|n| *n > 0);
        return Ok(at.is_some_and(|at| host[at..].eq_ignore_ascii_case(base)));
    }
    Ok(host.eq_ignore_ascii_case(base))
}

fn address(name: &[u8], base: &[u8]) -> Result<bool, Fault> {
    if !matches!(name.len(), 4 | 16) || !matches!(base.len(), 8 | 32) {
        return Err(Fault::Syntax);
    }
    if name.len() * 2 != base.len() {
        return Ok(false);
    }
    let (wanted, mask) = base.split_at(name.len());
    Ok(name.iter().zip(wanted).zip(mask).all(|((n, w), m)| n & m == w & m))
}
