//! Keys that wait for their certificate.

use super::{Database, Row, SqlResult, Store, StoreExt as _, restored, text, values};
use crate::error::Result;
use serde::{Deserialize, Serialize};
use std::path::PathBuf;
use std::str::FromStr;
use tamga_core::pki::cert::csr::Csr;
use tamga_core::pki::cert::profile::Links;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Timestamp;

/// A waiting key.
#[derive(Clone, Debug)]
pub struct Waiting {
    /// Its label.
    pub label: Label,
    /// True for an authority.
    pub is_authority: bool,
    /// The request.
    pub csr: Csr,
    /// Where key and request stand.
    pub folder: PathBuf,
    /// What an authority will issue for.
    pub purposes: Vec<Purpose>,
    /// What will be written into what it issues.
    pub links: Links,
}

#[derive(Serialize, Deserialize, Default)]
struct Settings {
    purposes: Vec<String>,
    crl_url: Option<String>,
    issuer_url: Option<String>,
}

pub(super) fn insert(db: &dyn Database, w: &Waiting, at: Timestamp) -> SqlResult<()> {
    let settings = Settings {
        purposes: w.purposes.iter().map(|p| p.word().to_owned()).collect(),
        crl_url: w.links.crl.clone(),
        issuer_url: w.links.issuer.clone(),
    };
    db.execute(
        "INSERT INTO request (label, kind, der, folder, settings, made_at, host) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)",
        values![
            w.label.as_str(),
            if w.is_authority { "authority" } else { "certificate" },
            w.csr.der(),
            text(&w.folder),
            serde_json::to_string(&settings).unwrap_or_default(),
            at.to_string(),
            db.host()
        ],
    )
    .map(drop)
}

/// The keys that wait for a signed certificate, on this machine.
pub trait Requests {
    /// The waiting key of a label.
    fn waiting(&self, label: &str) -> Result<Option<Waiting>>;

    /// Every waiting key.
    fn all_waiting(&self) -> Result<Vec<Waiting>>;

    /// Where a label waits, if it does, on any machine.
    fn waiting_place(&self, label: &str) -> Result<Option<PathBuf>>;
}

const COLUMNS: &str = "SELECT label, kind, der, folder, settings FROM request";

/// None where a row is none.
fn waiting(r: Row<'_>) -> SqlResult<Option<Waiting>> {
    let label: &str = r.get(0)?;
    let settings: Settings = serde_json::from_str(r.get(4)?).unwrap_or_default();
    let (Ok(csr), Ok(parsed)) = (Csr::read(r.get(2)?, label), label.parse()) else { return Ok(None) };
    Ok(Some(Waiting {
        csr,
        label: parsed,
        is_authority: r.get::<&str>(1)? == "authority",
        folder: restored(r.get(3)?),
        purposes: settings.purposes.iter().flat_map(|p| Purpose::from_str(p)).collect(),
        links: Links { crl: settings.crl_url, issuer: settings.issuer_url, ocsp: None },
    }))
}

impl<S: Store> Requests for S {
    fn waiting(&self, label: &str) -> Result<Option<Waiting>> {
        let sql = format!("{COLUMNS} WHERE label = ?1 AND host = ?2");
        Ok(self.look(|db| db.one(&sql, values![label, db.host()], waiting))?.flatten())
    }

    fn all_waiting(&self) -> Result<Vec<Waiting>> {
        let sql = format!("{COLUMNS} WHERE host = ?1 ORDER BY label");
        Ok(self.look(|db| db.all(&sql, values![db.host()], waiting))?.into_iter().flatten().collect())
    }

    fn waiting_place(&self, label: &str) -> Result<Option<PathBuf>> {
        let sql = "SELECT folder FROM request WHERE label = ?1";
        self.look(|db| db.one(sql, values![label], |r| r.get(0).map(restored)))
    }
}
