//! Name constraints against the names of a certificate (RFC 5280 §4.2.1.10).

use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::{GeneralName, NameConstraints};
use crate::pki::cert::subject;
use crate::vocabulary::name::uri_host;

/// The first name of the certificate that the subtrees forbid.
///
/// A type of name without any permitted base is free; the subject is judged as a directoryName.
pub fn violated(subtrees: &NameConstraints, certificate: &Certificate) -> Option<GeneralName> {
    let mut names: Vec<GeneralName> = certificate.names.clone().unwrap_or_default();
    // A mailbox in the subject counts where there are no alternative names (§4.2.1.10).
    if certificate.names.is_none() {
        names.extend(subject::mailboxes(&certificate.subject).into_iter().map(GeneralName::Mail));
    }
    if !subject::is_empty(&certificate.subject) {
        names.push(GeneralName::Directory(certificate.subject.clone()));
    }
    names.into_iter().find(|n| forbids(subtrees, n))
}

/// Upper bound on comparisons of names with subtrees for one path, as rustls-webpki has it: 250,000.
pub const MOST_COMPARISONS: usize = 250_000;

/// How many comparisons [`violated`] may take for a certificate.
pub fn cost(subtrees: &NameConstraints, certificate: &Certificate) -> usize {
    let names = certificate.names.as_ref().map_or(1, Vec::len) + 1;
    names.saturating_mul(subtrees.permitted.len() + subtrees.excluded.len())
}

/// True if the subtrees do not let a name pass: it lies in no permitted base of its kind, or in an excluded one.
///
/// ```
/// use tamga_core::pki::cert::extensions::GeneralName;
/// use tamga_core::pki::chain::constraints::forbids;
/// use tamga_core::sample::root;
///
/// let (root, _) = root()?;
/// let limits = root.certificate.constraints.as_ref().expect("every root of Tamga has some");
/// assert!(!forbids(limits, &GeneralName::Dns("charts.saltmarsh.test".into())));
/// assert!(forbids(limits, &GeneralName::Dns("charts.saltmarsh.org".into())));
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn forbids(subtrees: &NameConstraints, name: &GeneralName) -> bool {
    let of_type: Vec<&GeneralName> = subtrees.permitted.iter().filter(|b| same_type(b, name)).collect();
    let permitted = of_type.is_empty() || of_type.iter().any(|b| within(b, name));
    !permitted || subtrees.excluded.iter().any(|b| same_type(b, name) && within(b, name))
}

fn same_type(a: &GeneralName, b: &GeneralName) -> bool {
    match (a, b) {
        // IPv4 and IPv6 constrain each other: a list of IPv4 blocks permits no IPv6 address.
        (GeneralName::Other, _) | (_, GeneralName::Other) => false,
        _ => std::mem::discriminant(a) == std::mem::discriminant(b),
    }
}

fn within(base: &GeneralName, name: &GeneralName) -> bool {
    match (base, name) {
        (GeneralName::Dns(b), GeneralName::Dns(n)) => {
            let n = n.trim_start_matches("*.");
            under(b.trim_start_matches('.'), n) && !(b.starts_with('.') && same(&b[1..], n))
        }
        (GeneralName::Ip(b), GeneralName::Ip(n)) => {
            b.len() == 2 * n.len() && n.iter().zip(b).zip(&b[n.len()..]).all(|((n, a), m)| n & m == a & m)
        }
        (GeneralName::Mail(b), GeneralName::Mail(n)) => {
            let host = n.rsplit('@').next().unwrap_or_default();
            if b.contains('@') { b == n } else { host_within(b, host) }
        }
        (GeneralName::Uri(b), GeneralName::Uri(n)) => uri_host(n).is_some_and(|h| host_within(b, h)),
        (GeneralName::Directory(b), GeneralName::Directory(n)) => subject::starts_with(n, b),
        _ => false,
    }
}

/// For mail and URIs: with a leading dot what lies under it, without one that host alone.
fn host_within(base: &str, host: &str) -> bool {
    match base.strip_prefix('.') {
        Some(domain) => under(domain, host) && !same(domain, host),
        None => same(base, host),
    }
}

fn same(a: &str, b: &str) -> bool {
    a.eq_ignore_ascii_case(b)
}

fn under(domain: &str, host: &str) -> bool {
    // Without allocating: a hostile certificate may have thousands of each.
    let (domain, host) = (domain.as_bytes(), host.as_bytes());
    let Some(start) = host.len().checked_sub(domain.len()) else { return false };
    domain.is_empty() || host[start..].eq_ignore_ascii_case(domain) && (start == 0 || host[start - 1] == b'.')
}

#[cfg(test)]
mod tests {
    use super::*;

    fn permits(base: GeneralName, name: GeneralName) -> bool {
        !forbids(&NameConstraints { permitted: vec![base], excluded: vec![] }, &name)
    }

    #[test]
    fn each_type_by_its_own_rule() {
        let dns = |s: &str| GeneralName::Dns(s.into());
        assert!(permits(dns("test"), dns("a.TEST")) && permits(dns("test"), dns("*.test")));
        assert!(!permits(dns("test"), dns("attest")));
        assert!(!permits(dns(".localhost"), dns("localhost")) && permits(dns(".localhost"), dns("a.localhost")));
        let mail = |s: &str| GeneralName::Mail(s.into());
        assert!(permits(mail("x.test"), mail("a@x.test")) && !permits(mail("x.test"), mail("a@b.x.test")));
        assert!(permits(mail(".x.test"), mail("a@b.x.test")) && !permits(mail(".x.test"), mail("a@x.test")));
        let uri = |s: &str| GeneralName::Uri(s.into());
        assert!(permits(uri(".test"), uri("https://a.test:8443/x")) && !permits(uri(".test"), uri("urn:x")));
        let ip = |b: &[u8]| GeneralName::Ip(b.to_vec());
        assert!(permits(ip(&[10, 0, 0, 0, 255, 0, 0, 0]), ip(&[10, 9, 8, 7])));
        assert!(!permits(ip(&[10, 0, 0, 0, 255, 0, 0, 0]), ip(&[0; 16])));
        assert!(permits(dns("test"), ip(&[8, 8, 8, 8])), "a type without base is free");
    }

    #[test]
    fn excluded_wins() {
        let s = NameConstraints {
            permitted: vec![GeneralName::Dns("test".into())],
            excluded: vec![GeneralName::Dns("x.test".into())],
        };
        assert!(forbids(&s, &GeneralName::Dns("a.x.test".into())) && !forbids(&s, &GeneralName::Dns("y.test".into())));
    }
}
