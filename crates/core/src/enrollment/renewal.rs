//! Renewal information: when a certificate is best renewed (RFC 9773).

use crate::enrollment::{base64url, from_base64url};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::serial_octets;
use crate::vocabulary::timestamp::Timestamp;

/// Seconds after which a client asks again (RFC 9773 section 4.2).
pub const ASK_AGAIN: u64 = 21_600;

/// Which certificate: the key of its issuer and its serial number, each base64url, with a point between (RFC 9773 section 4.1). None for one
/// that does not say whose key signed it.
pub fn certificate_id(certificate: &Certificate) -> Option<String> {
    let issuer = certificate.issuer_key_identifier.as_ref()?;
    Some(format!("{}.{}", base64url(issuer), base64url(&serial_octets(&certificate.serial)?)))
}

/// The two halves of an id: issuer's key and serial number, in octets.
pub fn read_id(text: &str) -> Option<(Vec<u8>, Vec<u8>)> {
    let (issuer, serial) = text.split_once('.')?;
    let (issuer, serial) = (from_base64url(issuer)?, from_base64url(serial)?);
    (!issuer.is_empty() && !serial.is_empty() && serial.len() <= 21 && issuer.len() <= 64).then_some((issuer, serial))
}

/// When to renew: between two thirds and five sixths of its validity; at once where it is revoked.
pub fn window(certificate: &Certificate, revoked: bool, now: Timestamp) -> (Timestamp, Timestamp) {
    if revoked {
        return (now.plus(-7200), now.plus(-3600));
    }
    let (from, until) = (certificate.not_before.unix(), certificate.not_after.unix());
    let at = |part: i64| Timestamp::from_unix(from + (until - from) / 6 * part);
    (at(4), at(5))
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::pki::cert::extensions::serial_hex;
    use crate::sample::leaf;

    /// RFC 9773 section 4.1 has this key identifier and this serial number.
    #[test]
    fn the_id_of_the_standard() {
        assert_eq!(serial_octets("87654321").map(|o| base64url(&o)), Some("AIdlQyE".into()));
        let (issuer, serial) = read_id("aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE").unwrap();
        assert_eq!((issuer.len(), serial_hex(&serial).as_str()), (20, "87654321"));
        for wrong in ["", ".", "aYhb", "aYhb.", "a b.AAAA", "aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE=", "a.b.c"] {
            assert!(read_id(wrong).is_none(), "{wrong}");
        }
    }

    #[test]
    fn the_window_is_late_in_its_validity_and_past_where_it_is_revoked() {
        let (certificate, _) = leaf(&["charts.saltmarsh.test"]).unwrap();
        let id = certificate_id(&certificate).unwrap();
        let (issuer, serial) = read_id(&id).unwrap();
        assert_eq!(
            (Some(issuer), serial_hex(&serial)),
            (certificate.issuer_key_identifier.clone(), certificate.serial.clone())
        );
        let now = certificate.not_before;
        let (from, until) = window(&certificate, false, now);
        assert!(certificate.not_before < from && from < until && until < certificate.not_after);
        assert!(window(&certificate, true, now).1 < now);
    }
}
