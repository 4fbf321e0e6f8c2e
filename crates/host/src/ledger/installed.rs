//! Servers that were set up, so that they can be left as they were found.

use super::stored_path::StoredPath;
use super::{Events as _, Store, StoreExt as _, events};
use crate::error::Result;
use serde::{Deserialize, Serialize};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Timestamp;

/// A file that was put where a server reads it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct InstalledFile {
    /// Where.
    pub path: StoredPath,
    /// SHA-256 of its contents, in hexadecimal digits.
    pub digest: String,
    /// True if something stood there before.
    pub existed: bool,
}

/// A file of the server's to which lines were added.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Appended {
    /// The file.
    pub path: StoredPath,
    /// The lines, each with its line end.
    pub lines: String,
    /// SHA-256 of its contents when all was done, in hexadecimal digits.
    pub digest: String,
}

/// A server that was set up for a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Installed {
    /// The server, by the word of its recipe.
    pub server: String,
    /// The certificate's label.
    pub label: Label,
    /// SHA-256 of the certificate that it showed.
    pub certificate: Sha256Fingerprint,
    /// The files that are Tamga's.
    pub files: Vec<InstalledFile>,
    /// Files of the server's to which lines were added.
    pub appended: Vec<Appended>,
    /// Symbolic links that its commands made.
    pub links: Vec<StoredPath>,
    /// The other links of its configuration, as they were then.
    pub beside: Vec<StoredPath>,
    /// The account that reads them; None where that is root.
    pub account: Option<u32>,
}

/// The ledger's words for a server that was set up, and for one that was left again.
const KINDS: [&str; 2] = ["installed", "uninstalled"];

/// The servers that were set up.
pub trait Servers {
    /// Notes that a server was set up.
    fn note_installed(&self, what: &Installed, now: Timestamp) -> Result<()>;

    /// Notes that a server was left as it was found.
    fn note_uninstalled(&self, what: &Installed, now: Timestamp) -> Result<()>;

    /// The servers that are set up now, each as it was done last.
    ///
    /// Errors: the ledger cannot be read. A row that is none is passed over.
    fn installed(&self) -> Result<Vec<Installed>>;
}

impl<S: Store> Servers for S {
    fn note_installed(&self, what: &Installed, now: Timestamp) -> Result<()> {
        self.note(now, KINDS[0], &what.label, &serde_json::to_string(what).unwrap_or_default())
    }

    fn note_uninstalled(&self, what: &Installed, now: Timestamp) -> Result<()> {
        self.note(now, KINDS[1], &what.label, &serde_json::to_string(what).unwrap_or_default())
    }

    fn installed(&self) -> Result<Vec<Installed>> {
        let mut all = self.look(|db| events::of_kinds(db, &KINDS))?;
        all.reverse();
        let mut seen: Vec<(String, Label)> = Vec::new();
        let mut out = Vec::new();
        for event in all {
            let Ok(what) = serde_json::from_str::<Installed>(&event.detail) else { continue };
            let key = (what.server.clone(), what.label.clone());
            if seen.contains(&key) {
                continue;
            }
            seen.push(key);
            if event.kind == KINDS[0] {
                out.push(what);
            }
        }
        out.reverse();
        Ok(out)
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::ledger::Sqlite;

    #[test]
    fn of_each_server_the_last_time_counts() {
        let folder = tempfile::tempdir().unwrap();
        let ledger = Sqlite::open(folder.path()).unwrap();
        let now = Timestamp::from_unix(0);
        let installed = |server: &str, label: &str, certificate: &[u8]| Installed {
            server: server.into(),
            label: label.parse().unwrap(),
            certificate: Sha256Fingerprint::of(certificate),
            files: Vec::new(),
            appended: Vec::new(),
            links: Vec::new(),
            beside: Vec::new(),
            account: None,
        };
        let (old, new) = (installed("nginx", "charts", b"1"), installed("nginx", "charts", b"2"));
        let other = installed("nginx", "tides", b"1");
        for i in [&old, &other, &new] {
            ledger.note_installed(i, now).unwrap();
        }
        ledger.note(now, "installed", "charts", "not JSON").unwrap();
        assert_eq!(ledger.installed().unwrap(), [other.clone(), new.clone()]);
        ledger.note_uninstalled(&new, now).unwrap();
        assert_eq!(ledger.installed().unwrap(), [other]);
        ledger.note_installed(&old, now).unwrap();
        assert_eq!(ledger.installed().unwrap().len(), 2);
    }
}
