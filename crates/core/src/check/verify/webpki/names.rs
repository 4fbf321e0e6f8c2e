//! How webpki compares names, and holds them against constraints (RFC 5280 §4.2.1.10, with its own choices).

use super::Fault;
use crate::check::verify::parts::{General, general, shown};
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::id;
use crate::pki::format::tlv;
use crate::vocabulary::name::{Name, ip_octets};

/// What a name is compared with.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Role {
    Host,
    Permitted,
    Excluded,
}

/// The alternative names one after another, up to the first that it cannot read.
fn named(c: &Certificate) -> impl Iterator<Item = Result<General, Fault>> {
    let list = c.raw.extension(id::SUBJECT_ALT_NAME).map(|e| {
        let inside = tlv::one(&e.value).filter(|t| t.tag == tlv::SEQUENCE).and_then(|t| t.inside());
        let read = |t: &tlv::Tlv<'_>| general(t).ok_or(Fault::new("encoding"));
        inside.map_or_else(|| vec![Err(Fault::new("encoding"))], |all| all.iter().map(read).collect())
    });
    list.into_iter().flatten()
}

/// Whether the leaf names the host.
///
/// Errors: a name before the one that fits cannot be read.
pub(super) fn covers(leaf: &Certificate, host: &Name) -> Result<bool, Fault> {
    for name in named(leaf) {
        let name = name?;
        let good = match (name.kind, host) {
            (2, Name::Dns(host)) => fits(&name.octets, Role::Host, host.as_bytes()).unwrap_or(false),
            (7, Name::Ip(a)) => name.octets == ip_octets(*a),
            _ => false,
        };
        if good {
            return Ok(true);
        }
    }
    Ok(false)
}

/// Whether the names of a certificate lie within constraints.
pub(super) fn within(c: &Certificate, constraints: &[u8]) -> Result<(), Fault> {
    let bad = || Fault::new("encoding");
    let lists = tlv::one(constraints).filter(|t| t.tag == tlv::SEQUENCE).and_then(|t| t.inside()).ok_or_else(bad)?;
    let mut lists = lists.iter().peekable();
    let permitted = lists.next_if(|t| t.tag == 0xa0);
    let excluded = lists.next_if(|t| t.tag == 0xa1);
    if lists.next().is_some() {
        return Err(bad());
    }
    // The subject itself is a directory name, whose contents do not count.
    let subject = General { kind: 4, octets: c.raw.subject.clone() };
    for name in named(c).chain([Ok(subject)]) {
        let name = name?;
        for (role, list) in [(Role::Permitted, permitted), (Role::Excluded, excluded)] {
            if let Some(list) = list {
                against(&name, role, list)?;
            }
        }
    }
    Ok(())
}

fn against(name: &General, role: Role, list: &tlv::Tlv<'_>) -> Result<(), Fault> {
    let (mut hit, mut missed) = (false, false);
    let outside = || Fault::new("constraints").at(0, shown(name));
    for tree in list.inside().ok_or(Fault::new("encoding"))? {
        let fields = Some(tree).filter(|t| t.tag == tlv::SEQUENCE).and_then(|t| t.inside());
        // Minimum and maximum must not be written.
        let base = match fields.as_deref() {
            Some([base]) => general(base).ok_or(Fault::new("encoding"))?,
            _ => return Err(Fault::new("encoding")),
        };
        if base.kind != name.kind {
            continue;
        }
        let matches = match name.kind {
            2 => fits(&name.octets, role, &base.octets)?,
            7 => in_block(&name.octets, &base.octets)?,
            // It compares neither directories nor URIs: what is permitted does not fit, what is excluded does.
            4 | 6 => role == Role::Excluded,
            _ => return Err(outside()),
        };
        match (role, matches) {
            (Role::Excluded, true) => return Err(outside()),
            (_, true) => hit = true,
            (Role::Permitted, false) => missed = true,
            _ => {}
        }
    }
    if missed && !hit { Err(outside()) } else { Ok(()) }
}

/// Address and mask, the mask's ones first.
fn in_block(name: &[u8], block: &[u8]) -> Result<bool, Fault> {
    match (name.len(), block.len()) {
        (4, 8) | (16, 32) => {}
        (4, 32) | (16, 8) => return Ok(false),
        (4 | 16, _) => return Err(Fault::new("mask")),
        _ => return Err(Fault::new("encoding")),
    }
    let (address, mask) = block.split_at(name.len());
    let mut rest = mask.iter().skip_while(|b| **b == 0xff);
    let edge = rest.next().is_none_or(|b| b.leading_ones() + b.trailing_zeros() >= 8);
    if !edge || rest.any(|b| *b != 0) {
        return Err(Fault::new("mask"));
    }
    Ok(name.iter().zip(address).zip(mask).all(|((n, a), m)| n & m == a & m))
}

/// Whether a name that a certificate has fits a host or a constraint.
///
/// Errors: one of the two is not the name of a host.
fn fits(presented: &[u8], role: Role, wanted: &[u8]) -> Result<bool, Fault> {
    if !is_host(presented, true, false, false) {
        return Err(Fault::new("name-form"));
    }
    if !is_host(wanted, false, role != Role::Host, role == Role::Host) {
        return Err(Fault::new(if role == Role::Host { "name-form" } else { "constraint-form" }));
    }
    let mut rest = presented;
    if role != Role::Host && presented.len() > wanted.len() {
        if wanted.is_empty() {
            return Ok(true);
        }
        let cut = presented.len() - wanted.len();
        if !wanted.starts_with(b".") && presented[cut - 1] != b'.' {
            return Ok(false);
        }
        rest = &presented[cut..];
    }
    let mut against = wanted;
    if rest.starts_with(b"*") && role != Role::Permitted {
        rest = &rest[1..];
        // At least one octet, up to the dot.
        let Some(dot) = against.iter().skip(1).position(|b| *b == b'.') else { return Ok(false) };
        against = &against[dot + 1..];
    }
    if role == Role::Host && against.len() == rest.len() + 1 {
        against = against.strip_suffix(b".").unwrap_or(against);
    }
    Ok(rest.eq_ignore_ascii_case(against))
}

/// Letters, digits, hyphens and underscores in labels of at most 63, no hyphen at an end, the last label not all digits.
fn is_host(name: &[u8], may_have_star: bool, is_constraint: bool, may_end_with_dot: bool) -> bool {
    if name.len() > 253 || name.is_empty() {
        return is_constraint && name.is_empty();
    }
    let star = may_have_star && name.starts_with(b"*");
    let body = match (star, name.strip_prefix(b"*.")) {
        (true, Some(body)) => body,
        (true, None) => return false,
        _ => name,
    };
    let body = if is_constraint { body.strip_prefix(b".").unwrap_or(body) } else { body };
    let body = if may_end_with_dot { body.strip_suffix(b".").unwrap_or(body) } else { body };
    let labels: Vec<&[u8]> = body.split(|b| *b == b'.').collect();
    let good = |label: &&[u8]| {
        !label.is_empty()
            && label.len() <= 63
            && label.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_'))
            && label.first() != Some(&b'-')
            && label.last() != Some(&b'-')
    };
    let numeric = labels.last().is_some_and(|l| l.iter().all(u8::is_ascii_digit));
    labels.iter().all(good) && !numeric && (!star || labels.len() >= 2)
}
