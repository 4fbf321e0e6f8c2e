//! The ledger: what was issued and done, in SQLite. It holds no key of any leaf.
//!
//! Its journal is a table: one durable commit records what is about to happen together with the certificate; after
//! the files stand the row goes away in a second commit, which need not be durable, since a row too many is only
//! looked at again.

use crate::error::{Error, Result};
use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use tamga_core::cert::Certificate;
use tamga_core::moment::Moment;
use tamga_core::report::{Authority, Issued};

const VERSION: i64 = 1;
/// How long another process may hold the ledger.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(30);
/// A log of this size is folded in: about twenty issues.
const LOG_BYTES: u64 = 400 << 10;
const SCHEMA: &str = "
CREATE TABLE authority (label TEXT PRIMARY KEY, sha256 TEXT NOT NULL UNIQUE, der BLOB NOT NULL, folder TEXT NOT NULL,
  made_at TEXT NOT NULL) STRICT;
CREATE TABLE certificate (id INTEGER PRIMARY KEY, label TEXT NOT NULL, serial TEXT NOT NULL UNIQUE, sha256 TEXT NOT NULL,
  der BLOB NOT NULL, authority TEXT, folder TEXT NOT NULL, state TEXT NOT NULL, issued_at TEXT NOT NULL) STRICT;
CREATE INDEX certificate_label ON certificate (label);
CREATE TABLE event (id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, about TEXT NOT NULL,
  detail TEXT NOT NULL) STRICT;
CREATE TABLE journal (id INTEGER PRIMARY KEY, at TEXT NOT NULL, work TEXT NOT NULL) STRICT;
";

/// Work that was begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Work {
    /// Files of an authority or certificate are put in place.
    Publish {
        /// `authority` or `certificate`.
        what: String,
        /// The label.
        label: String,
        /// SHA-256 of the certificate.
        sha256: String,
        /// The folder.
        folder: PathBuf,
        /// The files' names, in the order of their renaming.
        names: Vec<String>,
        /// The attempt's tag.
        tag: String,
    },
    /// A root goes into or out of a store.
    Trust {
        /// `add` or `remove`.
        goal: String,
        /// The authority's label.
        label: String,
        /// SHA-256 of the root.
        sha256: String,
        /// The store.
        store: String,
        /// Its place.
        place: PathBuf,
    },
}

/// The open ledger.
pub struct Ledger {
    db: Connection,
    path: PathBuf,
}

impl Ledger {
    /// The file inside a data folder.
    pub fn file(data: &Path) -> PathBuf {
        data.join("ledger.sqlite")
    }

    /// Opens or makes the ledger. The folder is 0700.
    pub fn open(data: &Path) -> Result<Ledger> {
        crate::files::folder(data, 0o700)?;
        let path = Ledger::file(data);
        let opened = Connection::open(&path).and_then(|db| {
            db.busy_timeout(PATIENCE)?;
            db.pragma_update(None, "journal_mode", "WAL")?;
            db.pragma_update(None, "synchronous", "FULL")?;
            // A checkpoint at every exit would cost three more fsyncs; the log is folded in when it has grown.
            db.pragma_update(None, "wal_autocheckpoint", 0)?;
            db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
            Ok(db)
        });
        let db = opened.map_err(|source| Error::Ledger { path: path.clone(), source })?;
        let ledger = Ledger { db, path };
        ledger.migrate()?;
        Ok(ledger)
    }

    /// Opens the ledger if there is one: for commands that only look.
    pub fn open_existing(data: &Path) -> Result<Option<Ledger>> {
        if Ledger::file(data).exists() { Ledger::open(data).map(Some) } else { Ok(None) }
    }

    fn migrate(&self) -> Result<()> {
        let version: i64 =
            self.db.pragma_query_value(None, "user_version", |r| r.get(0)).map_err(|e| self.failed(e))?;
        match version {
            VERSION => Ok(()),
            0 => self
                .db
                .execute_batch(&format!("BEGIN IMMEDIATE; {SCHEMA} PRAGMA user_version = {VERSION}; COMMIT;"))
                .or_else(|e| {
                    // Another process may have made it between our look and our lock.
                    let _ = self.db.execute_batch("ROLLBACK");
                    let now: i64 = self.db.pragma_query_value(None, "user_version", |r| r.get(0))?;
                    if now == VERSION { Ok(()) } else { Err(e) }
                })
                .map_err(|e| self.failed(e)),
            _ => Err(Error::LedgerNewer { path: self.path.clone() }),
        }
    }

    fn failed(&self, source: rusqlite::Error) -> Error {
        Error::Ledger { path: self.path.clone(), source }
    }

    /// Every authority, oldest first.
    pub fn authorities(&self) -> Result<Vec<Authority>> {
        let rows = || -> rusqlite::Result<Vec<(String, Vec<u8>, String)>> {
            let mut q = self.db.prepare("SELECT label, der, folder FROM authority ORDER BY made_at, label")?;
            q.query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?.collect()
        };
        Ok(rows()
            .map_err(|e| self.failed(e))?
            .into_iter()
            .filter_map(|(label, der, folder)| {
                let certificate = Certificate::read(&der, &label).ok()?;
                Some(Authority { label, certificate, folder: folder.into() })
            })
            .collect())
    }

    /// Certificates, oldest first; with a label only those that bear it.
    pub fn issued(&self, label: Option<&str>) -> Result<Vec<Issued>> {
        type Row = (String, Vec<u8>, Option<String>, String, String);
        let rows = || -> rusqlite::Result<Vec<Row>> {
            let mut q = self.db.prepare(
                "SELECT label, der, authority, folder, state FROM certificate WHERE ?1 IS NULL OR label = ?1 ORDER BY id",
            )?;
            q.query_map([label], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?)))?.collect()
        };
        Ok(rows()
            .map_err(|e| self.failed(e))?
            .into_iter()
            .filter_map(|(label, der, authority, folder, state)| {
                let certificate = Certificate::read(&der, &label).ok()?;
                Some(Issued { label, certificate, authority, folder: folder.into(), state })
            })
            .collect())
    }

    /// Durably: the journal's row, what it is about, and the event. Gives the journal's id.
    pub fn begin(&self, work: &Work, record: &Record<'_>, now: Moment) -> Result<i64> {
        let commit =
            || -> rusqlite::Result<i64> {
                let at = now.to_string();
                let tx = self.db.unchecked_transaction()?;
                tx.execute("INSERT INTO journal (at, work) VALUES (?1, ?2)", params![at, json(work)])?;
                let id = tx.last_insert_rowid();
                let (kind, about, detail) =
                    match record {
                        Record::Authority(a) => {
                            tx.execute(
                        "INSERT INTO authority (label, sha256, der, folder, made_at) VALUES (?1, ?2, ?3, ?4, ?5)",
                        params![a.label, a.certificate.sha256(), a.certificate.der(), text(&a.folder), at],
                    )?;
                            ("authority-created", a.label.clone(), a.certificate.sha256())
                        }
                        Record::Certificate(c) => {
                            tx.execute(
                                "UPDATE certificate SET state = 'superseded' WHERE label = ?1 AND state = 'live'",
                                [&c.label],
                            )?;
                            tx.execute(
                        "INSERT INTO certificate (label, serial, sha256, der, authority, folder, state, issued_at)
                         VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'live', ?7)",
                        params![
                            c.label, c.certificate.serial, c.certificate.sha256(), c.certificate.der(), c.authority,
                            text(&c.folder), at
                        ],
                    )?;
                            ("issued", c.label.clone(), c.certificate.sha256())
                        }
                        Record::Trust { goal, label, place } => {
                            let kind = if *goal == "add" { "trust-added" } else { "trust-removed" };
                            (kind, (*label).to_owned(), text(place))
                        }
                    };
                tx.execute(
                    "INSERT INTO event (at, kind, about, detail) VALUES (?1, ?2, ?3, ?4)",
                    params![at, kind, about, detail],
                )?;
                tx.commit()?;
                Ok(id)
            };
        commit().map_err(|e| self.failed(e))
    }

    /// Takes the journal's row away.
    pub fn finish(&self, id: i64) -> Result<()> {
        self.relaxed("DELETE FROM journal WHERE id = ?1", id)?;
        self.fold()
    }

    /// Folds a grown log into the database: whoever opens the ledger next has to read it whole.
    fn fold(&self) -> Result<()> {
        let log = self.path.with_extension("sqlite-wal");
        if std::fs::metadata(log).is_ok_and(|m| m.len() > LOG_BYTES) {
            // A reader at work is not waited for: the next run folds.
            let run = || -> rusqlite::Result<()> {
                self.db.busy_timeout(std::time::Duration::ZERO)?;
                self.db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?;
                self.db.busy_timeout(PATIENCE)
            };
            run().map_err(|e| self.failed(e))?;
        }
        Ok(())
    }

    fn relaxed(&self, sql: &str, id: i64) -> Result<()> {
        let run = || -> rusqlite::Result<()> {
            self.db.pragma_update(None, "synchronous", "NORMAL")?;
            self.db.execute(sql, [id])?;
            self.db.pragma_update(None, "synchronous", "FULL")
        };
        run().map_err(|e| self.failed(e))
    }

    /// What was begun and not finished. Only whoever holds the data folder's lock may take it for interrupted.
    pub fn unfinished(&self) -> Result<Vec<(i64, Work)>> {
        let rows = || -> rusqlite::Result<Vec<(i64, String)>> {
            let mut q = self.db.prepare("SELECT id, work FROM journal ORDER BY id")?;
            q.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
        };
        let rows = rows().map_err(|e| self.failed(e))?;
        Ok(rows.into_iter().filter_map(|(id, work)| Some((id, serde_json::from_str(&work).ok()?))).collect())
    }

    /// Takes back what a publication that never stood had recorded: the authority goes, the certificate is
    /// abandoned, and the one before it is in force again.
    pub fn abandon(&self, id: i64, work: &Work, now: Moment) -> Result<()> {
        let Work::Publish { what, label, sha256, .. } = work else {
            return self.finish(id);
        };
        let commit = || -> rusqlite::Result<()> {
            let tx = self.db.unchecked_transaction()?;
            if what == "authority" {
                tx.execute("DELETE FROM authority WHERE sha256 = ?1", [sha256])?;
            } else {
                tx.execute("UPDATE certificate SET state = 'abandoned' WHERE sha256 = ?1", [sha256])?;
                tx.execute(
                    "UPDATE certificate SET state = 'live' WHERE id =
                     (SELECT max(id) FROM certificate WHERE label = ?1 AND state = 'superseded')",
                    [label],
                )?;
            }
            tx.execute(
                "INSERT INTO event (at, kind, about, detail) VALUES (?1, 'abandoned', ?2, ?3)",
                params![now.to_string(), label, sha256],
            )?;
            tx.execute("DELETE FROM journal WHERE id = ?1", [id])?;
            tx.commit()
        };
        commit().map_err(|e| self.failed(e))
    }
}

/// What a journaled piece of work records.
pub enum Record<'a> {
    /// A new authority.
    Authority(&'a Authority),
    /// A new certificate.
    Certificate(&'a Issued),
    /// A change of trust.
    Trust {
        /// `add` or `remove`.
        goal: &'a str,
        /// The authority's label.
        label: &'a str,
        /// Where.
        place: &'a Path,
    },
}

fn json(work: &Work) -> String {
    serde_json::to_string(work).unwrap_or_default()
}

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
