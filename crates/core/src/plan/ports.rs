//! The ports of the core: what it asks of the world, as small traits.

use crate::plan::native::{NativeEntry, StoreName};
use crate::plan::nss::{Library, NssEntry, NssFailure, NssView};
use crate::plan::step::Invocation;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::Timestamp;
use std::path::{Path, PathBuf};

/// Unpredictable bytes, from the operating system or, in a test, from anywhere.
pub trait Entropy {
    /// Fills the slice.
    fn fill(&self, into: &mut [u8]);
}

/// The files of this machine, read only. Paths are as clients on the machine see them.
pub trait Files {
    /// The bytes of a file, or None if it is absent or unreadable.
    fn read(&self, path: &Path) -> Option<Vec<u8>>;
    /// The names in a directory, sorted; empty if it is absent or unreadable.
    fn list(&self, directory: &Path) -> Vec<String>;
    /// True if something is there (links are followed).
    fn exists(&self, path: &Path) -> bool;
    /// Where a symbolic link points, as written in it.
    fn link(&self, path: &Path) -> Option<PathBuf>;
    /// A path with its links followed to their end; the path itself where it cannot be followed.
    fn resolved(&self, path: &Path) -> PathBuf;
    /// True if the invoking user may change files in this directory.
    fn may_write(&self, directory: &Path) -> bool;
}

/// What surrounds the process: time, the invoking user and what that user may do.
pub trait Environment {
    /// An environment variable of the invoking user; empty counts as unset.
    fn env(&self, name: &str) -> Option<String>;
    /// The home directory of the invoking user.
    fn home(&self) -> PathBuf;
    /// Now: some stores write down when something came in.
    fn now(&self) -> Timestamp;
    /// True if this process may change the machine's own stores.
    fn has_rights(&self) -> bool;
    /// The password that guards stores, where one was given.
    fn store_password(&self) -> Option<Passphrase>;
}

/// Programs of this system, asked without changing anything.
pub trait Commands {
    /// Where a program is found, if it is installed.
    fn program(&self, name: &str) -> Option<PathBuf>;
    /// What a program prints, or the file that it writes where it is given one as its last argument. None if it is not installed; an
    /// error is its last line.
    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<Result<Vec<u8>, String>>;
}

/// Databases of browsers, read through the browsers' own library.
pub trait BrowserDatabases {
    /// The objects of an NSS database, read through the library of the browser that it belongs to.
    ///
    /// Errors: the library is missing, or refuses the database.
    fn nss(&self, directory: &Path, library: &Library) -> Result<NssView, NssFailure>;
    /// What of an NSS database is trusted or distrusted: the same as [`BrowserDatabases::nss`] says, in a place that may know it sooner.
    ///
    /// Errors: the library is missing, or refuses the database.
    fn nss_trust(&self, directory: &Path, library: &Library) -> Result<Vec<NssEntry>, NssFailure> {
        self.nss(directory, library).map(|view| view.entries)
    }
    /// The rows of the database of Chromium's certificate manager: certificate and settings; empty if there is none.
    fn kept_certificates(&self, file: &Path) -> Vec<(Vec<u8>, Vec<u8>)>;
}

/// The system's own certificate stores.
pub trait NativeStores {
    /// The certificates of one of Windows' stores; None on other systems.
    fn native(&self, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>>;
}

/// A look at this machine that changes nothing: all of the ports above.
pub trait Look: Files + Environment + Commands + BrowserDatabases + NativeStores {}

impl<T: Files + Environment + Commands + BrowserDatabases + NativeStores> Look for T {}

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
