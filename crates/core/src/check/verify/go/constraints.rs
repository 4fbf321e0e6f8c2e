//! Name constraints as Go holds names against them.

use crate::check::verify::parts::General;
use std::net::IpAddr;

/// One subtree's base.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Constraint {
    /// dNSName.
    Dns(String),
    /// Address and mask.
    Ip(Vec<u8>, Vec<u8>),
    /// rfc822Name.
    Mail(String),
    /// uniformResourceIdentifier.
    Uri(String),
}

impl Constraint {
    /// Reads a base; None for a kind that it does not handle.
    pub fn read(tag: u8, body: &[u8]) -> Result<Option<Constraint>, String> {
        let text = String::from_utf8_lossy(body).into_owned();
        if matches!(tag, 0x81 | 0x82 | 0x86) && !body.is_ascii() {
            return Err(format!("invalid constraint value: x509: {} cannot be encoded as an IA5String", quoted(body)));
        }
        let is_domain = |text: &str| reverse_labels(text.strip_prefix('.').unwrap_or(text)).is_some();
        Ok(Some(match tag {
            0x82 if is_domain(&text) => Constraint::Dns(text),
            0x82 => return Err(format!("failed to parse dnsName constraint {}", quoted(body))),
            0x87 if !matches!(body.len(), 8 | 32) => {
                return Err(format!("IP constraint contained value of length {}", body.len()));
            }
            0x87 => {
                let (address, mask) = body.split_at(body.len() / 2);
                if !is_mask(mask) {
                    let mask = crate::vocabulary::text::hex(mask);
                    return Err(format!("IP constraint contained invalid mask {mask}"));
                }
                Constraint::Ip(address.to_vec(), mask.to_vec())
            }
            0x81 if text.contains('@') && mailbox(&text).is_none() => {
                return Err(format!("failed to parse rfc822Name constraint {}", quoted(body)));
            }
            0x81 if !text.contains('@') && !is_domain(&text) => {
                return Err(format!("failed to parse rfc822Name constraint {}", quoted(body)));
            }
            0x81 => Constraint::Mail(text),
            0x86 if text.parse::<IpAddr>().is_ok() => {
                return Err(format!("failed to parse URI constraint {}: cannot be IP address", quoted(body)));
            }
            0x86 if !is_domain(&text) => return Err(format!("failed to parse URI constraint {}", quoted(body))),
            0x86 => Constraint::Uri(text),
            _ => return Ok(None),
        }))
    }

    fn words(&self) -> String {
        match self {
            Constraint::Dns(t) | Constraint::Mail(t) | Constraint::Uri(t) => t.clone(),
            Constraint::Ip(address, mask) => {
                let bits: u32 = mask.iter().map(|b| b.count_ones()).sum();
                crate::vocabulary::name::ip(address).map(|a| format!("{a}/{bits}")).unwrap_or_default()
            }
        }
    }
}

/// Ones, then zeros.
fn is_mask(mask: &[u8]) -> bool {
    let ones = mask.iter().take_while(|b| **b == 0xff).count();
    let rest = &mask[ones..];
    rest.first().is_none_or(|b| b.leading_ones() + b.trailing_zeros() >= 8) && rest.iter().skip(1).all(|b| *b == 0)
}

/// A text as Go quotes it.
pub fn quoted(octets: &[u8]) -> String {
    let mut out = String::from("\"");
    let text = String::from_utf8_lossy(octets);
    let mut rest = octets;
    if text.as_bytes() == octets {
        for c in text.chars() {
            match c {
                '"' => out.push_str("\\\""),
                '\\' => out.push_str("\\\\"),
                '\0'..='\x1f' | '\x7f' => out.push_str(&format!("\\x{:02x}", c as u32)),
                c => out.push(c),
            }
        }
    } else {
        while let Some((b, more)) = rest.split_first() {
            if b.is_ascii_graphic() || *b == b' ' {
                out.push(char::from(*b));
            } else {
                out.push_str(&format!("\\x{b:02x}"));
            }
            rest = more;
        }
    }
    out + "\""
}

/// The labels of a domain, the last first; None for one that is none. The empty text has none.
pub fn reverse_labels(domain: &str) -> Option<Vec<&str>> {
    if domain.is_empty() {
        return Some(Vec::new());
    }
    let mut labels: Vec<&str> = domain.rsplit('.').collect();
    // What stands before a dot in front is not looked at.
    if labels.len() > 1 && labels.last() == Some(&"") {
        labels.pop();
    }
    let good = |l: &&str| !l.is_empty() && l.chars().all(|c| ('!'..='~').contains(&c));
    labels.iter().all(good).then_some(labels)
}

/// Local part and domain of a mailbox (RFC 2821).
pub fn mailbox(text: &str) -> Option<(String, String)> {
    let (local, domain) = text.split_once('@')?;
    let plain = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c);
    let dots = local.starts_with('.') || local.ends_with('.') || local.contains("..");
    (!local.is_empty() && local.chars().all(plain) && !dots && !domain.is_empty() && reverse_labels(domain).is_some())
        .then(|| (local.to_owned(), domain.to_owned()))
}

/// The authority of a URI as Go's net/url has it: host and port.
pub fn uri_host(uri: &str) -> String {
    let Some((_, rest)) = uri.split_once("://") else { return String::new() };
    let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
    rest[..end].rsplit('@').next().unwrap_or_default().to_owned()
}

/// Checks the leaf's names against the constraints. `Err` holds the text after "not authorized to sign for this name: ", and false; or a
/// whole message, and true.
pub fn check(names: &[General], permitted: &[Constraint], excluded: &[Constraint]) -> Result<(), (String, bool)> {
    for name in names {
        let text = String::from_utf8_lossy(&name.octets).into_owned();
        let (kind, shown) = match name.kind {
            1 => {
                if mailbox(&text).is_none() {
                    return Err(("x509: cannot parse rfc822Name {\"\" \"\"}".into(), true));
                }
                ("email address", text)
            }
            2 => {
                if reverse_labels(&text).is_none() {
                    return Err((format!("x509: cannot parse dnsName {}", quoted(&name.octets)), true));
                }
                ("DNS name", text)
            }
            6 => ("URI", text),
            7 => (
                "IP address",
                crate::vocabulary::name::ip(&name.octets).map(|a| a.to_canonical().to_string()).unwrap_or_default(),
            ),
            _ => continue,
        };
        let of_kind = |c: &&Constraint| {
            matches!(
                (name.kind, c),
                (1, Constraint::Mail(_)) | (2, Constraint::Dns(_)) | (6, Constraint::Uri(_)) | (7, Constraint::Ip(..))
            )
        };
        for c in excluded.iter().filter(of_kind) {
            if holds(name, &shown, c).map_err(|e| (e, false))? {
                let (shown, base) = (quoted(shown.as_bytes()), quoted(c.words().as_bytes()));
                return Err((format!("{kind} {shown} is excluded by constraint {base}"), false));
            }
        }
        let mut good = true;
        for c in permitted.iter().filter(of_kind) {
            good = holds(name, &shown, c).map_err(|e| (e, false))?;
            if good {
                break;
            }
        }
        if !good {
            return Err((format!("{kind} {} is not permitted by any constraint", quoted(shown.as_bytes())), false));
        }
    }
    Ok(())
}

fn holds(name: &General, text: &str, by: &Constraint) -> Result<bool, String> {
    Ok(match by {
        Constraint::Dns(base) => domain(text, base),
        Constraint::Mail(base) => {
            let Some((local, host)) = mailbox(text) else { return Ok(false) };
            match mailbox(base) {
                Some((l, h)) if base.contains('@') => l == local && h.eq_ignore_ascii_case(&host),
                _ => domain(&host, base),
            }
        }
        Constraint::Uri(base) => {
            let authority = uri_host(text);
            if authority.is_empty() {
                return Err(format!(
                    "URI with empty host ({}) cannot be matched against constraints",
                    quoted(text.replace(' ', "%20").as_bytes())
                ));
            }
            let host = match authority.rsplit_once(':') {
                Some((host, _)) if !authority.ends_with(']') => host.to_owned(),
                _ => authority,
            };
            if host.parse::<IpAddr>().is_ok() || (host.starts_with('[') && host.ends_with(']')) {
                return Err(format!("URI with IP ({}) cannot be matched against constraints", quoted(text.as_bytes())));
            }
            domain(&host, base)
        }
        Constraint::Ip(address, mask) => {
            name.octets.len() == address.len()
                && name.octets.iter().zip(address).zip(mask).all(|((n, a), m)| n & m == a & m)
        }
    })
}

fn domain(name: &str, base: &str) -> bool {
    if base.is_empty() {
        return true;
    }
    let bare = base.strip_prefix('.');
    let (Some(labels), Some(wanted)) = (reverse_labels(name), reverse_labels(bare.unwrap_or(base))) else {
        return false;
    };
    labels.len() >= wanted.len() + usize::from(bare.is_some())
        && wanted.iter().zip(labels).all(|(w, l)| w.eq_ignore_ascii_case(l))
}
