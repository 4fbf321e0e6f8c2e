//! Clients whose library knows no limits of addresses (RFC 5280 §4.2.1.10): they refuse every address under an authority that has some.

use crate::check::client::Client;
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::GeneralName;

/// Worth knowing of a certificate with addresses under limits of addresses: Bun and gRPC refuse it.
///
/// ```
/// use tamga_core::check::address_limits::note;
/// use tamga_core::sample::{leaf, root};
///
/// let root = root()?.0.certificate;
/// let found = note(&leaf(&["charts.saltmarsh.test", "127.0.0.1"])?.0, &root);
/// assert!(found.is_some_and(|f| f.remedy.contains("tamga issue charts.saltmarsh.test --label")));
/// assert!(note(&leaf(&["charts.saltmarsh.test"])?.0, &root).is_none());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn note(leaf: &Certificate, issuer: &Certificate) -> Option<Finding> {
    let limits = issuer.constraints.as_ref()?;
    let is_limited = limits.permitted.iter().chain(&limits.excluded).any(|n| matches!(n, GeneralName::Ip(_)));
    let names = leaf.name_words();
    let addresses: Vec<&str> =
        names.iter().map(String::as_str).filter(|n| n.parse::<std::net::IpAddr>().is_ok()).collect();
    if !is_limited || addresses.is_empty() {
        return None;
    }
    let mut f = Finding::new(Code::IpConstraintUnsupported, addresses.join(", "))
        .with_summary(
            "Bun and gRPC know no limits of addresses: they refuse a certificate that names one under this root",
        )
        .with_remedy(remedy(Some(leaf)))
        .as_note();
    f.clients = vec![Client::Bun, Client::Grpc];
    Some(f)
}

/// The command that makes a certificate beside this one that has its hosts alone.
pub(crate) fn remedy(leaf: Option<&Certificate>) -> String {
    let leaf = leaf.map(Certificate::name_words).unwrap_or_default();
    let hosts: Vec<&str> = leaf.iter().map(String::as_str).filter(|n| n.parse::<std::net::IpAddr>().is_err()).collect();
    match hosts.first() {
        Some(first) => {
            format!("serve them one without addresses: tamga issue {} --label {first}-hosts", hosts.join(" "))
        }
        None => {
            "give the server a host name, and serve a certificate for it: tamga issue HOST --label HOST-hosts".into()
        }
    }
}
