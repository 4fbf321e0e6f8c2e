//! How GnuTLS compares names, and holds them against constraints (RFC 5280 §4.2.1.10, with its own choices).

use crate::check::verify::parts::{self, Constraints, General};
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::id;
use crate::vocabulary::name::{Name, ip_octets};

/// Whether the leaf's purposes let a common name stand for a host: none (an empty list too), any, or a server's.
fn may_serve(leaf: &Certificate) -> bool {
    let Some(e) = leaf.raw.extension(id::EXTENDED_KEY_USAGE) else { return true };
    let Some(all) = parts::purposes(&e.value) else { return false };
    all.is_empty() || all.iter().any(|p| [parts::SERVER_AUTH, parts::ANY_PURPOSE].contains(&p.as_slice()))
}

/// The common name, if there is exactly one. `Err` where there are several.
fn single_common_name(leaf: &Certificate) -> Result<Option<Vec<u8>>, ()> {
    let mut all = parts::common_names(&leaf.subject);
    match all.len() {
        0 => Ok(None),
        1 => {
            let (tag, octets) = all.remove(0);
            Ok(Some(parts::text(tag, &octets).map_or(octets, String::into_bytes)))
        }
        _ => Err(()),
    }
}

/// Whether the leaf names the host.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    let names = parts::alternative_names(&leaf.raw).unwrap_or_default();
    match host {
        Name::Ip(a) => {
            let octets = ip_octets(*a);
            names.iter().any(|n| n.kind == 7 && n.octets == octets)
        }
        Name::Dns(host) => {
            let mut dns = names.iter().filter(|n| n.kind == 2).peekable();
            if dns.peek().is_some() {
                return dns.any(|n| is_printable(&n.octets) && fits(&n.octets, host.as_bytes()));
            }
            // Since 3.8.13, and Debian's 3.7.9-2+deb12u7, a URI and a service keep the common name out as an address does.
            if !may_serve(leaf) || names.iter().any(|n| matches!(n.kind, 6 | 7) || n.is_service()) {
                return false;
            }
            let common = single_common_name(leaf).ok().flatten();
            common.is_some_and(|c| is_printable(&c) && fits(&c, host.as_bytes()))
        }
        _ => false,
    }
}

fn is_printable(octets: &[u8]) -> bool {
    octets.len() < 256 && octets.iter().all(|b| (0x20..0x7f).contains(b))
}

/// Equal, or a star in front, which stands for what is left of one label, and has two dots behind it.
fn fits(pattern: &[u8], host: &[u8]) -> bool {
    if pattern.eq_ignore_ascii_case(host) {
        return true;
    }
    let Some(rest) = pattern.strip_prefix(b"*") else { return false };
    if pattern.iter().filter(|b| **b == b'.').count() < 2 || pattern.last() == Some(&b'.') {
        return false;
    }
    let label = host.iter().position(|b| *b == b'.').unwrap_or(host.len());
    (0..=label).any(|at| rest.eq_ignore_ascii_case(&host[at..]))
}

/// Whether the constraints can be used at all.
pub fn is_readable(by: &Constraints) -> bool {
    by.permitted.iter().chain(&by.excluded).all(|t| match t.base.kind {
        7 => is_block(&t.base.octets),
        8 => false,
        1 | 2 | 6 => t.base.octets.is_ascii() && !t.base.octets.starts_with(b"..") && t.base.octets != b".",
        _ => true,
    })
}

/// Address and mask of equal length, the mask's ones first.
fn is_block(octets: &[u8]) -> bool {
    if !matches!(octets.len(), 8 | 32) {
        return false;
    }
    let mask = &octets[octets.len() / 2..];
    let ones: u32 = mask.iter().map(|b| b.count_ones()).sum();
    let leading = mask.iter().take_while(|b| **b == 0xff).count();
    let led = leading as u32 * 8 + mask.get(leading).map_or(0, |b| b.leading_ones());
    ones == led
}

/// The first name that the constraints forbid.
pub fn forbidden(leaf: &Certificate, by: &Constraints) -> Option<General> {
    let names = parts::alternative_names(&leaf.raw).unwrap_or_default();
    let is_asked = |kind: u8| !by.excluded.is_empty() || by.permitted.iter().any(|t| t.base.kind == kind);
    let of = |kind: u8| names.iter().filter(move |n| n.kind == kind);
    if is_asked(2) {
        if let Some(bad) = of(2).find(|n| !dns(&n.octets, by)) {
            return Some(bad.clone());
        }
        if of(2).next().is_none() && may_serve(leaf) {
            let bad = |octets: Vec<u8>| Some(General { kind: 2, octets });
            match single_common_name(leaf) {
                Err(()) => return bad(Vec::new()),
                Ok(Some(common)) if !dns(&common, by) => return bad(common),
                Ok(_) => {}
            }
        }
    }
    if is_asked(1)
        && let Some(bad) = of(1).find(|n| !mail(&n.octets, by))
    {
        return Some(bad.clone());
    }
    // It does not compare these: where one is excluded, nothing is taken.
    let has_uri = of(6).next().is_some();
    if let Some(t) = by.excluded.iter().find(|t| t.base.kind == 4 || (t.base.kind == 6 && has_uri)) {
        return Some(t.base.clone());
    }
    of(7).find(|n| !address(&n.octets, by)).cloned()
}

fn bases(of: &[parts::Subtree], kind: u8) -> impl Iterator<Item = &[u8]> {
    of.iter().filter(move |t| t.base.kind == kind).map(|t| t.base.octets.as_slice())
}

fn dns(name: &[u8], by: &Constraints) -> bool {
    // A dot at the end does not count here.
    let name = name.strip_suffix(b".").unwrap_or(name);
    let ends = |base: &[u8]| {
        if base == name {
            return true;
        }
        if base.len() >= name.len() {
            return false;
        }
        let bare = base.strip_prefix(b".").unwrap_or(base);
        let at = name.len() - bare.len();
        name[at..] == *bare && name[at - 1] == b'.'
    };
    if bases(&by.excluded, 2).any(|b| b.is_empty() || ends(b)) {
        return false;
    }
    let mut permitted = bases(&by.permitted, 2).filter(|b| !b.is_empty()).peekable();
    permitted.peek().is_none() || permitted.any(ends)
}

fn mail(name: &[u8], by: &Constraints) -> bool {
    let fits = |base: &[u8]| {
        if base == name {
            return true;
        }
        if base.contains(&b'@') || base.len() >= name.len() {
            return false;
        }
        let at = name.len() - base.len();
        name[at..] == *base && (base.first() == Some(&b'.') || name[at - 1] == b'@')
    };
    if bases(&by.excluded, 1).any(|b| b.is_empty() || fits(b)) {
        return false;
    }
    let mut permitted = bases(&by.permitted, 1).filter(|b| !b.is_empty()).peekable();
    permitted.peek().is_none() || permitted.any(fits)
}

fn address(name: &[u8], by: &Constraints) -> bool {
    let holds = |base: &[u8]| {
        let (address, mask) = base.split_at(base.len() / 2);
        address.len() == name.len() && name.iter().zip(address).zip(mask).all(|((n, a), m)| n & m == a & m)
    };
    if bases(&by.excluded, 7).any(holds) {
        return false;
    }
    let mut permitted = bases(&by.permitted, 7).filter(|b| b.len() == name.len() * 2).peekable();
    permitted.peek().is_none() || permitted.any(holds)
}
