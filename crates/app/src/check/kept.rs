//! What a list meets again: the same certificate on many hosts, the same question of one host at many ports.

use sha2::{Digest as _, Sha256};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use tamga_core::check::client::case::Spoken;
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::name::Name;

/// Enough for a lab's hosts; what goes beyond is worked out twice.
const KEPT: usize = 512;

/// SHA-256.
pub(super) type Digest = [u8; 32];

/// Of everything that an answer depends on and that is not the same for the whole run. Lengths stand before the parts: no two questions
/// have the same octets.
pub(super) fn asked(served: &[Certificate], names: &[Name], spoken: Option<&Spoken<'_>>, of_database: bool) -> Digest {
    let mut of = Sha256::new();
    let mut put = |octets: &[u8]| {
        of.update((octets.len() as u64).to_be_bytes());
        of.update(octets);
    };
    for certificate in served {
        put(certificate.der());
    }
    // Written out whole by their derived Debug: a field that is added later counts by itself.
    put(format!("{names:?} {spoken:?} {of_database}").as_bytes());
    of.finalize().into()
}

/// Of octets.
pub(super) fn digest(octets: &[u8]) -> Digest {
    Sha256::digest(octets).into()
}

/// What was worked out in this run, by what it was worked out of. A clone of a value must cost nothing.
pub(super) struct Kept<V>(Mutex<HashMap<Digest, Slot<V>>>);

/// Who works a value out holds its lock, and the others wait: sixty jobs that begin with one question ask it once.
type Slot<V> = Arc<Mutex<Option<V>>>;

impl<V> Default for Kept<V> {
    fn default() -> Kept<V> {
        Kept(Mutex::default())
    }
}

impl<V: Clone> Kept<V> {
    /// What belongs to this digest, from `make` if it is not known yet.
    ///
    /// Errors: those of `make`; they are not kept.
    pub(super) fn or<E>(&self, of: Digest, make: impl FnOnce() -> Result<V, E>) -> Result<V, E> {
        let slot = self.slot(of);
        let mut known = slot.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(value) = &*known {
            return Ok(value.clone());
        }
        let value = make()?;
        *known = Some(value.clone());
        Ok(value)
    }

    fn slot(&self, of: Digest) -> Slot<V> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if all.len() >= KEPT && !all.contains_key(&of) {
            all.clear();
        }
        all.entry(of).or_default().clone()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;
    use std::cell::Cell;

    fn names(typed: &[&str]) -> Vec<Name> {
        typed.iter().map(|t| t.parse().unwrap()).collect()
    }

    #[test]
    fn what_is_known_is_not_worked_out_again_but_an_error_is() {
        let (kept, made) = (Kept::default(), Cell::new(0));
        let ask = |of: Digest, good: bool| {
            kept.or(of, || {
                made.set(made.get() + 1);
                if good { Ok(7) } else { Err("no") }
            })
        };
        let first = asked(&[], &names(&["charts.saltmarsh.test"]), None, false);
        assert!(ask(first, false).is_err());
        assert!(ask(first, true).is_ok());
        // What would fail now is not tried.
        assert!(ask(first, false).is_ok());
        assert_eq!(made.get(), 2);
    }

    #[test]
    fn who_asks_the_same_at_once_waits_for_one_answer() {
        let (kept, made) = (Kept::default(), std::sync::atomic::AtomicUsize::new(0));
        let of = asked(&[], &names(&["charts.saltmarsh.test"]), None, false);
        let together = std::sync::Barrier::new(16);
        let ask = || {
            together.wait();
            kept.or(of, || {
                std::thread::sleep(std::time::Duration::from_millis(20));
                Ok::<_, ()>(made.fetch_add(1, std::sync::atomic::Ordering::Relaxed))
            })
        };
        std::thread::scope(|scope| {
            let all: Vec<_> = (0..16).map(|_| scope.spawn(ask)).collect();
            assert!(all.into_iter().all(|t| t.join().unwrap() == Ok(0)));
        });
    }

    #[test]
    fn whatever_differs_makes_another_question() {
        let one = names(&["charts.saltmarsh.test"]);
        let both = names(&["charts.saltmarsh.test", "10.83.0.12"]);
        let junk = [(1, vec![7])];
        let silent = Spoken::default();
        let old = Spoken { is_tls12: true, ..silent };
        let spoiled = Spoken { junk: &junk, ..silent };
        let all = [
            asked(&[], &one, None, false),
            asked(&[], &both, None, false),
            asked(&[], &[], None, false),
            asked(&[], &one, Some(&silent), false),
            asked(&[], &one, Some(&old), false),
            asked(&[], &one, Some(&spoiled), false),
            asked(&[], &one, Some(&silent), true),
        ];
        for (n, a) in all.iter().enumerate() {
            for b in &all[..n] {
                assert_ne!(a, b, "{n}");
            }
        }
        assert_eq!(all[0], asked(&[], &one, None, false));
    }

    #[test]
    fn what_is_kept_stays_bounded() {
        let kept = Kept::default();
        for n in 0..3 * KEPT {
            let name = format!("n{n}.saltmarsh.test");
            let of = asked(&[], &names(&[&name]), None, false);
            kept.or(of, || Ok::<_, ()>(n)).unwrap();
        }
        assert!(kept.0.lock().unwrap().len() <= KEPT);
    }
}
