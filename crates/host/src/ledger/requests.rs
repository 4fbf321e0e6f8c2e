//! Keys that wait for their certificate.

use super::{Sqlite, restored, text};
use crate::error::Result;
use rusqlite::{Connection, OptionalExtension, params};
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

pub(super) fn insert(db: &Connection, w: &Waiting, at: Timestamp) -> rusqlite::Result<()> {
    let settings = Settings {
        purposes: w.purposes.iter().map(|p| p.word().to_owned()).collect(),
        crl_url: w.links.crl.clone(),
        issuer_url: w.links.issuer.clone(),
    };
    db.execute(
        "INSERT INTO request (label, kind, der, folder, settings, made_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
        params![
            w.label.as_str(),
            if w.is_authority { "authority" } else { "certificate" },
            w.csr.der(),
            text(&w.folder),
            serde_json::to_string(&settings).unwrap_or_default(),
            at.to_string()
        ],
    )
    .map(|_| ())
}

/// The keys that wait for a signed certificate.
pub trait Requests {
    /// The waiting key of a label.
    fn waiting(&self, label: &str) -> Result<Option<Waiting>>;

    /// Every waiting key.
    fn all_waiting(&self) -> Result<Vec<Waiting>>;

    /// Where a label waits, if it does.
    fn waiting_place(&self, label: &str) -> Result<Option<PathBuf>>;
}

impl Requests for Sqlite {
    fn waiting(&self, label: &str) -> Result<Option<Waiting>> {
        Ok(self.read_waiting(Some(label))?.pop())
    }

    fn all_waiting(&self) -> Result<Vec<Waiting>> {
        self.read_waiting(None)
    }

    fn waiting_place(&self, label: &str) -> Result<Option<PathBuf>> {
        self.db
            .query_row("SELECT folder FROM request WHERE label = ?1", [label], |r| r.get::<_, String>(0))
            .map(|folder| restored(&folder))
            .optional()
            .map_err(|e| self.failed(e))
    }
}

impl Sqlite {
    fn read_waiting(&self, label: Option<&str>) -> Result<Vec<Waiting>> {
        type Row = (String, String, Vec<u8>, String, String);
        let rows = || -> rusqlite::Result<Vec<Row>> {
            let mut q = self.db.prepare(
                "SELECT label, kind, der, folder, settings FROM request WHERE ?1 IS NULL OR label = ?1 ORDER BY label",
            )?;
            q.query_map([label], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?)))?.collect()
        };
        let rows = rows().map_err(|e| self.failed(e))?;
        let one = |(label, kind, der, folder, settings): Row| {
            let settings: Settings = serde_json::from_str(&settings).unwrap_or_default();
            Some(Waiting {
                csr: Csr::read(&der, &label).ok()?,
                label: label.parse().ok()?,
                is_authority: kind == "authority",
                folder: restored(&folder),
                purposes: settings.purposes.iter().flat_map(|p| Purpose::from_str(p)).collect(),
                links: Links { crl: settings.crl_url, issuer: settings.issuer_url, ocsp: None },
            })
        };
        Ok(rows.into_iter().filter_map(one).collect())
    }
}
