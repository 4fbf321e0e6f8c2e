//! `--from http://… --sha256 HEX`: a root that another machine hands out over plain HTTP.
//!
//! Nothing protects the way it comes, and nothing needs to: a fingerprint that was read from the other machine's screen proves it.

use crate::failure::Result;
use std::net::ToSocketAddrs;
use std::str::FromStr;
use tamga_core::check::redirect::Address;
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::stores::trust::{self, Root};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_host::dial::{Missed, plain};

/// Where a root is handed out if no path is typed.
const USUAL: &str = "/root.pem";
/// A root has a kilobyte or two.
const MOST: u64 = 64 * 1024;

/// Fetches the root and compares it.
///
/// Errors: no fingerprint, or one that is none; an address that is no plain-HTTP one; nobody there; no certificate; another one.
pub(super) fn root(url: &str, fingerprint: Option<&Sha256Fingerprint>) -> Result<Root> {
    let wanted = fingerprint.ok_or_else(|| Error::Contradiction {
        what: "a root from the network is not trusted without its fingerprint".into(),
        why: "anyone on the network path could send another root and read everything afterwards".into(),
        instead: "read the SHA-256 from the other machine's own screen: --sha256 HEX".into(),
    })?;
    let address = Address::from_str(url).ok().filter(|a| !a.secure).ok_or_else(|| Error::Word {
        what: "address of a root",
        typed: url.to_owned(),
        accepted: "http://HOST:PORT".into(),
    })?;
    let path = if address.path == "/" { USUAL } else { address.path.as_str() };
    let missed = |detail: String| tamga_host::error::Error::Unreached { what: url.to_owned(), detail };
    let sockets: Vec<_> =
        (address.host.as_str(), address.port).to_socket_addrs().map(Iterator::collect).unwrap_or_default();
    let mut last = Missed::new(tamga_core::finding::Code::UnresolvedName, format!("{} does not resolve", address.host));
    let mut body = None;
    for socket in sockets {
        match plain::fetch(socket, &address.host_header(), path, MOST) {
            Ok(bytes) => {
                body = Some(bytes);
                break;
            }
            Err(m) => last = m,
        }
    }
    let Some(body) = body else { return Err(missed(last.detail).into()) };
    let what = format!("what {url} hands out");
    let der = pem::certificates(&body).into_iter().next().unwrap_or(body);
    let certificate = Certificate::read(&der, &what)?;
    let got = certificate.sha256();
    if got != *wanted {
        return Err(Error::Objection {
            code: "fingerprint-differs",
            what: format!("{url} hands out another root than the one meant"),
            why: format!("its SHA-256 is {got}, and {wanted} was asked for"),
            instead: "compare again with the other machine's screen; if it stays so, somebody is on the way".into(),
        }
        .into());
    }
    Ok(Root { label: label(&certificate)?, certificate })
}

/// The label that the other machine gave it, as far as its name tells.
fn label(c: &Certificate) -> Result<Label> {
    if let Some(label) = trust::label_in_name(c) {
        return Ok(label);
    }
    let name = c.subject_words();
    let common = name.split("CN=").nth(1).unwrap_or("root").split(',').next().unwrap_or("root");
    Ok(Label::from_text(common)?)
}
