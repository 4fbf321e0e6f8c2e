//! How three programs that share OpenSSL compare the host's name, each in its own way.

use super::cached::Cached;
use crate::check::verify::parts;
use crate::vocabulary::name::{Name, ip_octets};
use std::net::IpAddr;

/// What curl says, if the name does not fit.
pub fn curl(leaf: &Cached<'_>, host: &Name) -> Result<(), String> {
    let shown = host.to_string();
    let fits = |pattern: &[u8]| curl_fits(pattern, shown.as_bytes());
    let mut supported = false;
    for name in &leaf.names {
        supported |= matches!(name.kind, 2 | 7);
        let good = match (name.kind, host) {
            (2, Name::Dns(_)) => !name.octets.contains(&0) && fits(&name.octets),
            (7, Name::Ip(a)) => name.octets == ip_octets(*a),
            _ => false,
        };
        if good {
            return Ok(());
        }
    }
    if supported {
        return Err(format!("(60) SSL: no alternative certificate subject name matches target host name '{shown}'"));
    }
    let Some((tag, octets)) = parts::common_names(&leaf.certificate.subject).pop() else {
        return Err("(60) SSL: unable to obtain common name from peer certificate".into());
    };
    let Some(common) = parts::text(tag, &octets) else {
        return Err("(60) SSL: unable to obtain common name from peer certificate".into());
    };
    if common.contains('\0') {
        return Err("(60) SSL: illegal cert name field".into());
    }
    if fits(common.as_bytes()) {
        return Ok(());
    }
    let common = crate::vocabulary::text::harmless(&common);
    Err(format!("(60) SSL: certificate subject name '{common}' does not match target host name '{shown}'"))
}

/// A star stands for the first label, and needs two dots behind it; a dot at the end does not count.
fn curl_fits(pattern: &[u8], host: &[u8]) -> bool {
    let (pattern, host) = (pattern.strip_suffix(b".").unwrap_or(pattern), host.strip_suffix(b".").unwrap_or(host));
    if pattern.is_empty() {
        return false;
    }
    let text = String::from_utf8_lossy(host);
    if !pattern.starts_with(b"*.") {
        return pattern.eq_ignore_ascii_case(host);
    }
    if text.parse::<IpAddr>().is_ok() {
        return false;
    }
    if pattern.iter().filter(|b| **b == b'.').count() < 2 {
        return pattern.eq_ignore_ascii_case(host);
    }
    let rest = host.iter().position(|b| *b == b'.').map(|at| &host[at..]);
    rest.is_some_and(|rest| rest.eq_ignore_ascii_case(&pattern[1..]))
}

/// What the library itself says, as Python asks it.
pub fn library(leaf: &Cached<'_>, host: &Name) -> bool {
    match host {
        Name::Ip(a) => leaf.names.iter().any(|n| n.kind == 7 && n.octets == ip_octets(*a)),
        Name::Dns(d) => {
            let mut names = leaf.names.iter().filter(|n| n.kind == 2).peekable();
            if names.peek().is_some() {
                return names.any(|n| library_fits(&n.octets, d.as_bytes()));
            }
            let commons = parts::common_names(&leaf.certificate.subject);
            commons.iter().filter_map(|(tag, o)| parts::text(*tag, o)).any(|c| library_fits(c.as_bytes(), d.as_bytes()))
        }
        _ => false,
    }
}

fn library_fits(pattern: &[u8], host: &[u8]) -> bool {
    let equal = |a: &[u8], b: &[u8]| a.eq_ignore_ascii_case(b) && !a.contains(&0);
    if !has_valid_star(pattern) {
        return equal(pattern, host);
    }
    // The star is the whole first label.
    let Some(first) = host.len().checked_sub(pattern.len() - 1).filter(|n| *n > 0) else { return false };
    let plain = |b: &u8| b.is_ascii_alphanumeric() || *b == b'-';
    equal(&pattern[1..], &host[first..]) && (host[..first].iter().all(plain) || host[..first] == *b"*")
}

/// One star, alone in the first label, at least two dots behind it, and nothing but letters, digits and hyphens in place.
fn has_valid_star(pattern: &[u8]) -> bool {
    let Some(rest) = pattern.strip_prefix(b"*.") else { return false };
    let labels: Vec<&[u8]> = rest.split(|b| *b == b'.').collect();
    let good = |label: &&[u8]| {
        !label.is_empty()
            && label.iter().all(|b| b.is_ascii_alphanumeric() || *b == b'-')
            && label.first() != Some(&b'-')
            && label.last() != Some(&b'-')
    };
    labels.len() >= 2 && labels.iter().all(good)
}

/// What Node.js' own comparison says.
pub fn node(leaf: &Cached<'_>, host: &Name) -> bool {
    match host {
        Name::Ip(a) => leaf.names.iter().any(|n| n.kind == 7 && n.octets == ip_octets(*a)),
        Name::Dns(d) => {
            let names: Vec<&[u8]> = leaf.names.iter().filter(|n| n.kind == 2).map(|n| n.octets.as_slice()).collect();
            if !names.is_empty() {
                return names.iter().any(|n| node_fits(n, d));
            }
            let commons = parts::common_names(&leaf.certificate.subject);
            commons.iter().filter_map(|(tag, o)| parts::text(*tag, o)).any(|c| node_fits(c.as_bytes(), d))
        }
        _ => false,
    }
}

fn node_fits(pattern: &[u8], host: &str) -> bool {
    let pattern = pattern.strip_suffix(b".").unwrap_or(pattern).to_ascii_lowercase();
    let host = host.strip_suffix('.').unwrap_or(host).to_ascii_lowercase();
    let (labels, wanted): (Vec<&[u8]>, Vec<&[u8]>) =
        (pattern.split(|b| *b == b'.').collect(), host.as_bytes().split(|b| *b == b'.').collect());
    let is_bad = |label: &&[u8]| label.is_empty() || label.iter().any(|b| !(0x21..=0x7f).contains(b));
    if labels.len() != wanted.len() || labels.iter().any(is_bad) || labels[1..] != wanted[1..] {
        return false;
    }
    let (first, asked) = (labels[0], wanted[0]);
    let stars = first.iter().filter(|b| **b == b'*').count();
    if stars == 0 || first.windows(4).any(|w| w == b"xn--") {
        return first == asked;
    }
    let at = first.iter().position(|b| *b == b'*').unwrap_or(0);
    let (before, after) = (&first[..at], &first[at + 1..]);
    stars == 1
        && labels.len() > 2
        && before.len() + after.len() <= asked.len()
        && asked.starts_with(before)
        && asked.ends_with(after)
}
