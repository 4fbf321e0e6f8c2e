//! Challenges: what a client shows to prove that it controls a name (RFC 8555 section 8, RFC 8737, RFC 8738).

use crate::enrollment::base64url;
use crate::enrollment::identifier::Identifier;
use sha2::{Digest, Sha256};
use std::net::IpAddr;

crate::words! {
    /// How control of a name is proved.
    #[derive(PartialOrd, Ord, Hash)]
    pub enum ChallengeType: "challenge" {
        /// A file on the host's web server, over plain HTTP (RFC 8555 section 8.3).
        Http01 = "http-01",
        /// A TXT record (RFC 8555 section 8.4).
        Dns01 = "dns-01",
        /// A certificate in a TLS handshake (RFC 8737).
        TlsAlpn01 = "tls-alpn-01",
    }
}

impl ChallengeType {
    /// Those by which a name can be proved: a wildcard by DNS alone (RFC 8555 section 7.1.3), an address never by DNS (RFC 8738 section 7).
    pub fn possible(identifier: &Identifier) -> &'static [ChallengeType] {
        match identifier {
            Identifier::Dns(_) if identifier.is_wildcard() => &[ChallengeType::Dns01],
            Identifier::Dns(_) => &ChallengeType::ALL,
            Identifier::Ip(_) => &[ChallengeType::Http01, ChallengeType::TlsAlpn01],
        }
    }
}

/// The directory below which a web server shows its answers.
pub const WELL_KNOWN: &str = "/.well-known/acme-challenge/";

/// The protocol of a TLS handshake that proves control.
pub const ALPN: &[u8] = b"acme-tls/1";

/// The extension that carries the proof (RFC 8737 section 3), as an object identifier.
pub const EXTENSION: &str = "1.3.6.1.5.5.7.1.31";

/// Token, point and thumbprint of the account's key (RFC 8555 section 8.1): what an http-01 answer is.
pub fn key_authorization(token: &str, thumbprint: &str) -> String {
    format!("{token}.{thumbprint}")
}

/// The value of the TXT record (RFC 8555 section 8.4).
pub fn dns_value(key_authorization: &str) -> String {
    base64url(&Sha256::digest(key_authorization))
}

/// The name of the TXT record: of a wildcard the same as of its base.
pub fn dns_name(domain: &str) -> String {
    format!("_acme-challenge.{}", domain.strip_prefix("*.").unwrap_or(domain))
}

/// What the extension of the certificate holds: a DER OCTET STRING of the digest (RFC 8737 section 3).
pub fn alpn_extension(key_authorization: &str) -> Vec<u8> {
    [&[0x04, 0x20][..], &Sha256::digest(key_authorization)].concat()
}

/// The server name that is asked for: of an address its name for reverse lookup (RFC 8738 section 6).
pub fn server_name(identifier: &Identifier) -> String {
    match identifier {
        Identifier::Dns(name) => name.clone(),
        Identifier::Ip(IpAddr::V4(a)) => {
            let [a, b, c, d] = a.octets();
            format!("{d}.{c}.{b}.{a}.in-addr.arpa")
        }
        Identifier::Ip(IpAddr::V6(a)) => {
            let nibbles = a.octets().into_iter().rev().flat_map(|o| [o & 15, o >> 4]);
            nibbles.map(|n| format!("{n:x}.")).collect::<String>() + "ip6.arpa"
        }
    }
}

/// True for what a token may be: at least 128 bits of base64url (RFC 8555 section 8.1), and nothing that leads out of a directory.
pub fn is_token(text: &str) -> bool {
    (22..=256).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_both_sides_compute() {
        // RFC 8555 section 8.4 has the form of these, RFC 8737 section 3 and RFC 8738 section 6 theirs.
        let authorization = key_authorization(
            "evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA",
            "9jg46WB3rR_AHD-EBXdN7cBkH1WOu0tA3M9fm21mqTI",
        );
        assert_eq!(dns_value(&authorization).len(), 43);
        assert_eq!(dns_name("*.buoys.saltmarsh.test"), "_acme-challenge.buoys.saltmarsh.test");
        assert_eq!(alpn_extension(&authorization).len(), 34);
        let name = |a: &str| server_name(&Identifier::Ip(a.parse().unwrap_or(IpAddr::from([0, 0, 0, 0]))));
        assert_eq!(name("192.0.2.1"), "1.2.0.192.in-addr.arpa");
        assert_eq!(name("2001:db8::1"), "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa");
        assert!(is_token("evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA"));
        for wrong in ["", "short", "../../../../etc/passwd-passwd", "evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ.PCt92wr"] {
            assert!(!is_token(wrong), "{wrong}");
        }
    }
}
