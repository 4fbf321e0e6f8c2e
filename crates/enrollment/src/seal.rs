//! The service's own secret: what nonces are marked with, and what the keys of invitations are sealed with.

use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use ring::hmac;
use tamga_core::plan::ports::Entropy;
use tamga_host::entropy;
use zeroize::Zeroizing;

/// Octets of the secret.
pub const LENGTH: usize = 32;
const NONCE: usize = 12;

/// The secret, from which a key for each use is derived.
pub struct Secret {
    nonces: hmac::Key,
    invitations: Zeroizing<Vec<u8>>,
}

impl Secret {
    /// A new one, for its file.
    pub fn generate() -> Zeroizing<Vec<u8>> {
        let mut octets = Zeroizing::new(vec![0; LENGTH]);
        entropy::System.fill(&mut octets);
        octets
    }

    /// Of the octets in the file; None if they are too few.
    pub fn of(octets: &[u8]) -> Option<Secret> {
        if octets.len() != LENGTH {
            return None;
        }
        let master = hmac::Key::new(hmac::HMAC_SHA256, octets);
        let derived = |purpose: &[u8]| Zeroizing::new(hmac::sign(&master, purpose).as_ref().to_vec());
        Some(Secret {
            nonces: hmac::Key::new(hmac::HMAC_SHA256, &derived(b"tamga enrollment nonces")),
            invitations: derived(b"tamga enrollment invitations"),
        })
    }

    pub(crate) fn nonces(&self) -> &hmac::Key {
        &self.nonces
    }

    fn key(&self) -> Option<LessSafeKey> {
        UnboundKey::new(&AES_256_GCM, &self.invitations).ok().map(LessSafeKey::new)
    }

    /// Seals the key of an invitation, bound to its key id.
    pub fn seal(&self, key_id: &str, secret: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        let mut nonce = [0; NONCE];
        entropy::System.fill(&mut nonce);
        let mut sealed = Zeroizing::new(secret.to_vec());
        let aad = Aad::from(key_id.as_bytes());
        let tag =
            self.key()?.seal_in_place_separate_tag(Nonce::assume_unique_for_key(nonce), aad, &mut sealed[..]).ok()?;
        Some(Zeroizing::new([&nonce[..], &sealed, tag.as_ref()].concat()))
    }

    /// Opens it; None if it is another one's, or was changed.
    pub fn open(&self, key_id: &str, sealed: &[u8]) -> Option<Zeroizing<Vec<u8>>> {
        let (nonce, body) = sealed.split_at_checked(NONCE)?;
        let nonce = Nonce::try_assume_unique_for_key(nonce).ok()?;
        let mut body = Zeroizing::new(body.to_vec());
        let length = self.key()?.open_in_place(nonce, Aad::from(key_id.as_bytes()), &mut body[..]).ok()?.len();
        body.truncate(length);
        Some(body)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    #[test]
    fn what_is_sealed_is_opened_by_the_same_secret_for_the_same_id_alone() {
        let secret = Secret::of(&[7; LENGTH]).unwrap();
        let sealed = secret.seal("k1", b"the key").unwrap();
        assert_eq!(secret.open("k1", &sealed).as_deref().map(Vec::as_slice), Some(&b"the key"[..]));
        assert!(secret.open("k2", &sealed).is_none());
        assert!(Secret::of(&[8; LENGTH]).unwrap().open("k1", &sealed).is_none());
        for cut in 0..sealed.len() {
            assert!(secret.open("k1", &sealed[..cut]).is_none(), "{cut}");
        }
        assert!(Secret::of(&[7; 31]).is_none());
    }
}
