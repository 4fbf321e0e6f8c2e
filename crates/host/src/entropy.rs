//! The operating system's randomness and clock.

use ring::rand::{SecureRandom, SystemRandom};
use tamga_core::plan::ports::Entropy;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Randomness of the operating system.
pub struct System;

impl Entropy for System {
    fn fill(&self, into: &mut [u8]) {
        // Without randomness nothing may be made; the operating system fails here only if it is broken itself.
        if SystemRandom::new().fill(into).is_err() {
            std::process::abort();
        }
    }
}

/// The present moment.
pub fn now() -> Timestamp {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    Timestamp::from_unix(i64::try_from(since.as_secs()).unwrap_or(i64::MAX))
}
