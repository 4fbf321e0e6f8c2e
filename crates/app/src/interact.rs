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

/// Task that takes long enough for a person to wonder.
#[derive(Clone, Copy, Debug)]
pub enum Task<'a> {
    /// One thing of unknown length, such as "making an RSA key".
    One(&'a str),
    /// Many things of one kind, one after the other: what is done, and to how many.
    Many(&'a str, usize),
    /// Several things side by side, each of which answers by itself: what is done, and the names of all.
    Together(&'a str, &'a [&'static str]),
}

/// The progress of work, shown for as long as it lives.
pub trait Progress: Send + Sync {
    /// One of many is done.
    fn step(&self) {}
    /// One of several has answered.
    fn answered(&self, _which: &str, _answer: &str) {}
}

/// Task of which nobody wants to see the progress.
pub struct Unseen;

impl Progress for Unseen {}

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
    /// Shows the progress of work, for as long as what it returns lives.
    fn progress(&self, work: Task<'_>) -> Box<dyn Progress>;
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
    fn progress(&self, _: Task<'_>) -> Box<dyn Progress> {
        Box::new(Unseen)
    }
}
