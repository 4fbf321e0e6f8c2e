//! How much a file may cost to open: one budget of work and memory over all its key derivations. A file says itself how often a
//! hash is to be run, and may ask for centuries.

use pkcs8::pkcs5::pbes2::{Kdf, Pbkdf2Prf, ScryptParams};
use std::cell::Cell;

/// Runs of a hash for one file: about ten seconds. What other programs write asks for 600,000 to 2,000,000 (OWASP's advice of
/// 2023 is 600,000 for PBKDF2-HMAC-SHA-256), at most three times.
pub(super) const MOST_ROUNDS: u64 = 20_000_000;
/// Memory of one scrypt derivation, in bytes (RFC 7914 §2: 128 · N · r). N = 2^20 with r = 2, or 2^18 with r = 8.
const MOST_MEMORY: u64 = 256 << 20;
/// Lanes of scrypt, each as costly as the first.
const MOST_LANES: u32 = 16;

/// What is left for one file.
#[derive(Debug)]
pub(super) struct Budget(Cell<u64>);

/// More than a file may cost.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct TooMuch;

impl Default for Budget {
    fn default() -> Budget {
        Budget(Cell::new(MOST_ROUNDS))
    }
}

impl Budget {
    /// Takes `rounds` runs of a hash, once for each of the blocks that make up the key.
    pub(super) fn take(&self, rounds: u64, blocks: u64) -> Result<(), TooMuch> {
        let cost = rounds.checked_mul(blocks.max(1)).ok_or(TooMuch)?;
        self.0.set(self.0.get().checked_sub(cost).ok_or(TooMuch)?);
        Ok(())
    }

    /// Takes what a derivation of PBES2 costs. Refuses parameters that the standard does not allow, on which libraries panic.
    pub(super) fn take_kdf(&self, kdf: &Kdf) -> Result<(), TooMuch> {
        match kdf {
            Kdf::Pbkdf2(p) => {
                let length = u64::from(p.key_length.unwrap_or(32));
                let hash = match p.prf {
                    Pbkdf2Prf::HmacWithSha224 => 28,
                    Pbkdf2Prf::HmacWithSha256 => 32,
                    Pbkdf2Prf::HmacWithSha384 => 48,
                    Pbkdf2Prf::HmacWithSha512 => 64,
                    _ => 20,
                };
                if p.iteration_count == 0 || length == 0 || length > 64 {
                    return Err(TooMuch);
                }
                self.take(u64::from(p.iteration_count), length.div_ceil(hash))
            }
            Kdf::Scrypt(p) => self.take_scrypt(p),
            _ => Err(TooMuch),
        }
    }

    /// RFC 7914 §2: N a power of two above 1, r and p above 0.
    fn take_scrypt(&self, p: &ScryptParams) -> Result<(), TooMuch> {
        let (n, r, lanes) = (p.cost_parameter, u64::from(p.block_size), u32::from(p.parallelization));
        if n < 2 || !n.is_power_of_two() || r == 0 || lanes == 0 || lanes > MOST_LANES {
            return Err(TooMuch);
        }
        let steps = n.checked_mul(r).ok_or(TooMuch)?;
        if steps.checked_mul(128).is_none_or(|memory| memory > MOST_MEMORY) {
            return Err(TooMuch);
        }
        // One step of N · r takes about as long as one round: 2^14 · 8 of them 40 ms.
        self.take(steps, u64::from(lanes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pkcs8::pkcs5::pbes2::Salt;

    #[test]
    fn all_derivations_of_a_file_share_one_budget() {
        let budget = Budget::default();
        for _ in 0..33 {
            assert_eq!(budget.take(600_000, 1), Ok(()));
        }
        assert_eq!(budget.take(600_000, 1), Err(TooMuch));
        assert_eq!(Budget::default().take(1_000_000, 52), Err(TooMuch), "a long key costs its blocks");
        assert_eq!(Budget::default().take(u64::MAX, 2), Err(TooMuch));
    }

    #[test]
    fn scrypt_is_bounded_in_memory_and_lanes_and_refused_where_it_makes_no_sense() {
        let with = |n: u64, r: u16, p: u16| {
            let salt = Salt::new([7; 16]).ok()?;
            let params = ScryptParams { salt, cost_parameter: n, block_size: r, parallelization: p, key_length: None };
            Some(Budget::default().take_kdf(&Kdf::Scrypt(params)))
        };
        for (n, r, p) in [(1 << 14, 8, 1), (1 << 18, 8, 1), (1 << 14, 8, 16)] {
            assert_eq!(with(n, r, p), Some(Ok(())), "{n} {r} {p}");
        }
        for (n, r, p) in
            [(0, 8, 1), (1, 8, 1), (3, 8, 1), (1 << 14, 0, 1), (1 << 14, 8, 0), (1 << 14, 8, 17), (1 << 20, 8, 1)]
        {
            assert_eq!(with(n, r, p), Some(Err(TooMuch)), "{n} {r} {p}");
        }
    }
}
