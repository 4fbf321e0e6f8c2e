//! A certificate's fingerprints in the spellings that consoles, browsers and servers want.

use crate::vocabulary::text::hex;
use base64ct::{Base64, Encoding};
use sha1::Sha1;
use sha2::{Digest, Sha256};

/// One spelling.
#[derive(Debug, PartialEq, Eq)]
pub struct Spelling {
    /// What it is: the hash, and of what.
    pub what: &'static str,
    /// Where it is asked for.
    pub wanted_by: &'static str,
    /// The value.
    pub value: String,
}

/// All of them. In: the certificate and its SubjectPublicKeyInfo, DER.
///
/// ```
/// use tamga_core::pki::format::fingerprint::spellings;
/// use tamga_core::sample::leaf;
///
/// let (certificate, _) = leaf(&["charts.saltmarsh.test"])?;
/// let all = spellings(certificate.der(), certificate.key.spki());
/// assert_eq!(all[0].value, certificate.sha256().as_str());
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn spellings(der: &[u8], public_key: &[u8]) -> Vec<Spelling> {
    let (sha256, sha1) = (Sha256::digest(der), Sha1::digest(der));
    let colons = |bytes: &[u8]| bytes.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":");
    let pin = Base64::encode_string(&Sha256::digest(public_key));
    let of = |what, wanted_by, value| Spelling { what, wanted_by, value };
    vec![
        of("SHA-256", "programs, Tamga", hex(&sha256)),
        of("SHA-256 with colons", "browsers, Java", colons(&sha256)),
        of("SHA-256 as base64", "some consoles", Base64::encode_string(&sha256)),
        of("SHA-1 thumbprint", "Windows, IIS", hex(&sha1).to_uppercase()),
        of("SHA-1 with colons", "older consoles", colons(&sha1)),
        of("public key", "curl --pinnedpubkey", format!("sha256//{pin}")),
        of("public key, bare", "Chromium's list", pin),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spellings_are_those_of_the_same_digest() {
        let all = spellings(b"abc", b"abc");
        assert!(all[0].value.starts_with("ba7816bf8f01cfea"));
        assert_eq!(all[1].value.replace(':', "").to_lowercase(), all[0].value);
        assert_eq!(all[3].value, "A9993E364706816ABA3E25717850C26C9CD0D89D");
        assert_eq!(all[5].value, format!("sha256//{}", all[6].value));
    }
}
