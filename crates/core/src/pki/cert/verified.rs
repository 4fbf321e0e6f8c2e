//! What one signature was found to be, key by key: a signature costs more than all the rest of a judgment, and ten clients ask.

use crate::pki::signature::SignatureFault;
use std::sync::{Mutex, PoisonError};

/// Enough for a chain's candidates; a server that sends more issuers than these only makes us verify again.
const KEPT: usize = 16;

/// A key, and what it said.
type Answer = (Vec<u8>, Result<(), SignatureFault>);

/// The answers so far: the last [`KEPT`] keys (DER of the SubjectPublicKeyInfo).
#[derive(Debug, Default)]
pub(super) struct Verified(Mutex<Vec<Answer>>);

impl Verified {
    /// The answer for this key, from `verify` if it is not known yet. The lock is not held while it verifies.
    pub(super) fn by(
        &self,
        key: &[u8],
        verify: impl FnOnce(&[u8]) -> Result<(), SignatureFault>,
    ) -> Result<(), SignatureFault> {
        let known = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, answer)) = known().iter().find(|(k, _)| k == key) {
            return *answer;
        }
        let answer = verify(key);
        let mut known = known();
        if known.len() == KEPT {
            drop(known.remove(0));
        }
        known.push((key.to_vec(), answer));
        answer
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::Cell;

    #[test]
    fn each_key_is_asked_once_and_has_its_own_answer() {
        let (known, asked) = (Verified::default(), Cell::new(0));
        let ask = |key: &[u8], answer| {
            known.by(key, |k| {
                assert_eq!(k, key);
                asked.set(asked.get() + 1);
                answer
            })
        };
        assert_eq!(ask(b"a", Ok(())), Ok(()));
        assert_eq!(ask(b"b", Err(SignatureFault::Wrong)), Err(SignatureFault::Wrong));
        // What would be answered now is not asked for.
        assert_eq!(ask(b"a", Err(SignatureFault::Unsupported)), Ok(()));
        assert_eq!(ask(b"b", Ok(())), Err(SignatureFault::Wrong));
        assert_eq!(asked.get(), 2);
    }

    #[test]
    fn what_is_kept_stays_bounded_and_the_oldest_goes() {
        let known = Verified::default();
        for n in 0..1_000u32 {
            assert_eq!(known.by(&n.to_be_bytes(), |_| Ok(())), Ok(()));
        }
        assert_eq!(known.0.lock().unwrap().len(), KEPT);
        assert_eq!(known.by(&999u32.to_be_bytes(), |_| Err(SignatureFault::Wrong)), Ok(()));
        assert_eq!(known.by(&0u32.to_be_bytes(), |_| Err(SignatureFault::Wrong)), Err(SignatureFault::Wrong));
    }
}
