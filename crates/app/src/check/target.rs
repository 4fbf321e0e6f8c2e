//! What a person may name to be checked: a server, a path, a label.

use super::around::Around;
use super::live::Meeting;
use crate::env::Env;
use crate::failure::Result;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::report::Issued;
use tamga_core::check::redirect::Address;
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_host::dial::Prelude;

/// A target, distinguished by what it is.
pub(crate) enum Target {
    /// A server to be met.
    Live(Meeting),
    /// A site from plain HTTP on.
    Plain(Address),
    /// A file or directory.
    File(PathBuf),
    /// A certificate of the ledger.
    Label(Box<Issued>),
}

/// What may be checked.
const SCHEMES: &str = "https://HOST[:PORT], http://HOST[:PORT], likewise with wss, smtp imap pop3 ldap ftp xmpp nats postgres mysql \
     sqlserver, smtps imaps pop3s ldaps ftps rediss amqps mqtts; HOST:PORT, a file or directory, a label, or a host";

/// How the names of files with certificates and keys end.
const FILE_ENDINGS: [&str; 11] =
    [".pem", ".crt", ".cer", ".der", ".p12", ".pfx", ".p7b", ".key", ".csr", ".jks", ".chain"];

/// True for what is meant as a path, whether or not it is there.
fn looks_like_a_file(typed: &str) -> bool {
    let lower = typed.to_ascii_lowercase();
    typed.contains(['/', '\\']) || FILE_ENDINGS.iter().any(|e| lower.ends_with(e))
}

/// `https://…`, a label, an existing path, `host:port`, else that host on 443: in this order.
///
/// Errors: what is none of them; a path that does not exist.
pub(crate) fn parse(env: &Env, typed: &str, around: &Around<'_>) -> Result<Target> {
    if let Some((scheme, rest)) = typed.split_once("://") {
        if let Some((prelude, port)) = Prelude::of_scheme(&scheme.to_ascii_lowercase()) {
            let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
            let path = rest[authority.len()..].split('#').next().unwrap_or_default();
            let path = if path.starts_with('/') { path.to_owned() } else { format!("/{path}") };
            return live(typed, authority.rsplit('@').next().unwrap_or_default(), prelude, port, path);
        }
        if let Some(address) = Address::from_str(typed).ok().filter(|a| !a.secure) {
            Name::asked(&address.host)?;
            return Ok(Target::Plain(address));
        }
        if let Some(with_tls) = Prelude::with_tls(&scheme.to_ascii_lowercase()) {
            return Err(Error::Contradiction {
                what: format!("{scheme}:// was given, and only TLS is checked"),
                why: format!("by convention {scheme}:// means without TLS"),
                instead: format!("tamga check {with_tls}://{rest}"),
            }
            .into());
        }
        let what = if scheme.eq_ignore_ascii_case("http") { "target" } else { "kind of target" };
        let typed = if what == "target" { typed.to_owned() } else { format!("{scheme}://") };
        return Err(Error::Word { what, typed, accepted: SCHEMES.into() }.into());
    }
    // The ledger knows what a label means better than the directory in which Tamga is run.
    let is_label = Label::from_str(&typed.to_lowercase()).is_ok();
    // Of one that a client enrolled no file is here: its label is a host's name as any other.
    if is_label && let Some(issued) = around.current(typed)?.filter(|i| !i.is_enrolled()) {
        return Ok(Target::Label(Box::new(issued)));
    }
    let path = Path::new(typed);
    if env.disk().is_named(path) {
        return Ok(Target::File(path.to_path_buf()));
    }
    if looks_like_a_file(typed) {
        let missing = std::io::Error::from(std::io::ErrorKind::NotFound);
        return Err(tamga_host::error::Error::file("reading", path)(missing).into());
    }
    live(typed, typed, Prelude::None, 443, "/".into())
}

fn live(typed: &str, authority: &str, prelude: Prelude, usual: u16, path: String) -> Result<Target> {
    let (host, port) = if authority.parse::<std::net::Ipv6Addr>().is_ok() {
        (authority, None)
    } else if let Some(rest) = authority.strip_prefix('[') {
        match rest.split_once(']') {
            Some((host, "")) => (host, None),
            Some((host, port)) => (host, port.strip_prefix(':')),
            None => (authority, None),
        }
    } else {
        match authority.split_once(':') {
            Some((host, port)) => (host, Some(port)),
            None => (authority, None),
        }
    };
    let wrong = |what, accepted: &str| Error::Word { what, typed: typed.to_owned(), accepted: accepted.to_owned() };
    let port = match port {
        None => usual,
        Some(p) => p
            .parse::<u16>()
            .ok()
            .filter(|p| *p > 0)
            .ok_or_else(|| wrong("port", "HOST:PORT with a port from 1 to 65535"))?,
    };
    if host.is_empty() {
        return Err(wrong("target", SCHEMES).into());
    }
    let name = Name::asked(host)?;
    match &name {
        Name::Dns(d) if !d.starts_with("*.") => Ok(Target::Live(Meeting { host: name, port, prelude, path })),
        Name::Ip(_) => Ok(Target::Live(Meeting { host: name, port, prelude, path })),
        _ => Err(wrong("host", "a host name or an address").into()),
    }
}
