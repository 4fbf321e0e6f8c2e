//! Does a certificate name the host that was asked for? (RFC 9525)

use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::subject;
use crate::vocabulary::name::{Name, ip};

/// Where clients differ in comparing names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Matching {
    /// How many labels must follow a star.
    pub labels_after_star: usize,
    /// Is a name with a trailing dot in the certificate taken as the same name?
    pub trailing_dot: bool,
    /// Is the common name compared where there are no alternative names?
    pub common_name: bool,
    /// The same where an address is asked for.
    pub common_name_for_address: bool,
}

/// RFC 9525 alone.
pub const STRICT: Matching =
    Matching { labels_after_star: 1, trailing_dot: false, common_name: false, common_name_for_address: false };

/// True if one of the certificate's names is the host.
///
/// ```
/// use tamga_core::pki::chain::name_match::{STRICT, covers};
/// use tamga_core::sample::leaf;
///
/// let (certificate, _) = leaf(&["*.buoys.saltmarsh.test"])?;
/// assert!(covers(&certificate, &"north.buoys.saltmarsh.test".parse()?, STRICT));
/// assert!(!covers(&certificate, &"buoys.saltmarsh.test".parse()?, STRICT));
/// assert!(!covers(&certificate, &"a.b.buoys.saltmarsh.test".parse()?, STRICT), "a star is one label");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn covers(certificate: &Certificate, host: &Name, how: Matching) -> bool {
    match &certificate.names {
        Some(names) => names.iter().any(|n| one(n, host, how)),
        None if how.common_name => match (subject::common_name(&certificate.subject), host) {
            (Some(cn), Name::Dns(d)) => dns(&cn, d, how),
            (Some(cn), Name::Ip(a)) => how.common_name_for_address && cn == a.to_string(),
            _ => false,
        },
        None => false,
    }
}

/// True if an address stands among the DNS names, where it is never found.
pub fn has_address_as_dns(certificate: &Certificate) -> Option<String> {
    certificate.names.iter().flatten().find_map(|n| match n {
        GeneralName::Dns(d) if d.parse::<std::net::IpAddr>().is_ok() => Some(d.clone()),
        _ => None,
    })
}

fn one(presented: &GeneralName, host: &Name, how: Matching) -> bool {
    match (presented, host) {
        (GeneralName::Dns(p), Name::Dns(h)) => dns(p, h, how),
        (GeneralName::Ip(octets), Name::Ip(a)) => ip(octets) == Some(*a),
        (GeneralName::Mail(p), Name::Mail(h)) => match (p.rsplit_once('@'), h.rsplit_once('@')) {
            (Some((pl, pd)), Some((hl, hd))) => pl == hl && pd.eq_ignore_ascii_case(hd),
            _ => false,
        },
        (GeneralName::Uri(p), Name::Uri(h)) => p == h,
        _ => false,
    }
}

fn dns(presented: &str, host: &str, how: Matching) -> bool {
    let mut presented = presented.to_ascii_lowercase();
    if how.trailing_dot && presented.ends_with('.') {
        presented.pop();
    }
    // A wildcard asked for (from a ledger) is covered by the same wildcard.
    if presented == host {
        return true;
    }
    let Some(suffix) = presented.strip_prefix("*.") else {
        return false;
    };
    if suffix.is_empty() || suffix.split('.').count() < how.labels_after_star {
        return false;
    }
    host.split_once('.').is_some_and(|(first, rest)| !first.is_empty() && first != "*" && rest == suffix)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_star_stands_for_one_label() {
        let two = Matching { labels_after_star: 2, ..STRICT };
        assert!(dns("*.buoys.saltmarsh.test", "b7.buoys.saltmarsh.test", STRICT));
        assert!(!dns("*.buoys.saltmarsh.test", "a.b7.buoys.saltmarsh.test", STRICT));
        assert!(!dns("*.buoys.saltmarsh.test", "buoys.saltmarsh.test", STRICT));
        assert!(dns("*.test", "x.test", STRICT) && !dns("*.test", "x.test", two));
        assert!(!dns("x.test.", "x.test", STRICT));
        assert!(dns("X.test.", "x.test", Matching { trailing_dot: true, ..STRICT }));
        assert!(!dns("*", "test", STRICT) && !dns("b*.x.test", "b7.x.test", STRICT));
    }
}
