//! A P-256 key takes about as long as reading the command line and opening the ledger: for `issue` it is begun first, in a
//! thread of its own.

use std::ffi::OsString;
use std::sync::Mutex;
use std::thread::JoinHandle;
use tamga_core::error::{Error, Result};
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_host::entropy;

/// A key that is being made, perhaps.
#[derive(Default)]
pub(crate) struct Ahead(Mutex<Option<JoinHandle<Result<PrivateKey>>>>);

/// Words with which no such key will be wanted.
const OTHERWISE: [&str; 7] = ["--key-algorithm", "--key-file", "--list", "--like", "--help", "-h", "--dry-run"];

impl Ahead {
    /// Begins if the words look like those of `tamga issue NAME…`.
    pub(crate) fn begin(words: impl Iterator<Item = OsString>) -> Ahead {
        let words: Vec<OsString> = words.collect();
        let has = |word: &str| words.iter().any(|w| w.to_string_lossy().split('=').next() == Some(word));
        if !has("issue") || OTHERWISE.iter().any(|w| has(w)) {
            return Ahead::default();
        }
        Ahead(Mutex::new(Some(std::thread::spawn(|| PrivateKey::generate(KeyAlgorithm::P256, &entropy::System)))))
    }

    /// A new key; the one begun ahead if there is one of this kind.
    pub(crate) fn key(&self, algorithm: KeyAlgorithm) -> Result<PrivateKey> {
        match self.0.lock().ok().and_then(|mut key| key.take()) {
            Some(key) if algorithm == KeyAlgorithm::P256 => {
                key.join().unwrap_or(Err(Error::Crypto { doing: "making a key" }))
            }
            _ => PrivateKey::generate(algorithm, &entropy::System),
        }
    }
}
