//! Repeatable bytes for the core's own tests.

use crate::plan::ports::Entropy;
use sha2::{Digest, Sha256};
use std::cell::Cell;

/// SHA-256 of a counter: the same stream in every run.
#[derive(Default)]
pub(crate) struct Counted(Cell<u64>);

impl Counted {
    /// The stream from another place on.
    pub(crate) fn from(n: u64) -> Counted {
        Counted(Cell::new(n * 1_000_000))
    }
}

impl Entropy for Counted {
    fn fill(&self, into: &mut [u8]) {
        for chunk in into.chunks_mut(32) {
            let n = self.0.get();
            self.0.set(n + 1);
            chunk.copy_from_slice(&Sha256::digest(n.to_be_bytes())[..chunk.len()]);
        }
    }
}
