//! What an authority may certify: name constraints as a person states them (RFC 5280 §4.2.1.10).

use crate::error::{Error, Result};
use crate::vocabulary::name::{self, Name};
use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;

/// A block of addresses, `address/length`, with no bit set behind the length.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Cidr {
    address: IpAddr,
    length: u8,
}

impl Cidr {
    /// Clears the bits behind the length; a length beyond the address is cut.
    pub fn new(address: IpAddr, length: u8) -> Cidr {
        match address {
            IpAddr::V4(a) => {
                let length = length.min(32);
                let mask = u32::MAX.checked_shl(32 - u32::from(length)).unwrap_or(0);
                Cidr { address: IpAddr::V4((u32::from(a) & mask).into()), length }
            }
            IpAddr::V6(a) => {
                let length = length.min(128);
                let mask = u128::MAX.checked_shl(128 - u32::from(length)).unwrap_or(0);
                Cidr { address: IpAddr::V6((u128::from(a) & mask).into()), length }
            }
        }
    }

    /// True if the address lies in the block.
    pub fn contains(&self, ip: IpAddr) -> bool {
        ip.is_ipv4() == self.address.is_ipv4() && Cidr::new(ip, self.length).address == self.address
    }

    /// From address and mask as the extension holds them; None for a mask with holes.
    ///
    /// ```
    /// use tamga_core::vocabulary::permit::Cidr;
    ///
    /// let block = Cidr::from_octets(&[10, 7, 0, 0, 255, 255, 0, 0]).expect("a block");
    /// assert_eq!(block.to_string(), "10.7.0.0/16");
    /// assert_eq!(Cidr::from_octets(&[10, 7, 0, 0, 255, 0, 255, 0]), None, "a mask with a hole");
    /// ```
    pub fn from_octets(octets: &[u8]) -> Option<Cidr> {
        let (address, mask) = octets.split_at_checked(octets.len() / 2)?;
        let ones: u32 = mask.iter().map(|b| b.count_ones()).sum();
        let block = Cidr::new(crate::vocabulary::name::ip(address)?, u8::try_from(ones).ok()?);
        (block.to_octets() == octets).then_some(block)
    }

    /// True if all of the other block lies in this one.
    ///
    /// ```
    /// use tamga_core::vocabulary::permit::Cidr;
    ///
    /// let (lab, pier): (Cidr, Cidr) = ("10.0.0.0/8".parse()?, "10.7.0.0/16".parse()?);
    /// assert!(lab.holds(pier) && !pier.holds(lab));
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn holds(&self, other: Cidr) -> bool {
        self.length <= other.length && self.contains(other.address)
    }

    /// Address and mask, each 4 or 16 octets, as the extension holds them.
    pub fn to_octets(self) -> Vec<u8> {
        match self.address {
            IpAddr::V4(a) => {
                let mask = u32::MAX.checked_shl(32 - u32::from(self.length)).unwrap_or(0);
                [a.octets(), mask.to_be_bytes()].concat()
            }
            IpAddr::V6(a) => {
                let mask = u128::MAX.checked_shl(128 - u32::from(self.length)).unwrap_or(0);
                [a.octets(), mask.to_be_bytes()].concat()
            }
        }
    }
}

impl std::str::FromStr for Cidr {
    type Err = Error;

    /// Reads `10.0.0.0/8`; a bare address is a block of one.
    ///
    /// ```
    /// use tamga_core::vocabulary::permit::Cidr;
    ///
    /// let block = "10.20.30.40/8".parse::<Cidr>().expect("a block");
    /// assert_eq!(block, "10.0.0.0/8".parse::<Cidr>().expect("the same block"));
    /// assert!(block.contains("10.1.2.3".parse().expect("an address")));
    /// assert!("10.0.0.0/33".parse::<Cidr>().is_err());
    /// ```
    fn from_str(typed: &str) -> Result<Cidr> {
        let read = || {
            let (address, length) = match typed.split_once('/') {
                Some((a, l)) => (a.parse::<IpAddr>().ok()?, Some(l.parse::<u8>().ok()?)),
                None => (typed.parse::<IpAddr>().ok()?, None),
            };
            let most = if address.is_ipv4() { 32 } else { 128 };
            let length = length.unwrap_or(most);
            (length <= most).then(|| Cidr::new(address, length))
        };
        read().ok_or_else(|| Error::Word {
            what: "address block",
            typed: typed.to_owned(),
            accepted: "an address or a block such as 10.20.0.0/16".into(),
        })
    }
}

impl fmt::Display for Cidr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}", self.address, self.length)
    }
}

/// Domains that every root of ours may certify: reserved for tests and private networks.
pub const DEFAULT_DOMAINS: [&str; 5] = ["localhost", "test", "home.arpa", "internal", "local"];

/// Loopback, private and link-local blocks (RFC 1122, 1918, 3927, 4193, 4291).
pub const DEFAULT_BLOCKS: [&str; 8] = [
    "127.0.0.0/8",
    "10.0.0.0/8",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "169.254.0.0/16",
    "::1/128",
    "fc00::/7",
    "fe80::/10",
];

/// The permitted set of an authority.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Permit {
    /// No constraints at all: the authority may certify every name of the world.
    Any,
    /// These domains (each with what lies under it) and these address blocks; mail and URIs by the same domains.
    Only {
        /// Domains, lower case.
        domains: Vec<String>,
        /// Address blocks.
        blocks: Vec<Cidr>,
    },
}

impl Permit {
    /// The default set of the interface.
    pub fn default_set() -> Permit {
        Permit::Only {
            domains: DEFAULT_DOMAINS.iter().map(|d| (*d).to_owned()).collect(),
            blocks: DEFAULT_BLOCKS.iter().filter_map(|b| Cidr::from_str(b).ok()).collect(),
        }
    }

    /// Widens the set by a domain, a name, an address or a block; what is covered already changes nothing.
    ///
    /// ```
    /// use tamga_core::vocabulary::name::Name;
    /// use tamga_core::vocabulary::permit::Permit;
    ///
    /// let mut permit = Permit::default_set();
    /// let name = "charts.saltmarsh.example.org".parse::<Name>()?;
    /// assert!(!permit.allows(&name), "it is nobody's test name");
    /// permit.extend("saltmarsh.example.org")?;
    /// assert!(permit.allows(&name));
    /// # Ok::<(), tamga_core::error::Error>(())
    /// ```
    pub fn extend(&mut self, typed: &str) -> Result<()> {
        let Permit::Only { domains, blocks } = self else {
            return Ok(());
        };
        let bare = typed.trim().trim_start_matches('[').trim_end_matches(']');
        if let Ok(block) = Cidr::from_str(bare) {
            if !blocks.iter().any(|b| b.holds(block)) {
                blocks.push(block);
            }
            return Ok(());
        }
        if bare.contains('/') {
            return Err(Error::Word {
                what: "name or address block",
                typed: typed.to_owned(),
                accepted: "a domain such as saltmarsh.example, an address, or a block such as 10.0.0.0/8".into(),
            });
        }
        let domain = match Name::from_str(typed)? {
            Name::Dns(d) => d.trim_start_matches("*.").to_owned(),
            Name::Mail(m) => m.rsplit('@').next().unwrap_or_default().to_owned(),
            Name::Uri(u) => name::domain(name::uri_host(&u).unwrap_or_default())?,
            // Read as a block above.
            Name::Ip(_) => return Ok(()),
        };
        if !domains.iter().any(|d| covers(d, &domain)) {
            domains.push(domain);
        }
        Ok(())
    }

    /// True if the authority may certify the name.
    pub fn allows(&self, name: &Name) -> bool {
        let Permit::Only { domains, blocks } = self else {
            return true;
        };
        let host_allowed = |host: &str| domains.iter().any(|d| covers(d, host));
        match name {
            Name::Dns(n) => host_allowed(n.trim_start_matches("*.")),
            Name::Ip(ip) => blocks.iter().any(|b| b.contains(*ip)),
            Name::Mail(m) => m.rsplit('@').next().is_some_and(host_allowed),
            // RFC 5280 §4.2.1.10: a URI without a host, or with an address, cannot be judged and is refused.
            Name::Uri(u) => name::uri_host(u)
                .filter(|h| h.parse::<IpAddr>().is_err())
                .is_some_and(|h| host_allowed(&h.to_ascii_lowercase())),
        }
    }
}

impl fmt::Display for Permit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Permit::Any => f.write_str("every name (no constraints)"),
            Permit::Only { domains, blocks } => {
                let blocks: Vec<String> = blocks.iter().map(Cidr::to_string).collect();
                let all = [domains.join(", "), blocks.join(", ")];
                let some: Vec<String> = all.into_iter().filter(|s| !s.is_empty()).collect();
                f.write_str(if some.is_empty() { "nothing" } else { "" })?;
                f.write_str(&some.join(" and "))
            }
        }
    }
}

fn covers(domain: &str, host: &str) -> bool {
    host == domain || host.strip_suffix(domain).is_some_and(|h| h.ends_with('.'))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn allows(p: &Permit, n: &str) -> bool {
        p.allows(&Name::from_str(n).unwrap())
    }

    #[test]
    fn the_default_set_stays_at_home() {
        let p = Permit::default_set();
        for yes in [
            "localhost",
            "a.localhost",
            "x.test",
            "*.x.test",
            "nas.home.arpa",
            "127.0.0.1",
            "::1",
            "10.9.8.7",
            "172.31.0.1",
            "fe80::1",
            "lab-operator@saltmarsh.test",
            "https://charts.saltmarsh.test/x",
        ] {
            assert!(allows(&p, yes), "{yes}");
        }
        for no in [
            "example.org",
            "attest",
            "contest.org",
            "8.8.8.8",
            "172.32.0.1",
            "2001:db8::1",
            "a@x.org",
            "urn:x:y",
            "https://127.0.0.1/",
        ] {
            assert!(!allows(&p, no), "{no}");
        }
    }

    #[test]
    fn extending_adds_only_what_is_new() {
        let mut p = Permit::default_set();
        p.extend("charts.saltmarsh.test").unwrap();
        p.extend("10.1.0.0/16").unwrap();
        assert_eq!(p, Permit::default_set());
        p.extend("*.saltmarsh.example").unwrap();
        p.extend("203.0.113.0/24").unwrap();
        assert!(allows(&p, "a.saltmarsh.example") && allows(&p, "203.0.113.9"));
        assert!(!allows(&p, "203.0.114.9"));
        assert!(p.extend("10.0.0.0/99").is_err());
        // Blanks around a copied address do not matter.
        p.extend(" 198.51.100.7\t").unwrap();
        assert!(allows(&p, "198.51.100.7"));
    }

    #[test]
    fn octets_are_address_and_mask() {
        assert_eq!(Cidr::from_str("10.1.2.3/8").unwrap().to_octets(), [10, 0, 0, 0, 255, 0, 0, 0]);
        assert_eq!(Cidr::from_str("0.0.0.0/0").unwrap().to_octets(), [0; 8]);
        assert_eq!(Cidr::from_str("::1").unwrap().to_octets()[16..], [0xff; 16]);
    }
}
