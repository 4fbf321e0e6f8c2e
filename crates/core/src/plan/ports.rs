//! The doors of the core: what it asks of the world, as small traits.

use crate::plan::native::{NativeEntry, StoreName};
use crate::plan::nss::{Library, NssFailure, NssView};
use crate::plan::step::Invocation;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::Timestamp;
use std::path::{Path, PathBuf};

/// Unpredictable bytes, from the operating system or, in a test, from anywhere.
pub trait Entropy {
    /// Fills the slice.
    fn fill(&self, into: &mut [u8]);
}

/// A look at this machine that changes nothing. Paths are as clients on the machine see them.
pub trait Look {
    /// The bytes of a file, or None if it is absent or unreadable.
    fn read(&self, path: &Path) -> Option<Vec<u8>>;
    /// The names in a folder, sorted; empty if it is absent or unreadable.
    fn list(&self, folder: &Path) -> Vec<String>;
    /// True if something is there (links are followed).
    fn exists(&self, path: &Path) -> bool;
    /// Where a symbolic link points, as written in it.
    fn link(&self, path: &Path) -> Option<PathBuf>;
    /// A path with its links followed to their end; the path itself where it cannot be followed.
    fn resolved(&self, path: &Path) -> PathBuf;
    /// True if the person we act for may change files in this folder.
    fn may_write(&self, folder: &Path) -> bool;
    /// An environment variable of the person we act for; empty counts as unset.
    fn env(&self, name: &str) -> Option<String>;
    /// The home folder of the person we act for.
    fn home(&self) -> PathBuf;
    /// Where a program is found, if it is installed.
    fn program(&self, name: &str) -> Option<PathBuf>;
    /// The password that guards stores, where a person gave one.
    fn store_password(&self) -> Option<Passphrase>;
    /// Now: some stores write down when something came in.
    fn now(&self) -> Timestamp;
    /// True if changes to the machine's own stores are allowed to this process.
    fn has_rights(&self) -> bool;
    /// The objects of an NSS database, read through the library of the browser that it belongs to.
    fn nss(&self, folder: &Path, library: &Library) -> Result<NssView, NssFailure>;
    /// What a system's command tells that changes nothing: its output, or the file that it writes to where it is given one
    /// as its last argument. None if it is not installed; an error is its last line.
    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<Result<Vec<u8>, String>>;
    /// The rows of the database of Chromium's certificate manager: certificate and settings; empty if there is none.
    fn kept_certificates(&self, file: &Path) -> Vec<(Vec<u8>, Vec<u8>)>;
    /// The certificates of one of Windows' stores; None on other systems.
    fn native(&self, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>>;
}

/// Entropy as the random-number traits of the cryptography libraries want it.
pub(crate) struct Rng<'a>(pub(crate) &'a dyn Entropy);

impl rand_core::TryRng for Rng<'_> {
    type Error = std::convert::Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Self::Error> {
        let mut b = [0; 4];
        self.0.fill(&mut b);
        Ok(u32::from_le_bytes(b))
    }

    fn try_next_u64(&mut self) -> Result<u64, Self::Error> {
        let mut b = [0; 8];
        self.0.fill(&mut b);
        Ok(u64::from_le_bytes(b))
    }

    fn try_fill_bytes(&mut self, into: &mut [u8]) -> Result<(), Self::Error> {
        self.0.fill(into);
        Ok(())
    }
}

impl rand_core::TryCryptoRng for Rng<'_> {}
