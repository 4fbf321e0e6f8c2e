//! What is asked of an NSS database, as data. The library that does it is loaded by the host.

use crate::vocabulary::text::Shown;
use crate::vocabulary::text::hex;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::path::PathBuf;
use zeroize::Zeroizing;

/// The SSL trust bits that make a root: CERTDB_TRUSTED_CA | CERTDB_VALID_CA, "C" in NSS's letters.
pub const TRUSTED_CA: u32 = 16;
/// CERTDB_TERMINAL_RECORD: with nothing else set, "distrusted".
pub const TERMINAL: u32 = 1;
/// "C": what is written for a root.
pub const ROOT_FLAGS: u32 = 24;

/// CERTDB_USER: the certificate's private key is there too.
pub const USER: u32 = 64;

/// A private key on its way to the library: wiped when dropped, never shown.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Secret(pub Zeroizing<Vec<u8>>);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// One certificate object of a database.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NssEntry {
    /// The certificate.
    pub der: Vec<u8>,
    /// Its nickname.
    pub nickname: String,
    /// The SSL trust bits.
    pub ssl: u32,
}

impl NssEntry {
    /// Trusted to issue server certificates. Bits are masked: newer versions add some.
    pub fn is_trusted(&self) -> bool {
        self.ssl & TRUSTED_CA != 0
    }

    /// True if its private key is there too.
    pub fn has_key(&self) -> bool {
        self.ssl & USER != 0
    }

    /// Explicitly distrusted for servers.
    pub fn is_distrusted(&self) -> bool {
        self.ssl & TERMINAL != 0 && self.ssl & (TRUSTED_CA | 2) == 0
    }
}

/// Which copy of the library opens a database: versions write trust in ways that others do not read, so each browser's own.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Library {
    /// The system's, which Chromium is linked with.
    #[default]
    System,
    /// The one in this directory, which a browser brought with it.
    In(PathBuf),
}

/// A database as it was found.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NssView {
    /// Its certificate objects.
    pub entries: Vec<NssEntry>,
    /// True if a password guards it: reading and taking out need none, adding does.
    pub guarded: bool,
}

/// A change to a database.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NssChange {
    /// The database's directory.
    pub folder: PathBuf,
    /// With which library.
    #[serde(default)]
    pub library: Library,
    /// What to do.
    pub action: NssAction,
}

/// What to do with a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum NssAction {
    /// Add it as a root for servers.
    Add {
        /// The certificate.
        der: Vec<u8>,
        /// The nickname; decoration, but our mark.
        nickname: String,
    },
    /// Take it away, with its trust object.
    Remove {
        /// The certificate.
        der: Vec<u8>,
    },
    /// Add it without any trust: an intermediate.
    AddPlain {
        /// The certificate.
        der: Vec<u8>,
        /// The nickname.
        nickname: String,
    },
    /// Add a certificate with its private key.
    AddIdentity {
        /// The certificate.
        der: Vec<u8>,
        /// The nickname.
        nickname: String,
        /// The private key, PKCS#8 DER.
        pkcs8: Secret,
        /// The public key's bits: a point or an RSAPublicKey.
        public: Vec<u8>,
    },
    /// Take a certificate away with its private key.
    RemoveIdentity {
        /// The certificate.
        der: Vec<u8>,
    },
}

impl NssAction {
    /// The certificate that it is about.
    pub fn der(&self) -> &[u8] {
        match self {
            NssAction::Add { der, .. }
            | NssAction::Remove { der }
            | NssAction::AddPlain { der, .. }
            | NssAction::AddIdentity { der, .. }
            | NssAction::RemoveIdentity { der } => der,
        }
    }
}

impl NssChange {
    /// One line for `--dry-run`.
    pub fn words(&self) -> String {
        let folder = self.folder.shown();
        match &self.action {
            NssAction::Add { nickname, .. } => {
                format!("add {nickname} as a root for servers to the database in {folder}")
            }
            NssAction::AddPlain { nickname, .. } => {
                format!("add the intermediate {nickname} to the database in {folder}")
            }
            NssAction::AddIdentity { nickname, .. } => {
                format!("add {nickname} with its private key to the database in {folder}")
            }
            NssAction::Remove { der } | NssAction::RemoveIdentity { der } => {
                format!("take the certificate {}… out of the database in {folder}", &hex(&Sha256::digest(der))[..8])
            }
        }
    }
}

/// Why a database could not be used.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{why}")]
pub struct NssFailure {
    /// The reason, with NSS's own word.
    pub why: String,
    /// What a person can do.
    pub remedy: String,
}
