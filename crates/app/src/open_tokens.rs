//! The tokens that a run has opened, and the PINs that they took or refused.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::token_fault::TokenFault;
use tamga_host::token::TokenKey;

/// The tokens that a run has opened.
#[derive(Default)]
pub(crate) struct Tokens {
    /// The keys of authorities.
    pub(crate) keys: Mutex<BTreeMap<Label, TokenKey>>,
    /// What became of a PIN, by the module and the token's label.
    pub(crate) pins: Mutex<BTreeMap<(PathBuf, String), Pin>>,
}

/// What became of the PIN of a token.
pub(crate) enum Pin {
    /// The token took it.
    Right(Passphrase),
    /// The token did not: it is not given again.
    Wrong(TokenFault),
}

/// What a mutex holds, also after a panic elsewhere.
pub(crate) fn held<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
