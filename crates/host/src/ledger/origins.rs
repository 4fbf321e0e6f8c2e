//! Where certificates come from that a service issues: what is asked again when they are renewed.

use super::stored_path::StoredPath;
use super::{Store, StoreExt as _, values};
use crate::error::Result;
use serde::{Deserialize, Serialize};
use std::net::SocketAddr;
use tamga_core::vocabulary::label::Label;

/// How a certificate is got from a service.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Origin {
    /// The directory of the service.
    pub from: String,
    /// How control is proved: the word of a challenge; None for the first that can be answered.
    pub challenge: Option<String>,
    /// The directory of a running web server.
    pub challenge_dir: Option<StoredPath>,
    /// Where to listen for the service.
    pub challenge_listen: Option<String>,
    /// The name server that takes records.
    pub dns_update: Option<SocketAddr>,
    /// The file with the key for it.
    pub dns_key_file: Option<StoredPath>,
    /// The file with the root of the service.
    pub anchor: Option<StoredPath>,
    /// How the account's owner is reached.
    pub contact: Option<String>,
    /// True if the service's terms were agreed to.
    pub agreed: bool,
    /// The profile.
    pub profile: Option<String>,
    /// An order that is under way.
    pub order: Option<String>,
    /// SHA-256 of the public key that waits for its certificate.
    pub waiting: Option<String>,
    /// The name servers' own address for proofs and the service itself: names with their addresses.
    pub resolve: Vec<(String, std::net::IpAddr)>,
}

/// The origins of certificates.
pub trait Origins {
    /// Where the certificates of a label come from; None for those that were issued here.
    fn origin(&self, label: &Label) -> Result<Option<Origin>>;

    /// Records it.
    fn set_origin(&self, label: &Label, origin: &Origin) -> Result<()>;

    /// Every label whose certificates this machine gets from a service.
    fn origins(&self) -> Result<Vec<(Label, Origin)>>;
}

impl<S: Store> Origins for S {
    fn origin(&self, label: &Label) -> Result<Option<Origin>> {
        let sql = "SELECT settings FROM origin WHERE label = ?1";
        let found: Option<String> = self.look(|db| db.one(sql, values![label.as_str()], |r| r.get(0)))?;
        Ok(found.and_then(|s| serde_json::from_str(&s).ok()))
    }

    fn set_origin(&self, label: &Label, origin: &Origin) -> Result<()> {
        let settings = serde_json::to_string(origin).unwrap_or_default();
        let sql = "INSERT INTO origin (label, settings, host) VALUES (?1, ?2, ?3)
             ON CONFLICT (label) DO UPDATE SET settings = excluded.settings, host = excluded.host";
        self.write(|db| db.execute(sql, values![label.as_str(), &settings, db.host()]).map(drop))
    }

    fn origins(&self) -> Result<Vec<(Label, Origin)>> {
        let sql = "SELECT label, settings FROM origin WHERE host = ?1 ORDER BY label";
        let rows: Vec<(String, String)> =
            self.look(|db| db.all(sql, values![db.host()], |r| Ok((r.get(0)?, r.get(1)?))))?;
        Ok(rows.into_iter().filter_map(|(l, s)| Some((l.parse().ok()?, serde_json::from_str(&s).ok()?))).collect())
    }
}
