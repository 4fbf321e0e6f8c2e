//! What is asked of Windows' own certificate stores, as data. The system's interface is called by the host.

use crate::plan::nss::Secret;
use crate::vocabulary::text::hex;
use sha2::{Digest, Sha256};

/// One of Windows' stores.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoreName {
    /// The machine's, not the person's.
    pub machine: bool,
    /// `Root`, `Disallowed`, `CA` or `My`.
    pub name: String,
}

impl StoreName {
    /// As Windows' consoles write it: `CurrentUser\Root`.
    pub fn words(&self) -> String {
        format!("{}\\{}", if self.machine { "LocalMachine" } else { "CurrentUser" }, self.name)
    }
}

/// One certificate of a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NativeEntry {
    /// The certificate.
    pub der: Vec<u8>,
    /// Its friendly name, where our mark stands.
    pub friendly: Option<String>,
    /// True if a private key belongs to it.
    pub has_key: bool,
}

/// A change to a store.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NativeChange {
    /// The store.
    pub store: StoreName,
    /// What to do.
    pub action: NativeAction,
}

/// What to do with a certificate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NativeAction {
    /// Add it under this friendly name.
    Add {
        /// The certificate.
        der: Vec<u8>,
        /// The friendly name.
        friendly: String,
    },
    /// Add a certificate with its private key.
    AddIdentity {
        /// The certificate.
        der: Vec<u8>,
        /// The friendly name.
        friendly: String,
        /// A PKCS#12 file with certificate and key.
        pkcs12: Secret,
        /// What opens it: made for this step alone.
        passphrase: Secret,
        /// An account that may read the key too: that of a service.
        account: Option<String>,
    },
    /// Take it away; with its key, if it has one.
    Remove {
        /// The certificate.
        der: Vec<u8>,
    },
}

impl NativeChange {
    /// One line for `--dry-run` and the journal.
    pub fn words(&self) -> String {
        let store = self.store.words();
        let short = |der: &[u8]| hex(&Sha256::digest(der))[..8].to_owned();
        match &self.action {
            NativeAction::Add { friendly, .. } => format!("add {friendly} to {store}"),
            NativeAction::AddIdentity { friendly, .. } => format!("add {friendly} with its key to {store}"),
            NativeAction::Remove { der } => format!("remove the certificate {} from {store}", short(der)),
        }
    }
}
