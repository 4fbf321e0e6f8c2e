//! Putting a ledger together again from what can be read of a damaged one.

use super::{Sqlite, StoreExt as _, authorities, certificates, events, values};
use crate::error::{Error, Result};
use rusqlite::{Connection, OpenFlags, params};
use std::path::Path;
use tamga_core::ca::report::{Authority, Issued, Life};
use tamga_core::vocabulary::timestamp::Timestamp;

/// What came over.
#[derive(Clone, Copy, Debug, Default)]
pub struct Salvaged {
    /// Authorities.
    pub authorities: usize,
    /// Certificates.
    pub certificates: usize,
    /// Revocations.
    pub revocations: usize,
    /// Events.
    pub events: usize,
}

/// Tables that are copied row by row, with their columns: what of a damaged file still reads is taken.
const TABLES: [(&str, &str); 14] = [
    (
        "authority",
        "label, folder, issuer, key_place, key_path, purposes, crl_url, issuer_url, retired, list_number, list_behind, made_at",
    ),
    ("authority_certificate", "id, label, role, sha256, der, at"),
    ("certificate", "id, label, serial, sha256, der, authority, folder, state, ends, issued_at"),
    ("revocation", "authority, serial, at, reason, published"),
    ("request", "label, kind, der, folder, settings, made_at"),
    ("event", "id, at, kind, about, detail"),
    ("journal", "id, at, work"),
    ("origin", "label, settings"),
    ("enrollment_account", "id, thumbprint, jwk, state, contact, invitation, made_at"),
    ("enrollment_invitation", "key_id, sealed, names, uses_left, ends, made_at"),
    (
        "enrollment_order",
        "id, account, identifiers, named, profile, not_before, not_after, replaces, state, error, expires, certificate, made_at",
    ),
    ("enrollment_authorization", "id, account, kind, name, state, expires"),
    ("enrollment_order_authorization", "of_order, place, authorization"),
    ("enrollment_challenge", "id, authorization, kind, token, state, validated, error"),
];

impl Sqlite {
    /// Copies every row that still reads from a damaged ledger. Nothing about it is an error.
    pub fn salvage(&self, damaged: &Path) -> Salvaged {
        let mut out = Salvaged::default();
        let Ok(old) = Connection::open_with_flags(damaged, OpenFlags::SQLITE_OPEN_READ_ONLY) else { return out };
        if super::sql::distrust(&old).is_err() {
            return out;
        }
        for (table, columns) in TABLES {
            let n = copy(&old, &self.db, table, columns).unwrap_or(0);
            match table {
                "authority" => out.authorities = n,
                "certificate" => out.certificates = n,
                "revocation" => out.revocations = n,
                "event" => out.events = n,
                _ => {}
            }
        }
        // A column that ledgers of earlier layouts do not have.
        let _ = statuses(&old, &self.db);
        // The rest is read out of the certificates.
        let _ = certificates::summarize(&self.db);
        out
    }

    /// Tells the authorities' directories after the data directory moved.
    pub fn relocate(&self, from: &Path, to: &Path) -> Result<()> {
        self.write(|db| {
            for label in db.all("SELECT label FROM authority", values![], |r| r.get::<String>(0))? {
                // Whatever the data directory was called where the backup was made: the label is the directory's name.
                if from.join("authorities").join(&label).is_dir() {
                    let place = super::stored_path::stored(&to.join("authorities").join(&label));
                    db.execute("UPDATE authority SET folder = ?2 WHERE label = ?1", values![&label, place])?;
                }
            }
            Ok(())
        })
    }

    /// Records an authority that was found in the data directory.
    pub fn adopt_authority(&self, a: &Authority, now: Timestamp) -> Result<()> {
        self.write(|db| {
            authorities::insert(db, a, now)?;
            events::insert(db, now, "found", &a.label, &a.certificate.sha256())
        })
    }

    /// Records a certificate that was found in a directory; false if it is known already.
    pub fn adopt_certificate(&self, i: &Issued, now: Timestamp) -> Result<bool> {
        let sha256 = i.certificate.sha256();
        self.write(|db| {
            let sql = "SELECT count(*) FROM certificate WHERE sha256 = ?1";
            if db.single(sql, values![sha256.as_str()], |r| r.get::<i64>(0))? > 0 {
                return Ok(false);
            }
            certificates::insert(db, i, now)?;
            if i.life != Life::Live {
                let sql = "UPDATE certificate SET state = ?2 WHERE sha256 = ?1";
                db.execute(sql, values![sha256.as_str(), i.life.word()])?;
            }
            events::insert(db, now, "found", &i.label, &sha256)?;
            Ok(true)
        })
    }
}

/// Where the status of what an authority issues is asked for.
fn statuses(old: &Connection, new: &Connection) -> rusqlite::Result<()> {
    let mut q = old.prepare("SELECT label, ocsp_url FROM authority WHERE ocsp_url IS NOT NULL")?;
    let mut rows = q.query([])?;
    while let Some(r) = rows.next()? {
        let (label, url): (String, String) = (r.get(0)?, r.get(1)?);
        new.execute("UPDATE authority SET ocsp_url = ?2 WHERE label = ?1", params![label, url])?;
    }
    Ok(())
}

fn copy(old: &Connection, new: &Connection, table: &str, columns: &str) -> rusqlite::Result<usize> {
    let width = columns.split(',').count();
    let at = |name: &str| columns.split(',').position(|c| c.trim() == name);
    let fingerprint = at("sha256").zip(at("der"));
    let marks = (1..=width).map(|n| format!("?{n}")).collect::<Vec<_>>().join(", ");
    let mut add = new.prepare(&format!("INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})"))?;
    let mut q = old.prepare(&format!("SELECT {columns} FROM {table} NOT INDEXED"))?;
    let mut rows = q.query([])?;
    let mut n = 0;
    // The first page that does not read ends the table; what came before it is kept.
    while let Ok(Some(r)) = rows.next() {
        let values: Vec<rusqlite::types::Value> = (0..width).filter_map(|i| r.get(i).ok()).collect();
        // A certificate that is not the recorded one any more is found by its files, if at all.
        let spoilt = fingerprint.is_some_and(|(sha256, der)| match (values.get(sha256), values.get(der)) {
            (Some(rusqlite::types::Value::Text(sha256)), Some(rusqlite::types::Value::Blob(der))) => {
                !super::is_recorded(sha256, der)
            }
            _ => true,
        });
        if values.len() == width && !spoilt {
            n += add.execute(rusqlite::params_from_iter(values)).unwrap_or(0);
        }
    }
    Ok(n)
}

/// Moves a ledger that is not used any more aside, with SQLite's files beside it. `why` is a word of its new name. Gives its new place.
pub fn set_aside(data: &Path, why: &str, now: Timestamp) -> Result<Option<std::path::PathBuf>> {
    let stamp = now.unix();
    let mut moved = None;
    for name in super::FILES {
        let from = data.join(name);
        if from.exists() {
            let to = data.join(name.replace("ledger.", &format!("ledger-{why}-{stamp}.")));
            let dir = crate::fs::Dir::open(data, crate::fs::Allowed::Owner)?;
            let new = to.file_name().unwrap_or_default();
            dir.rename(name.as_ref(), new).map_err(Error::file("moving aside", &from))?;
            moved.get_or_insert(to);
        }
    }
    Ok(moved)
}
