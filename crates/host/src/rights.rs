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

#[cfg(all(test, target_os = "linux"))]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    /// Rights belong to a thread: this one is given up afterwards.
    fn as_root(work: impl FnOnce() + Send + 'static) {
        if !platform::is_root() {
            eprintln!("SKIPPED: only root has rights to put aside");
            return;
        }
        std::thread::spawn(work).join().unwrap();
    }

    fn nobody() -> Effective {
        Effective { uid: 65_534, gid: 65_534, groups: vec![100, 65_534] }
    }

    #[test]
    fn ids_and_groups_come_back_when_it_is_dropped() {
        as_root(|| {
            let before = platform::effective_rights();
            {
                let _acting = Acting::with(&nobody(), Path::new("x")).unwrap();
                assert_eq!(platform::effective_rights(), nobody());
                {
                    let _again = Acting::with(&Effective::root(), Path::new("x")).unwrap();
                    assert_eq!(platform::effective_rights(), Effective::root());
                }
                assert_eq!(platform::effective_rights(), nobody());
            }
            assert_eq!(platform::effective_rights(), before);
        });
    }

    #[test]
    fn a_panic_does_not_keep_them() {
        as_root(|| {
            let before = platform::effective_rights();
            let caught = std::panic::catch_unwind(|| {
                let _acting = Acting::with(&nobody(), Path::new("x")).unwrap();
                std::panic::resume_unwind(Box::new("on purpose"));
            });
            assert!(caught.is_err());
            assert_eq!(platform::effective_rights(), before);
        });
    }
}
