//! What a file of keys and certificates holds, whichever form it has.

use crate::error::{Diagnostic, Error, Result};
use crate::pki::key::PrivateKey;

/// Something with the name that a store gives it.
pub struct Named<T> {
    /// The alias or friendly name, if there is one.
    pub alias: Option<String>,
    /// The thing.
    pub thing: T,
}

/// Keys, and certificates as DER, in the order of the file.
#[derive(Default)]
pub struct Contents {
    /// The private keys.
    pub keys: Vec<Named<PrivateKey>>,
    /// The certificates.
    pub certificates: Vec<Named<Vec<u8>>>,
    /// Keys of a store that are of a kind or under a protection not known here, and why: the others are read all the same.
    pub unread: Vec<Named<String>>,
}

impl Contents {
    /// Takes in a key, or the reason why it is none for Tamga.
    ///
    /// Errors: every other reason, a wrong passphrase among them.
    pub(super) fn take(&mut self, alias: Option<String>, key: Result<PrivateKey>) -> Result<()> {
        match key {
            Ok(thing) => self.keys.push(Named { alias, thing }),
            Err(e @ (Error::Malformed { .. } | Error::UnusedKey { .. })) => {
                self.unread.push(Named { alias, thing: e.why() });
            }
            Err(e) => return Err(e),
        }
        Ok(())
    }

    /// The contents, if anything in them was read.
    ///
    /// Errors: nothing was but keys that are none for Tamga.
    pub(super) fn some(self, what: &str) -> Result<Contents> {
        match self.unread.first() {
            Some(first) if self.keys.is_empty() && self.certificates.is_empty() => {
                Err(Error::Malformed { what: what.to_owned(), why: first.thing.clone() })
            }
            _ => Ok(self),
        }
    }
}

pub(super) fn unnamed<T>(thing: T) -> Named<T> {
    Named { alias: None, thing }
}
