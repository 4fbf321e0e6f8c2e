//! Repeatable bytes for the core's own tests.

use crate::ports::Entropy;
use sha2::{Digest, Sha256};
use std::cell::Cell;

/// SHA-256 of a counter: the same stream in every run.
#[derive(Default)]
pub(crate) struct Counted(Cell<u64>);

impl Entropy for Counted {
    fn fill(&self, into: &mut [u8]) {
        for chunk in into.chunks_mut(32) {
            let n = self.0.get();
            self.0.set(n + 1);
            chunk.copy_from_slice(&Sha256::digest(n.to_be_bytes())[..chunk.len()]);
        }
    }
}
