//! How the JVM compares the host's name (endpoint identification "HTTPS"), and holds names against constraints.

use super::readable::{Held, canonical};
use crate::check::verify::parts::{self, Constraints, General, Subtree};
use crate::vocabulary::name::{Name, ip_octets};
use std::net::IpAddr;

/// What it says if the name does not fit.
pub fn host(leaf: &Held<'_>, host: &Name) -> Result<(), String> {
    match host {
        Name::Ip(a) => {
            let octets = ip_octets(*a);
            let Some(names) = &leaf.names else { return Err("No subject alternative names present".into()) };
            let mapped = [vec![0; 10], vec![0xff, 0xff], octets.clone()].concat();
            if names.iter().any(|n| n.kind == 7 && (n.octets == octets || n.octets == mapped)) {
                return Ok(());
            }
            Err(format!("No subject alternative names matching IP address {a} found"))
        }
        Name::Dns(d) => {
            if !is_host(d) {
                return Err(format!("Illegal given domain name: {d}"));
            }
            let mut dns = leaf.names.iter().flatten().filter(|n| n.kind == 2).peekable();
            if dns.peek().is_some() {
                if dns.any(|n| matches(d, &String::from_utf8_lossy(&n.octets))) {
                    return Ok(());
                }
                return Err(format!("No subject alternative DNS name matching {d} found."));
            }
            let common = parts::common_names(&leaf.certificate.subject).pop();
            let common = common.and_then(|(tag, o)| parts::text(tag, &o));
            match common.is_some_and(|c| matches(d, &c)) {
                true => Ok(()),
                false => Err(format!("No name matching {d} found")),
            }
        }
        _ => Ok(()),
    }
}

/// Letters, digits and hyphens in labels of at most 63; no dot at the end.
fn is_host(host: &str) -> bool {
    let good = |l: &str| {
        (1..=63).contains(&l.len())
            && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
            && !l.starts_with('-')
            && !l.ends_with('-')
    };
    host.split('.').all(good)
}

/// Label by label; a star stands for any part of one, at any place.
fn matches(host: &str, pattern: &str) -> bool {
    let last = pattern.rfind('*');
    if pattern == "*" || pattern == "*." || last.is_some_and(|at| !pattern[at..].contains('.')) {
        return false;
    }
    if !pattern.is_ascii() || !is_host(&pattern.replace('*', "z")) {
        return false;
    }
    let (host, pattern) = (host.to_ascii_lowercase(), pattern.to_ascii_lowercase());
    let (labels, wanted): (Vec<&str>, Vec<&str>) = (host.split('.').collect(), pattern.split('.').collect());
    labels.len() == wanted.len() && labels.iter().zip(wanted).all(|(l, w)| label(l, w))
}

fn label(name: &str, template: &str) -> bool {
    let mut parts: Vec<&str> = template.split('*').collect();
    let end = parts.pop().unwrap_or_default();
    if parts.is_empty() {
        return name == template;
    }
    let mut rest = name;
    for (i, part) in parts.iter().enumerate() {
        match rest.find(part) {
            Some(at) if i > 0 || at == 0 => rest = &rest[at + part.len()..],
            _ => return false,
        }
    }
    rest.ends_with(end)
}

/// How a base stands to a name.
#[derive(PartialEq, Eq)]
enum Stands {
    Other,
    Same,
    Holds,
}

/// Holds a certificate's names against constraints: what it minds, or what it says where it fails.
pub fn constrained(c: &Held<'_>, by: &Constraints, is_leaf: bool) -> Result<bool, String> {
    for tree in by.permitted.iter().chain(&by.excluded) {
        if tree.has_minimum {
            return Err(
                "PKIX path validation failed: Non-zero minimum BaseDistance in name constraints not supported".into()
            );
        }
        if tree.has_maximum {
            return Err("PKIX path validation failed: Maximum BaseDistance in name constraints not supported".into());
        }
    }
    let attributes = parts::attributes(&c.certificate.subject).unwrap_or_default();
    let mut names = Vec::new();
    if !attributes.is_empty() {
        names.push(General { kind: 4, octets: c.certificate.subject.clone() });
    }
    match &c.names {
        Some(own) => names.extend(own.iter().cloned()),
        None => {
            let mails = attributes.into_iter().filter(|a| a.1 == parts::EMAIL_ADDRESS);
            names.extend(mails.map(|a| General { kind: 1, octets: a.3 }));
        }
    }
    // A common name stands for a host where no alternative name does.
    if is_leaf
        && !names.iter().any(|n| n.kind == 2)
        && let Some((tag, octets)) = parts::common_names(&c.certificate.subject).pop()
        && let Some(text) = parts::text(tag, &octets)
        && text.parse::<IpAddr>().is_err()
        && is_host(&text)
    {
        names.push(General { kind: 2, octets: text.into_bytes() });
    }
    for name in &names {
        if !one(name, by)? {
            return Ok(false);
        }
    }
    Ok(true)
}

fn one(name: &General, by: &Constraints) -> Result<bool, String> {
    for tree in &by.excluded {
        // A star could stand for what is excluded.
        let star = name.octets.strip_prefix(b"*").filter(|_| name.kind == 2 && tree.base.kind == 2);
        if stands(tree, name)? == Stands::Holds || star.is_some_and(|s| tree.base.octets.ends_with(s)) {
            return Ok(false);
        }
    }
    let mut asked = false;
    for tree in &by.permitted {
        match stands(tree, name)? {
            Stands::Holds => return Ok(true),
            Stands::Same => asked = true,
            Stands::Other => {}
        }
    }
    Ok(!asked)
}

fn stands(tree: &Subtree, name: &General) -> Result<Stands, String> {
    let base = &tree.base;
    if base.kind != name.kind {
        return Ok(Stands::Other);
    }
    let text = |o: &[u8]| String::from_utf8_lossy(o).to_ascii_lowercase();
    let holds = match base.kind {
        2 => dns(&text(&base.octets), &text(&name.octets))?,
        1 => mail(&text(&base.octets), &text(&name.octets)),
        6 => return uri(&text(&base.octets), &text(&name.octets)),
        7 => address(&base.octets, &name.octets),
        4 => {
            let (base, name) = (canonical(&base.octets), canonical(&name.octets));
            base.is_empty() || name == base || name.starts_with(&base)
        }
        0 => return Err("Unsupported handshake message: certificate".into()),
        _ => base.octets == name.octets,
    };
    Ok(if holds { Stands::Holds } else { Stands::Same })
}

fn dns(base: &str, name: &str) -> Result<bool, String> {
    if name == base {
        return Ok(true);
    }
    if base.is_empty() || name.is_empty() {
        // It looks at the first character of a name that has none.
        return Err("String index out of range: 0".into());
    }
    if base.ends_with(name) {
        return Ok(false);
    }
    match name.strip_suffix(base) {
        Some(before) => Ok(before.ends_with('.') != base.starts_with('.')),
        None => Ok(false),
    }
}

fn mail(base: &str, name: &str) -> bool {
    if name == base {
        return true;
    }
    if base.contains('@') || base.ends_with(name) {
        return false;
    }
    name.strip_suffix(base).is_some_and(|before| base.starts_with('.') || before.ends_with('@'))
}

fn uri(base: &str, name: &str) -> Result<Stands, String> {
    let host = name.split_once("://").map(|(_, rest)| {
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let authority = rest[..end].rsplit('@').next().unwrap_or_default();
        authority.rsplit_once(':').map_or(authority, |(host, _)| host).to_owned()
    });
    let Some(host) = host else {
        return Err("Cannot invoke \"String.equalsIgnoreCase(String)\" because \"otherHost\" is null".into());
    };
    if host == base {
        return Ok(Stands::Holds);
    }
    if host.parse::<IpAddr>().is_ok() || base.is_empty() || !base.starts_with('.') {
        return Ok(Stands::Same);
    }
    Ok(if dns(base, &host)? { Stands::Holds } else { Stands::Same })
}

fn address(base: &[u8], name: &[u8]) -> bool {
    if base == name {
        return true;
    }
    if !matches!(base.len(), 8 | 32) || name.len() * 2 > base.len() {
        return false;
    }
    let (wanted, mask) = base.split_at(base.len() / 2);
    name.len() == wanted.len() && name.iter().zip(wanted).zip(mask).all(|((n, w), m)| n & m == *w)
}
