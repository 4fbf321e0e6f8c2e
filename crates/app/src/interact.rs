//! Asking a person, and telling them something before the report is there. A service answers for itself.

use crate::failure::Result;
use std::path::Path;
use tamga_core::vocabulary::secret::Passphrase;
use zeroize::Zeroizing;

/// A question that is answered by yes or no.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub enum Question<'a> {
    /// A file of the person's would be replaced.
    ReplaceFile(&'a Path),
    /// The proposal that was shown would be signed.
    Sign,
    /// Any other, as a sentence without its question mark.
    Other(&'a str),
}

/// The progress of work that takes seconds.
pub trait Progress: Sync {
    /// One step is done.
    fn step(&self);
}

/// Work of which nobody wants to see the progress.
pub struct Unseen;

impl Progress for Unseen {
    fn step(&self) {}
}

/// The caller: a person at a terminal, a script, a service.
pub trait Interact: Send + Sync {
    /// True if somebody is there to be asked.
    fn is_present(&self) -> bool;
    /// The answer to a question; None where nobody can be asked.
    fn confirm(&self, question: Question<'_>) -> Option<bool>;
    /// A passphrase, typed without an echo.
    ///
    /// Errors: the terminal fails.
    fn passphrase(&self, prompt: &str) -> Result<Passphrase>;
    /// The value of an environment variable that was named for a passphrase.
    fn variable(&self, name: &str) -> Option<Zeroizing<Vec<u8>>>;
    /// Reports something worth knowing that no report holds, such as work of an earlier run that was finished.
    fn note(&self, line: &str);
    /// Warns about the handling of a secret, whatever was asked to be quiet.
    fn warn(&self, line: &str);
    /// Shows the progress of this many steps, for as long as it lives.
    fn progress(&self, steps: usize) -> Box<dyn Progress>;
}

/// Nobody: every question stays unanswered, and nothing is shown. For services and tests.
pub struct Nobody;

impl Interact for Nobody {
    fn is_present(&self) -> bool {
        false
    }
    fn confirm(&self, _: Question<'_>) -> Option<bool> {
        None
    }
    fn passphrase(&self, prompt: &str) -> Result<Passphrase> {
        Err(tamga_core::error::Error::PassphraseNeeded { what: prompt.to_owned() }.into())
    }
    fn variable(&self, _: &str) -> Option<Zeroizing<Vec<u8>>> {
        None
    }
    fn note(&self, _: &str) {}
    fn warn(&self, _: &str) {}
    fn progress(&self, _: usize) -> Box<dyn Progress> {
        Box::new(Unseen)
    }
}
