//! The hybrid key exchange that browsers offer first: ML-KEM-768 (FIPS 203) beside X25519, `X25519MLKEM768` in the TLS registry
//! (draft-ietf-tls-ecdhe-mlkem §4.1). Without it a check could not say whether a server agrees to it.

use crate::entropy::System;
use ml_kem::array::Array;
use ml_kem::{Decapsulate, DecapsulationKey, KeyExport, MlKem768, Seed};
use rustls::crypto::{ActiveKeyExchange, SharedSecret, SupportedKxGroup};
use rustls::ffdhe_groups::FfdheGroup;
use rustls::{Error, NamedGroup, PeerMisbehaved, ProtocolVersion};
use std::sync::{Arc, Mutex, PoisonError};
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
        let kem = Kem::current();
        let mut share = kem.share.clone();
        let at = share.len();
        share.extend_from_slice(classical.pub_key());
        Ok(Box::new(Begun { kem, classical, share, at }))
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

/// How many connections have the same ML-KEM key: making one for each took a fifth of the time of a list.
const USES: usize = 256;

/// The key of ML-KEM, for some connections of this process. X25519's is new each time, so that what is new to quantum computers alone
/// is shared; ML-KEM is made to stay secure under chosen ciphertexts (FIPS 203), and so when a key is used again.
struct Kem {
    key: DecapsulationKey<MlKem768>,
    /// Its encapsulation key, as the hello has it.
    share: Vec<u8>,
}

impl Kem {
    fn new() -> Kem {
        let mut seed = Zeroizing::new([0; 64]);
        System.fill(&mut *seed);
        let key = DecapsulationKey::<MlKem768>::from_seed(Seed::from(*seed));
        let share = key.encapsulation_key().to_bytes().to_vec();
        Kem { key, share }
    }

    /// The one in use, or a new one after [`USES`] connections.
    fn current() -> Arc<Kem> {
        static IN_USE: Mutex<Option<(Arc<Kem>, usize)>> = Mutex::new(None);
        let mut in_use = IN_USE.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((kem, left)) = in_use.as_mut().filter(|(_, left)| *left > 0) {
            *left -= 1;
            return kem.clone();
        }
        let kem = Arc::new(Kem::new());
        *in_use = Some((kem.clone(), USES - 1));
        kem
    }
}

/// A key exchange that waits for the server's share.
struct Begun {
    kem: Arc<Kem>,
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
        let first = self.kem.key.decapsulate(&ciphertext);
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
    fn a_key_serves_some_connections_and_its_x25519_half_one() {
        let shares: Vec<Vec<u8>> = (0..2 * USES).map(|_| Hybrid.start().unwrap().pub_key().to_vec()).collect();
        let count = |part: std::ops::Range<usize>| {
            shares.iter().map(|s| &s[part.clone()]).collect::<std::collections::HashSet<_>>().len()
        };
        assert!((2..=3).contains(&count(0..1184)), "other tests of this process have used some of the first");
        assert_eq!(count(1184..1216), 2 * USES);
    }

    #[test]
    fn a_share_of_any_other_length_is_refused() {
        for length in [0, 32, 1088, 1119, 1121] {
            assert!(Hybrid.start().unwrap().complete(&vec![9; length]).is_err(), "{length}");
        }
    }
}
