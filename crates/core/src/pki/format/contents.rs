//! What a file of keys and certificates holds, whichever form it has.

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
}

pub(super) fn unnamed<T>(thing: T) -> Named<T> {
    Named { alias: None, thing }
}
