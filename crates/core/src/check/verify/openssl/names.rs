//! How programs that share OpenSSL compare the host's name, each in its own way.

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

/// What Ruby's own comparison says, if the name does not fit: names of both kinds put an end to the common name; a star may stand inside the
/// first label. Two kinds of alternative names end it with an exception.
pub fn ruby(leaf: &Cached<'_>, host: &Name) -> Result<(), &'static str> {
    let shown = host.to_string();
    let written = leaf.certificate.raw.extension(crate::pki::cert::raw::id::SUBJECT_ALT_NAME);
    if written.is_some_and(|e| crate::pki::format::tlv::one(&e.value).is_none()) {
        return Err("OpenSSL::ASN1::ASN1Error");
    }
    let mut by_common_name = true;
    for name in &leaf.names {
        by_common_name &= !matches!(name.kind, 2 | 7);
        let good = match (name.kind, host) {
            (2, _) => ruby_fits(&name.octets, &shown)?,
            (7, Name::Ip(a)) => name.octets == ip_octets(*a),
            _ => false,
        };
        if good {
            return Ok(());
        }
    }
    if by_common_name {
        for (_, octets) in parts::common_names(&leaf.certificate.subject) {
            if ruby_fits(&octets, &shown)? {
                return Ok(());
            }
        }
    }
    Err("certificate verify failed (hostname mismatch)")
}

fn ruby_fits(pattern: &[u8], host: &str) -> Result<bool, &'static str> {
    let Some(pattern) = std::str::from_utf8(pattern).ok().filter(|p| p.is_ascii()) else { return Ok(false) };
    // Dots at the end fall away when it splits.
    let labels =
        |text: &str| -> Vec<String> { text.trim_end_matches('.').split('.').map(str::to_ascii_lowercase).collect() };
    let (named, asked) = (labels(pattern), labels(host));
    if named.len() < 2 {
        return Ok(pattern == host);
    }
    if named.len() != asked.len() {
        return Ok(false);
    }
    let (first, wanted) = (&named[0], &asked[0]);
    let first_fits = match first.split('*').collect::<Vec<_>>()[..] {
        // It looks for what stands before a star that is not there.
        [""] => return Err("NoMethodError"),
        [whole] => whole == wanted,
        [before, after] => {
            !(wanted.starts_with("xn--") && first != "*")
                && before.len() + after.len() < wanted.len()
                && wanted.starts_with(before)
                && wanted.ends_with(after)
        }
        _ => false,
    };
    Ok(first_fits && named[1..] == asked[1..])
}

/// What PHP's streams say, if the name does not fit: the common name counts where no alternative name is a DNS name, a URI or a service.
pub fn php(leaf: &Cached<'_>, host: &Name) -> Result<(), String> {
    let shown = host.to_string();
    let named = |name: &parts::General| match name.kind {
        2 => {
            let bare = name.octets.strip_suffix(b".").unwrap_or(&name.octets);
            !bare.contains(&0) && php_fits(bare, shown.as_bytes())
        }
        7 => matches!(host, Name::Ip(a) if name.octets == ip_octets(*a)),
        _ => false,
    };
    if leaf.names.iter().any(named) {
        return Ok(());
    }
    if leaf.names.iter().any(|n| matches!(n.kind, 2 | 6) || n.is_service()) {
        return Err(format!("Peer certificate subjectAltName did not match expected name `{shown}'"));
    }
    let Some((_, octets)) = parts::common_names(&leaf.certificate.subject).into_iter().next() else {
        return Err("Unable to locate peer certificate CN".into());
    };
    if octets.contains(&0) {
        let common = String::from_utf8_lossy(&octets).into_owned();
        return Err(format!("Peer certificate CN=`{}' is malformed", crate::vocabulary::text::harmless(&common)));
    }
    if php_fits(&octets, shown.as_bytes()) {
        return Ok(());
    }
    let common = crate::vocabulary::text::harmless(&String::from_utf8_lossy(&octets));
    Err(format!("Peer certificate CN=`{common}' did not match expected CN=`{shown}'"))
}

/// A star anywhere in the first label stands for what has no dot, even for nothing.
fn php_fits(pattern: &[u8], host: &[u8]) -> bool {
    if pattern.eq_ignore_ascii_case(host) {
        return true;
    }
    let Some(at) = pattern.iter().position(|b| *b == b'*') else { return false };
    let (before, after) = (&pattern[..at], &pattern[at + 1..]);
    if before.contains(&b'.') || !host.get(..at).is_some_and(|h| h.eq_ignore_ascii_case(before)) {
        return false;
    }
    let Some(end) = host.len().checked_sub(after.len()).filter(|end| *end >= at) else { return false };
    host[end..].eq_ignore_ascii_case(after) && !host[at..end].contains(&b'.')
}

/// What libpq says, if the name does not fit: alternative names of either kind are compared as the host is written, and the common name
/// counts where none is of the host's own kind.
pub fn libpq(leaf: &Cached<'_>, host: &Name) -> Result<(), String> {
    let shown = host.to_string();
    let own = if matches!(host, Name::Ip(_)) { 7 } else { 2 };
    let mut names: Vec<String> = Vec::new();
    for name in &leaf.names {
        let good = match name.kind {
            2 if name.octets.contains(&0) => return Err(WITH_ZERO.into()),
            2 => libpq_fits(&name.octets, &shown),
            7 => matches!(host, Name::Ip(a) if name.octets == ip_octets(*a)),
            _ => continue,
        };
        if good {
            return Ok(());
        }
        names.push(match name.kind {
            2 => String::from_utf8_lossy(&name.octets).into_owned(),
            _ => crate::vocabulary::name::ip(&name.octets).map(|a| a.to_string()).unwrap_or_default(),
        });
    }
    if !leaf.names.iter().any(|n| n.kind == own)
        && let Some((_, octets)) = parts::common_names(&leaf.certificate.subject).into_iter().next()
    {
        if octets.contains(&0) {
            return Err(WITH_ZERO.into());
        }
        if libpq_fits(&octets, &shown) {
            return Ok(());
        }
        names.push(String::from_utf8_lossy(&octets).into_owned());
    }
    let Some(first) = names.first() else {
        return Err("could not get server's host name from server certificate".into());
    };
    let first = crate::vocabulary::text::harmless(first);
    Err(match names.len() {
        1 => format!("server certificate for \"{first}\" does not match host name \"{shown}\""),
        2 => format!("server certificate for \"{first}\" (and 1 other name) does not match host name \"{shown}\""),
        n => format!(
            "server certificate for \"{first}\" (and {} other names) does not match host name \"{shown}\"",
            n - 1
        ),
    })
}

const WITH_ZERO: &str = "SSL certificate's name contains embedded null";

/// A star is the whole first label.
fn libpq_fits(pattern: &[u8], host: &str) -> bool {
    let host = host.as_bytes();
    if pattern.eq_ignore_ascii_case(host) {
        return true;
    }
    if pattern.len() < 3 || !pattern.starts_with(b"*.") || pattern.len() > host.len() {
        return false;
    }
    let end = host.len() - pattern.len() + 1;
    host[end..].eq_ignore_ascii_case(&pattern[1..]) && !host[..end].contains(&b'.')
}
