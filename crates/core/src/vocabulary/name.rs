//! Names as a person types them, distinguished by what they are.

use crate::error::{Error, Result};
use crate::vocabulary::label::Label;
use std::fmt;
use std::net::{IpAddr, Ipv6Addr};

/// One subject alternative name (RFC 5280 §4.2.1.6): parsed once, valid ever after.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Name {
    /// dNSName: lower case, A-labels, no trailing dot, perhaps with `*.` in front.
    Dns(String),
    /// iPAddress.
    Ip(IpAddr),
    /// rfc822Name: a mailbox `local@host`.
    Mail(String),
    /// uniformResourceIdentifier.
    Uri(String),
}

/// Something worth saying about a name that is taken all the same.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remark {
    /// Visitors without the root will be warned.
    Public,
    /// Java refuses host names with an underscore.
    Underscore,
    /// A URI is not what browsers compare with the host.
    UriIsNoHost(String),
}

impl Name {
    /// The label made from this name, if it is the first: `*.x` → `wildcard.x`, `::1` → `ip6--1`.
    ///
    /// Errors: a URI has none; it needs `--label`.
    pub fn label(&self) -> Result<Label> {
        match self {
            Name::Dns(n) => {
                Label::from_text(&n.strip_prefix("*.").map_or_else(|| n.clone(), |r| format!("wildcard.{r}")))
            }
            Name::Ip(IpAddr::V4(a)) => Label::from_text(&a.to_string()),
            Name::Ip(IpAddr::V6(a)) => {
                let text = a.to_string().replace(':', "-");
                let joint = if text.starts_with('-') { "" } else { "-" };
                Label::from_text(&format!("ip6{joint}{text}"))
            }
            Name::Mail(m) => Label::from_text(m),
            Name::Uri(u) => Err(Error::Contradiction {
                what: format!("no label can be made from {u}"),
                why: "a URI has characters that no directory name can have".into(),
                instead: "name a label: --label TEXT".into(),
            }),
        }
    }

    /// Reads a host as a client is asked for it. It need not be one that a certificate should have: the DNS carries labels
    /// that begin or end with a hyphen (RFC 2181 §11), and clients visit them.
    ///
    /// Errors: as for reading a name, but for the hyphens.
    ///
    /// ```
    /// use tamga_core::vocabulary::name::Name;
    ///
    /// assert_eq!(Name::asked("-h.saltmarsh.test")?, Name::Dns("-h.saltmarsh.test".into()));
    /// assert!("-h.saltmarsh.test".parse::<Name>().is_err());
    /// assert!(Name::asked("h h.saltmarsh.test").is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn asked(typed: &str) -> Result<Name> {
        let strict = typed.parse::<Name>();
        let text = typed.trim().strip_suffix('.').unwrap_or(typed.trim()).to_ascii_lowercase();
        let is_label = |l: &str| {
            (1..=63).contains(&l.len()) && l.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_'))
        };
        let last_is_a_word = text.rsplit('.').next().is_some_and(|l| l.bytes().any(|b| !b.is_ascii_digit()));
        match strict {
            Err(_) if text.len() <= 253 && last_is_a_word && text.split('.').all(is_label) => Ok(Name::Dns(text)),
            strict => strict,
        }
    }

    /// True where the name or address means this machine without any hosts entry
    /// (RFC 6761 §6.3 for `localhost`; Chromium and curl resolve it and what lies under it to loopback).
    pub fn is_loopback(&self) -> bool {
        match self {
            Name::Dns(n) => n == "localhost" || n.ends_with(".localhost"),
            Name::Ip(a) => a.is_loopback(),
            _ => false,
        }
    }

    /// True for a host: what a browser could be pointed at.
    ///
    /// ```
    /// use tamga_core::vocabulary::name::Name;
    ///
    /// assert!("localhost".parse::<Name>()?.is_host());
    /// assert!(!"keeper@saltmarsh.test".parse::<Name>()?.is_host());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn is_host(&self) -> bool {
        matches!(self, Name::Dns(_) | Name::Ip(_))
    }

    /// Reads a name as a person types it where a host is meant: a web address counts as its host, and `DNS:`, `IP:`, `email:` and
    /// `URI:` in front say the kind. True with a host that was taken out of a web address.
    ///
    /// Errors: as for reading a name; a name of another kind than the one in front of it.
    ///
    /// ```
    /// use tamga_core::vocabulary::name::Name;
    ///
    /// assert_eq!(Name::from_typed("http://localhost:3000")?, (Name::Dns("localhost".into()), true));
    /// assert_eq!(Name::from_typed("URI:https://charts.saltmarsh.test/tides")?.0.to_string(), "https://charts.saltmarsh.test/tides");
    /// assert_eq!(Name::from_typed("DNS:charts.saltmarsh.test")?, (Name::Dns("charts.saltmarsh.test".into()), false));
    /// assert!(Name::from_typed("IP:charts.saltmarsh.test").is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn from_typed(typed: &str) -> Result<(Name, bool)> {
        let text = typed.trim();
        if let Some((kind, rest)) = text.split_once(':') {
            let name = match kind.to_ascii_lowercase().as_str() {
                "dns" => dns(typed, rest).map(Name::Dns),
                "ip" | "ip address" => rest.trim().parse().map(Name::Ip).map_err(|_| Error::Name {
                    typed: typed.to_owned(),
                    why: "what follows IP: is not an IP address".into(),
                    instead: "type an address such as 192.0.2.7 or fd00::7, or DNS: before a host name".into(),
                }),
                "email" => mail(typed, rest),
                "uri" => rest.parse(),
                _ => return Name::of_web_address(text),
            };
            return name.map(|n| (n, false));
        }
        text.parse().map(|n| (n, false))
    }

    fn of_web_address(text: &str) -> Result<(Name, bool)> {
        let (scheme, _) = text.split_once("://").unwrap_or_default();
        match uri_host(text) {
            Some(host) if ["http", "https", "ws", "wss"].contains(&scheme.to_ascii_lowercase().as_str()) => {
                host.parse().map(|n| (n, true))
            }
            _ => text.parse().map(|n| (n, false)),
        }
    }

    /// What should be said about it though it is taken.
    pub fn remarks(&self) -> Vec<Remark> {
        let mut out = Vec::new();
        match self {
            Name::Dns(n) => {
                if is_public_dns(n) {
                    out.push(Remark::Public);
                }
                if n.contains('_') {
                    out.push(Remark::Underscore);
                }
            }
            Name::Ip(a) if is_public_ip(*a) => out.push(Remark::Public),
            Name::Mail(m) if m.rsplit('@').next().is_some_and(is_public_dns) => out.push(Remark::Public),
            Name::Uri(u) => {
                if let Some(host) = uri_host(u).filter(|_| u.starts_with("http")) {
                    out.push(Remark::UriIsNoHost(host.to_owned()));
                }
            }
            _ => {}
        }
        out
    }
}

impl std::str::FromStr for Name {
    type Err = Error;

    /// Reads a name: an address becomes an iPAddress, `user@host` an rfc822Name, `scheme:` a URI, all else DNS.
    ///
    /// Errors: what hardly any client accepts, with the reason and what to type instead.
    ///
    /// ```
    /// use std::net::IpAddr;
    /// use tamga_core::vocabulary::name::Name;
    ///
    /// assert_eq!("Charts.Saltmarsh.test.".parse::<Name>()?, Name::Dns("charts.saltmarsh.test".into()));
    /// assert_eq!("[::1]".parse::<Name>()?, Name::Ip(IpAddr::from([0, 0, 0, 0, 0, 0, 0, 1_u16])));
    /// assert_eq!("bücher.test".parse::<Name>()?.to_string(), "xn--bcher-kva.test");
    /// assert!("two words".parse::<Name>().is_err());
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    fn from_str(typed: &str) -> Result<Name> {
        let text = typed.trim();
        let refuse = |why: &str, instead: &str| {
            Err(Error::Name { typed: typed.to_owned(), why: why.to_owned(), instead: instead.to_owned() })
        };
        if text.is_empty() {
            return refuse("it is empty", "type a name such as charts.saltmarsh.test");
        }
        if text.chars().any(|c| c.is_control() || c.is_whitespace()) {
            return refuse("it holds a space or a control character", "type one name per word");
        }
        let bare = text.strip_prefix('[').and_then(|t| t.strip_suffix(']')).unwrap_or(text);
        if let Ok(ip) = bare.parse::<IpAddr>() {
            return Ok(Name::Ip(ip));
        }
        if bare.contains('%') && bare.split('%').next().is_some_and(|a| a.parse::<Ipv6Addr>().is_ok()) {
            return refuse("a certificate cannot hold the zone behind the %", "leave the % and what follows away");
        }
        if let Some((address, length)) = text.split_once('/')
            && address.parse::<IpAddr>().is_ok()
            && length.parse::<u8>().is_ok()
        {
            return refuse("it is a range, not one address", "name each address; ranges belong to --permit");
        }
        if text.contains(':') && bare.bytes().all(|b| b.is_ascii_hexdigit() || b":./".contains(&b)) && bare.len() > 2 {
            return refuse("it looks like an IPv6 address, but is none", "type it as in fd00::7 or 2001:db8::7");
        }
        if let Some((scheme, rest)) = text.split_once(':')
            && is_scheme(scheme)
        {
            let port = rest.split('/').next().unwrap_or_default();
            if !port.is_empty() && port.bytes().all(|b| b.is_ascii_digit()) {
                return refuse("a certificate names hosts, not ports", &format!("type {scheme} alone"));
            }
            return uri(typed, scheme, rest);
        }
        if text.contains('@') {
            return mail(typed, text);
        }
        dns(typed, text).map(Name::Dns)
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Name::Dns(n) | Name::Mail(n) | Name::Uri(n) => f.write_str(n),
            Name::Ip(a) => write!(f, "{a}"),
        }
    }
}

/// The host part of a URI with an authority, without userinfo and port (RFC 3986 §3.2).
///
/// ```
/// use tamga_core::vocabulary::name::uri_host;
///
/// assert_eq!(uri_host("https://operator@charts.saltmarsh.test:8443/tides"), Some("charts.saltmarsh.test"));
/// assert_eq!(uri_host("https://[fd00::7]/"), Some("fd00::7"));
/// assert_eq!(uri_host("mailto:operator@saltmarsh.test"), None);
/// ```
pub fn uri_host(uri: &str) -> Option<&str> {
    let rest = uri.split_once("://")?.1;
    let authority = rest.split(['/', '?', '#']).next()?;
    let host_port = authority.rsplit('@').next()?;
    let host = match host_port.strip_prefix('[') {
        Some(v6) => v6.split(']').next()?,
        None => host_port.split(':').next()?,
    };
    (!host.is_empty()).then_some(host)
}

/// The octets of an address as an iPAddress holds them: 4 or 16, in network order (RFC 5280 §4.2.1.6).
pub fn ip_octets(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(a) => a.octets().to_vec(),
        IpAddr::V6(a) => a.octets().to_vec(),
    }
}

/// 4 or 16 octets as an address.
pub fn ip(octets: &[u8]) -> Option<IpAddr> {
    match octets.len() {
        4 => <[u8; 4]>::try_from(octets).ok().map(IpAddr::from),
        16 => <[u8; 16]>::try_from(octets).ok().map(IpAddr::from),
        _ => None,
    }
}

/// Checks a domain as it is in a constraint or a name without wildcard; gives it in lower case as A-labels.
///
/// ```
/// use tamga_core::vocabulary::name::domain;
///
/// assert_eq!(domain("Bücher.test")?, "xn--bcher-kva.test");
/// assert!(domain("two words").is_err());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn domain(typed: &str) -> Result<String> {
    dns(typed, typed).and_then(|d| {
        if d.starts_with('*') {
            return Err(Error::Name {
                typed: typed.to_owned(),
                why: "a permitted domain covers what lies under it by itself".into(),
                instead: format!("type {}", d.trim_start_matches("*.")),
            });
        }
        Ok(d)
    })
}

/// Top-level names that are reserved and never public (RFC 2606, RFC 6761, RFC 6762, RFC 8375, `internal`).
const RESERVED: [&str; 7] = ["localhost", "test", "example", "invalid", "local", "internal", "home.arpa"];

fn is_public_dns(name: &str) -> bool {
    name.contains('.') && !RESERVED.iter().any(|r| name == *r || name.strip_suffix(r).is_some_and(|n| n.ends_with('.')))
}

fn is_public_ip(ip: IpAddr) -> bool {
    match ip {
        IpAddr::V4(a) => {
            let shared = a.octets()[0] == 100 && (a.octets()[1] & 0xc0) == 64;
            !(a.is_private()
                || a.is_loopback()
                || a.is_link_local()
                || a.is_unspecified()
                || a.is_documentation()
                || a.is_broadcast()
                || shared)
        }
        IpAddr::V6(a) => (a.segments()[0] & 0xe000) == 0x2000 && a.segments()[..2] != [0x2001, 0xdb8],
    }
}

fn is_scheme(s: &str) -> bool {
    s.len() > 1
        && s.starts_with(|c: char| c.is_ascii_alphabetic())
        && s.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'+' | b'-' | b'.'))
}

fn uri(typed: &str, scheme: &str, rest: &str) -> Result<Name> {
    if !rest.is_ascii() || rest.is_empty() {
        return Err(Error::Name {
            typed: typed.to_owned(),
            why: "a URI in a certificate is ASCII with something behind the scheme (RFC 5280 §4.2.1.6)".into(),
            instead: "write other letters percent-encoded".into(),
        });
    }
    Ok(Name::Uri(format!("{}:{rest}", scheme.to_ascii_lowercase())))
}

fn mail(typed: &str, text: &str) -> Result<Name> {
    let refuse = |why: &str| Error::Name {
        typed: typed.to_owned(),
        why: why.to_owned(),
        instead: "type a mailbox such as lab-operator@saltmarsh.test".into(),
    };
    let (local, host) = text.rsplit_once('@').ok_or_else(|| refuse("it has no host"))?;
    if local.is_empty() || local.contains('@') {
        return Err(refuse("the part before the @ is not one word"));
    }
    if !local.is_ascii() {
        return Err(refuse("the part before the @ must be ASCII (RFC 5280 §4.2.1.6)"));
    }
    let host = domain(host).map_err(|_| refuse("the part behind the @ is not a host name"))?;
    Ok(Name::Mail(format!("{local}@{host}")))
}

fn dns(typed: &str, text: &str) -> Result<String> {
    let refuse = |why: &str, instead: &str| Error::Name {
        typed: typed.to_owned(),
        why: why.to_owned(),
        instead: instead.to_owned(),
    };
    let (star, rest) = match text.strip_prefix("*.") {
        Some(rest) => (true, rest),
        None => (false, text),
    };
    if rest.contains('*') {
        return Err(refuse(
            "a star may only be the whole first label (RFC 9525 §6.3)",
            "type *.DOMAIN, or each name by itself",
        ));
    }
    if rest.contains('/') {
        return Err(refuse("it holds a slash", "type the host alone, without path"));
    }
    let rest = rest.strip_suffix('.').unwrap_or(rest);
    let ascii = idna::domain_to_ascii(rest)
        .map_err(|_| refuse("it is no valid internationalised name (IDNA)", "check the spelling of each label"))?;
    let labels: Vec<&str> = ascii.split('.').collect();
    for l in &labels {
        if l.is_empty() {
            return Err(refuse("it has an empty label", "put exactly one dot between labels"));
        }
        if l.len() > 63 {
            return Err(refuse("a label is longer than 63 octets (RFC 1035 §2.3.4)", "shorten it"));
        }
        if let Some(bad) = l.chars().find(|c| !(c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))) {
            return Err(refuse(&format!("a host name cannot hold {:?}", bad), "use letters, digits and hyphens"));
        }
        if l.starts_with('-') || l.ends_with('-') {
            return Err(refuse("a label starts or ends with a hyphen", "move the hyphen inside"));
        }
    }
    let last = labels.last().copied().unwrap_or_default();
    if last.bytes().all(|b| b.is_ascii_digit()) {
        return Err(refuse(
            "it looks like an address but is none",
            "type four numbers from 0 to 255, or a name that does not end in a number",
        ));
    }
    let whole = if star { format!("*.{ascii}") } else { ascii.clone() };
    if whole.len() > 253 {
        return Err(refuse("it is longer than 253 octets", "shorten it"));
    }
    if star && labels.len() < 2 {
        return Err(refuse(
            "hardly any client accepts a wildcard right under a top-level name",
            &format!("put a label between: *.dev.{ascii}; or type each name by itself"),
        ));
    }
    Ok(whole)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    fn n(s: &str) -> Name {
        Name::from_str(s).unwrap()
    }

    #[test]
    fn names_are_typed_by_what_they_are() {
        assert_eq!(n("Charts.Saltmarsh.TEST."), Name::Dns("charts.saltmarsh.test".into()));
        assert_eq!(n("[::1]"), Name::Ip("::1".parse().unwrap()));
        assert_eq!(n("10.0.0.7"), Name::Ip("10.0.0.7".parse().unwrap()));
        assert_eq!(n("bücher.test"), Name::Dns("xn--bcher-kva.test".into()));
        assert_eq!(n("lab-operator@saltmarsh.test"), Name::Mail("lab-operator@saltmarsh.test".into()));
        assert_eq!(n("URN:gauge:7"), Name::Uri("urn:gauge:7".into()));
        assert_eq!(n("*.buoys.saltmarsh.test"), Name::Dns("*.buoys.saltmarsh.test".into()));
    }

    #[test]
    fn what_no_client_takes_is_refused() {
        for bad in [
            "",
            "*",
            "*.test",
            "a*.test",
            "x..test",
            "-a.test",
            "300.1.1.1",
            "localhost:8443",
            "10.0.0.0/8",
            "fd00::/8",
            "fd00:::7",
            "dead:beef",
            "a b",
            "fe80::1%eth0",
            "x/y.test",
            "@x.test",
            "a@",
            "ä@x.test",
        ] {
            assert!(Name::from_str(bad).is_err(), "{bad:?} was taken");
        }
        assert!(Name::from_str(&format!("{}.test", "a".repeat(64))).is_err());
        assert!(Name::from_str(&format!("{}test", "abcdefgh.".repeat(30))).is_err());
    }

    #[test]
    fn labels_follow_the_first_name() {
        let of = |s: &str| n(s).label().unwrap().to_string();
        assert_eq!(of("*.buoys.saltmarsh.test"), "wildcard.buoys.saltmarsh.test");
        assert_eq!(of("::1"), "ip6--1");
        assert_eq!(of("fe80::7"), "ip6-fe80--7");
        assert_eq!(of("127.0.0.1"), "127.0.0.1");
        assert_eq!(of("lab-operator@saltmarsh.test"), "lab-operator-saltmarsh.test");
        assert!(n("urn:x:y").label().is_err());
    }

    #[test]
    fn public_names_are_remarked() {
        assert_eq!(n("www.saltmarsh.org").remarks(), [Remark::Public]);
        assert_eq!(n("8.8.8.8").remarks(), [Remark::Public]);
        for private in ["x.test", "printer", "nas.home.arpa", "10.1.2.3", "fe80::1", "fd00::1", "a.internal"] {
            assert_eq!(n(private).remarks(), [], "{private}");
        }
        assert_eq!(n("my_app.test").remarks(), [Remark::Underscore]);
    }
}
