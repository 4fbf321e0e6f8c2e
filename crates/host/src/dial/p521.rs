//! The key exchange on P-521 (RFC 8422, secp521r1), which ring has not: a server that takes no other group is checked all the same.

use crate::entropy::System;
use p521::elliptic_curve::sec1::ToSec1Point;
use p521::{PublicKey, SecretKey};
use rustls::crypto::{ActiveKeyExchange, SharedSecret, SupportedKxGroup};
use rustls::ffdhe_groups::FfdheGroup;
use rustls::{Error, NamedGroup, PeerMisbehaved};
use tamga_core::plan::ports::Entropy;
use zeroize::Zeroizing;

/// The group.
#[derive(Debug)]
pub(super) struct P521;

impl SupportedKxGroup for P521 {
    fn start(&self) -> Result<Box<dyn ActiveKeyExchange>, Error> {
        // Of 66 octets the first has one bit: a draw that is no scalar is drawn again.
        for _ in 0..64 {
            let mut octets = Zeroizing::new([0; 66]);
            System.fill(&mut *octets);
            octets[0] &= 1;
            if let Ok(key) = SecretKey::from_slice(octets.as_slice()) {
                let share = key.public_key().to_sec1_point(false).as_bytes().to_vec();
                return Ok(Box::new(Begun { key, share }));
            }
        }
        Err(Error::FailedToGetRandomBytes)
    }

    fn name(&self) -> NamedGroup {
        NamedGroup::secp521r1
    }

    fn ffdhe_group(&self) -> Option<FfdheGroup<'static>> {
        None
    }
}

/// A key exchange that waits for the server's share.
struct Begun {
    key: SecretKey,
    share: Vec<u8>,
}

impl ActiveKeyExchange for Begun {
    fn complete(self: Box<Self>, theirs: &[u8]) -> Result<SharedSecret, Error> {
        let theirs = PublicKey::from_sec1_bytes(theirs).map_err(|_| PeerMisbehaved::InvalidKeyShare)?;
        let shared = p521::ecdh::diffie_hellman(self.key.to_nonzero_scalar(), theirs.as_affine());
        Ok(SharedSecret::from(shared.raw_secret_bytes().as_slice()))
    }

    fn pub_key(&self) -> &[u8] {
        &self.share
    }

    fn group(&self) -> NamedGroup {
        NamedGroup::secp521r1
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;

    #[test]
    fn both_sides_come_to_the_same_secret_and_no_point_is_refused() {
        let (ours, theirs) = (P521.start().unwrap(), P521.start().unwrap());
        assert_eq!(ours.pub_key().len(), 133);
        let (a, b) = (ours.pub_key().to_vec(), theirs.pub_key().to_vec());
        assert_eq!(ours.complete(&b).unwrap().secret_bytes(), theirs.complete(&a).unwrap().secret_bytes());
        let mut off = b;
        off[100] ^= 1;
        assert!(P521.start().unwrap().complete(&off).is_err());
        assert!(P521.start().unwrap().complete(&[4; 12]).is_err());
    }
}
