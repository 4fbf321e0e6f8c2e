//! Whose rights this thread acts with, as a guard: what it changed comes back when it is dropped, also while a panic unwinds.

use crate::error::{Error, Result};
use crate::platform::{self, Effective};
use std::path::Path;

/// Other rights than before, for as long as it lives.
#[must_use = "the rights come back when it is dropped"]
pub struct Acting {
    before: Effective,
}

impl Acting {
    /// Acts with these ids and groups from here on. `path` is what is to be done, for the error.
    ///
    /// Errors: the system refuses; then the rights are as before.
    pub fn with(rights: &Effective, path: &Path) -> Result<Acting> {
        let guard = Acting { before: platform::effective_rights() };
        // Dropped on an error, it restores whatever was changed half-way.
        platform::set_effective(rights).map_err(Error::file("getting the rights for", path))?;
        Ok(guard)
    }
}

impl Drop for Acting {
    fn drop(&mut self) {
        if platform::set_effective(&self.before).is_err() || platform::effective_rights() != self.before {
            // Going on with more rights than we should have is worse than ending here.
            eprintln!("tamga: the earlier rights could not be restored; ended before anything else was done with them");
            std::process::abort();
        }
    }
}
