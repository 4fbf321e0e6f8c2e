//! Redirects from plain HTTP, hop by hop: where each leads, and what is wrong with the way (RFC 9110 §15.4).

use crate::error::{Error, Result};
use crate::finding::{Code, Finding};

/// More hops than any client follows: Chromium 20, curl 50 by default; a site that needs more than a few is wrong.
pub const MOST: usize = 10;

/// An address, taken apart as far as a redirect needs it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    /// True for `https`.
    pub secure: bool,
    /// The host, lower case, without brackets.
    pub host: String,
    /// The port, the usual one where none is written.
    pub port: u16,
    /// Path and question, at least `/`.
    pub path: String,
}

impl Address {
    fn read(text: &str) -> Option<Address> {
        let (scheme, rest) = text.split_once("://").filter(|_| !text.chars().any(char::is_control))?;
        let secure = match scheme.to_ascii_lowercase().as_str() {
            "http" => false,
            "https" => true,
            _ => return None,
        };
        let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
        let (authority, path) = rest.split_at(end);
        let path = path.split('#').next().unwrap_or_default();
        let authority = authority.rsplit('@').next().unwrap_or_default();
        let usual = if secure { 443 } else { 80 };
        let (host, port) = match authority.strip_prefix('[') {
            Some(rest) => {
                let (host, port) = rest.split_once(']')?;
                host.parse::<std::net::Ipv6Addr>().ok()?;
                (host, port.strip_prefix(':'))
            }
            None => authority.split_once(':').map_or((authority, None), |(h, p)| (h, Some(p))),
        };
        let port = port.filter(|p| !p.is_empty()).map_or(Some(usual), |p| p.parse().ok())?;
        let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
        (!host.is_empty()).then(|| Address { secure, host: host.to_ascii_lowercase(), port, path })
    }

    /// What a `Location` means here (RFC 3986 §5.2, as far as servers use it): whole, without a scheme, or a path.
    pub fn joined(&self, location: &str) -> Option<Address> {
        if !is_plain(location) {
            return None;
        }
        if location.contains("://") && !location.starts_with(['/', '?']) {
            return Address::read(location);
        }
        let scheme = if self.secure { "https" } else { "http" };
        if let Some(rest) = location.strip_prefix("//") {
            return Address::read(&format!("{scheme}://{rest}"));
        }
        let path = match location.chars().next()? {
            '/' => location.to_owned(),
            '?' => format!("{}{location}", self.path.split('?').next().unwrap_or("/")),
            _ => {
                let folder = self.path.split('?').next().and_then(|p| p.rsplit_once('/')).map_or("", |(f, _)| f);
                format!("{folder}/{location}")
            }
        };
        Some(Address { path: path.split('#').next().unwrap_or("/").to_owned(), ..self.clone() })
    }

    /// Host and port as they are in the header `Host`.
    pub fn host_header(&self) -> String {
        let host = if self.host.contains(':') { format!("[{}]", self.host) } else { self.host.clone() };
        let usual = if self.secure { 443 } else { 80 };
        if self.port == usual { host } else { format!("{host}:{}", self.port) }
    }
}

impl std::str::FromStr for Address {
    type Err = Error;

    /// Reads `http://…` or `https://…`.
    ///
    /// ```
    /// use tamga_core::check::redirect::Address;
    ///
    /// let start = "http://charts.saltmarsh.test".parse::<Address>().expect("an address");
    /// assert_eq!((start.secure, start.port, start.path.as_str()), (false, 80, "/"));
    /// let to = start.joined("https://charts.saltmarsh.test/tides").expect("another");
    /// assert_eq!(to.to_string(), "https://charts.saltmarsh.test/tides");
    /// ```
    fn from_str(typed: &str) -> Result<Address> {
        Address::read(typed).ok_or_else(|| Error::Word {
            what: "web address",
            typed: typed.to_owned(),
            accepted: "http://HOST or https://HOST, perhaps with a port and a path".into(),
        })
    }
}

/// True for text that fits in a request line: a control character or a space would start another part of it.
fn is_plain(text: &str) -> bool {
    !text.chars().any(|c| c.is_control() || c == ' ')
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}://{}{}", if self.secure { "https" } else { "http" }, self.host_header(), self.path)
    }
}

/// One hop that was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// Which address answered.
    pub from: Address,
    /// With which status.
    pub status: u16,
    /// Where to; None where it leads nowhere.
    pub to: Option<Address>,
}

/// What is to be done after the hops so far.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Next {
    /// Ask this address over plain HTTP.
    Ask(Address),
    /// HTTPS is reached there.
    Secure(Address),
    /// The way ends.
    End,
}

/// Where the way goes on.
pub fn next(start: &Address, hops: &[Hop]) -> Next {
    let Some(last) = hops.last() else { return Next::Ask(start.clone()) };
    match &last.to {
        Some(to) if to.secure => Next::Secure(to.clone()),
        Some(to) if hops.len() < MOST && !hops.iter().any(|h| h.from == *to) => Next::Ask(to.clone()),
        _ => Next::End,
    }
}

/// What is wrong with the way from plain HTTP.
///
/// ```
/// use tamga_core::check::redirect::{Address, Hop, judge};
/// use tamga_core::finding::Code;
///
/// let start: Address = "http://charts.saltmarsh.test".parse()?;
/// let hop = |to: &str| Hop { from: start.clone(), status: 301, to: to.parse().ok() };
/// assert!(judge(&start, &[hop("https://charts.saltmarsh.test/")]).iter().all(|f| f.code != Code::RedirectLoop));
/// assert_eq!(judge(&start, &[hop("http://charts.saltmarsh.test/")])[0].code, Code::RedirectLoop);
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn judge(start: &Address, hops: &[Hop]) -> Vec<Finding> {
    let Some(last) = hops.last() else { return Vec::new() };
    let mut out = Vec::new();
    let about = start.to_string();
    match &last.to {
        Some(to) if to.secure => {}
        Some(to) => out.push(
            Finding::new(Code::RedirectLoop, about.clone())
                .with_summary(format!("{about} leads round in a circle or without end; the last step was to {to}")),
        ),
        None if last.status < 300 => out.push(
            Finding::new(Code::PlainHttpOpen, about.clone())
                .with_summary(format!("{} is served without encryption (status {})", last.from, last.status)),
        ),
        None => out.push(
            Finding::new(Code::RedirectMissing, about.clone())
                .with_summary(format!("{} answers {} and leads nobody to HTTPS", last.from, last.status)),
        ),
    }
    if let Some(to) = hops.iter().filter_map(|h| h.to.as_ref()).find(|to| to.host != start.host) {
        out.push(
            Finding::new(Code::RedirectElsewhere, about.clone())
                .with_summary(format!("{about} leads to another host: {}", to.host)),
        );
    }
    if let Some(hop) = hops.iter().find(|h| matches!(h.status, 301 | 308) && h.to.as_ref().is_some_and(|t| t.secure)) {
        out.push(
            Finding::new(Code::RedirectRemembered, about)
                .with_summary(format!("{} answers {}: browsers remember that for good", hop.from, hop.status)),
        );
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::str::FromStr;

    fn a(text: &str) -> Address {
        Address::from_str(text).unwrap()
    }

    #[test]
    fn addresses_are_taken_apart_and_joined() {
        let x = a("HTTP://Charts.saltmarsh.test:8080?q#f");
        assert_eq!(x.to_string(), "http://charts.saltmarsh.test:8080/?q");
        assert_eq!(a("https://[::1]/a").to_string(), "https://[::1]/a");
        assert_eq!(a("https://u:p@a:443/").to_string(), "https://a/");
        for (location, whole) in [
            ("https://b/c", "https://b/c"),
            ("//b:1/c", "http://b:1/c"),
            ("/c?d#e", "http://charts.saltmarsh.test:8080/c?d"),
            ("?d", "http://charts.saltmarsh.test:8080/?d"),
            ("c", "http://charts.saltmarsh.test:8080/c"),
            ("/x?u=http://y", "http://charts.saltmarsh.test:8080/x?u=http://y"),
        ] {
            assert_eq!(x.joined(location).unwrap().to_string(), whole, "{location}");
        }
        for bad in ["ftp://a", "http://", "a", "http://a:b/", "http://[::1/"] {
            assert!(Address::from_str(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn nothing_that_would_begin_another_header_is_an_address() {
        let start = Address::from_str("http://charts.saltmarsh.test/").unwrap();
        for bad in ["http://a\r\nX: y/", "http://[::1\u{16}]/", "http://[x]/", "/a\rb", "?a\0"] {
            assert!(Address::from_str(bad).is_err(), "{bad:?}");
            assert_eq!(start.joined(bad), None, "{bad:?}");
        }
        assert_eq!(start.joined("x y"), None);
        assert_eq!(Address::from_str("https://[::1]:8443/a").unwrap().host_header(), "[::1]:8443");
    }

    #[test]
    fn every_way_is_judged() {
        let start = a("http://a/");
        let hop = |from: &str, status, to: Option<&str>| Hop { from: a(from), status, to: to.map(a) };
        let codes = |hops: &[Hop]| judge(&start, hops).iter().map(|f| f.code.word()).collect::<Vec<_>>();
        assert_eq!(next(&start, &[]), Next::Ask(start.clone()));
        let good = [hop("http://a/", 307, Some("https://a/"))];
        assert_eq!((next(&start, &good), codes(&good)), (Next::Secure(a("https://a/")), vec![]));
        let round = [hop("http://a/", 302, Some("http://a/b")), hop("http://a/b", 302, Some("http://a/"))];
        assert_eq!((next(&start, &round), codes(&round)), (Next::End, vec!["redirect-loop"]));
        assert_eq!(codes(&[hop("http://a/", 200, None)]), ["plain-http-open"]);
        assert_eq!(codes(&[hop("http://a/", 404, None)]), ["redirect-missing"]);
        assert_eq!(codes(&[hop("http://a/", 301, Some("https://b/"))]), ["redirect-elsewhere", "redirect-remembered"]);
        let long: Vec<Hop> =
            (0..MOST).map(|n| hop(&format!("http://a/{n}"), 302, Some(&format!("http://a/{}", n + 1)))).collect();
        assert_eq!((next(&start, &long), codes(&long)), (Next::End, vec!["redirect-loop"]));
    }
}
