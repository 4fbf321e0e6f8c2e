//! The hybrid key exchange that browsers offer first: ML-KEM-768 (FIPS 203) beside X25519, `X25519MLKEM768` in the TLS registry
//! (draft-ietf-tls-ecdhe-mlkem §4.1). Without it a check could not say whether a server agrees to it.

use crate::entropy::System;
use ml_kem::array::Array;
use ml_kem::{Decapsulate, DecapsulationKey, KeyExport, MlKem768, Seed};
use rustls::crypto::{ActiveKeyExchange, SharedSecret, SupportedKxGroup};
use rustls::ffdhe_groups::FfdheGroup;
use rustls::{Error, NamedGroup, PeerMisbehaved, ProtocolVersion};
use tamga_core::plan::ports::Entropy;
use zeroize::Zeroizing;

/// The octets of an ML-KEM-768 ciphertext: they stand before the server's share of X25519.
const CIPHERTEXT: usize = 1088;

/// The group.
#[derive(Debug)]
pub(super) struct Hybrid;

impl SupportedKxGroup for Hybrid {
    fn start(&self) -> Result<Box<dyn ActiveKeyExchange>, Error> {
        let classical = rustls::crypto::ring::kx_group::X25519.start()?;
        let mut seed = Zeroizing::new([0; 64]);
        System.fill(&mut *seed);
        let key = DecapsulationKey::<MlKem768>::from_seed(Seed::from(*seed));
        let mut share = key.encapsulation_key().to_bytes().to_vec();
        let at = share.len();
        share.extend_from_slice(classical.pub_key());
        Ok(Box::new(Begun { key, classical, share, at }))
    }

    fn name(&self) -> NamedGroup {
        NamedGroup::X25519MLKEM768
    }

    fn ffdhe_group(&self) -> Option<FfdheGroup<'static>> {
        None
    }

    fn usable_for_version(&self, version: ProtocolVersion) -> bool {
        version == ProtocolVersion::TLSv1_3
    }
}

/// A key exchange that waits for the server's share.
struct Begun {
    key: DecapsulationKey<MlKem768>,
    classical: Box<dyn ActiveKeyExchange>,
    share: Vec<u8>,
    /// Where the share of X25519 begins.
    at: usize,
}

impl ActiveKeyExchange for Begun {
    fn complete(self: Box<Self>, theirs: &[u8]) -> Result<SharedSecret, Error> {
        let wrong = || Error::from(PeerMisbehaved::InvalidKeyShare);
        let (ciphertext, theirs) = theirs.split_at_checked(CIPHERTEXT).ok_or_else(wrong)?;
        let ciphertext = Array::try_from(ciphertext).map_err(|_| wrong())?;
        let first = self.key.decapsulate(&ciphertext);
        let second = self.classical.complete(theirs)?;
        let both = Zeroizing::new([first.as_slice(), second.secret_bytes()].concat());
        Ok(SharedSecret::from(both.as_slice()))
    }

    fn hybrid_component(&self) -> Option<(NamedGroup, &[u8])> {
        Some((self.classical.group(), &self.share[self.at..]))
    }

    fn complete_hybrid_component(self: Box<Self>, theirs: &[u8]) -> Result<SharedSecret, Error> {
        self.classical.complete(theirs)
    }

    fn pub_key(&self) -> &[u8] {
        &self.share
    }

    fn group(&self) -> NamedGroup {
        NamedGroup::X25519MLKEM768
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;
    use ml_kem::EncapsulationKey;
    use ml_kem::kem::Key;

    #[test]
    fn both_sides_come_to_the_same_secret() {
        let ours = Hybrid.start().unwrap();
        assert_eq!(ours.pub_key().len(), 1216);
        let (kem, x25519) = ours.pub_key().split_at(1184);
        let key: Key<EncapsulationKey<MlKem768>> = Array::try_from(kem).unwrap();
        let (ciphertext, first) =
            EncapsulationKey::<MlKem768>::new(&key).unwrap().encapsulate_deterministic(&Array([7; 32]));
        let server = rustls::crypto::ring::kx_group::X25519.start().unwrap();
        let share = [ciphertext.as_slice(), server.pub_key()].concat();
        assert_eq!(share.len(), 1120);
        let second = server.complete(x25519).unwrap();
        let theirs = [first.as_slice(), second.secret_bytes()].concat();
        assert_eq!(ours.complete(&share).unwrap().secret_bytes(), theirs);
    }

    #[test]
    fn a_share_of_any_other_length_is_refused() {
        for length in [0, 32, 1088, 1119, 1121] {
            assert!(Hybrid.start().unwrap().complete(&vec![9; length]).is_err(), "{length}");
        }
    }
}
