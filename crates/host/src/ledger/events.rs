//! What was done, in order.

use super::Sqlite;
use crate::error::Result;
use rusqlite::{Connection, params};
use std::str::FromStr;
use tamga_core::vocabulary::timestamp::Timestamp;

/// One thing that was done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// When, RFC 3339.
    pub at: String,
    /// What kind: `issued`, `renewed`, `revoked`, `trust-added`, …
    pub kind: String,
    /// A label.
    pub about: String,
    /// A fingerprint, a place, a reason.
    pub detail: String,
}

pub(super) fn insert(db: &Connection, at: Timestamp, kind: &str, about: &str, detail: &str) -> rusqlite::Result<()> {
    db.prepare_cached("INSERT INTO event (at, kind, about, detail) VALUES (?1, ?2, ?3, ?4)")?
        .execute(params![at.to_string(), kind, about, detail])
        .map(|_| ())
}

/// What was done, by its time.
pub trait Events {
    /// Notes an event by itself.
    fn note(&self, at: Timestamp, kind: &str, about: &str, detail: &str) -> Result<()>;

    /// When the latest event was, by its own time; None without any. A time that is none is left out.
    fn newest_event(&self) -> Result<Option<Timestamp>>;

    /// Every event of a kind, oldest first.
    fn of_kind(&self, kind: &str) -> Result<Vec<Event>>;

    /// Everything that was done about a label, oldest first.
    fn history(&self, about: &str) -> Result<Vec<Event>>;
}

impl Events for Sqlite {
    fn note(&self, at: Timestamp, kind: &str, about: &str, detail: &str) -> Result<()> {
        insert(&self.db, at, kind, about, detail).map_err(|e| self.failed(e))
    }

    fn newest_event(&self) -> Result<Option<Timestamp>> {
        let latest: Option<String> =
            self.db.query_row("SELECT max(at) FROM event", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        Ok(latest.and_then(|at| Timestamp::from_str(&at).ok()))
    }

    fn of_kind(&self, kind: &str) -> Result<Vec<Event>> {
        let rows = || -> rusqlite::Result<Vec<Event>> {
            let mut q = self.db.prepare("SELECT at, kind, about, detail FROM event WHERE kind = ?1 ORDER BY id")?;
            q.query_map([kind], |r| Ok(Event { at: r.get(0)?, kind: r.get(1)?, about: r.get(2)?, detail: r.get(3)? }))?
                .collect()
        };
        rows().map_err(|e| self.failed(e))
    }

    fn history(&self, about: &str) -> Result<Vec<Event>> {
        let rows = || -> rusqlite::Result<Vec<Event>> {
            let mut q = self.db.prepare("SELECT at, kind, about, detail FROM event WHERE about = ?1 ORDER BY id")?;
            q.query_map([about], |r| Ok(Event { at: r.get(0)?, kind: r.get(1)?, about: r.get(2)?, detail: r.get(3)? }))?
                .collect()
        };
        rows().map_err(|e| self.failed(e))
    }
}

impl Sqlite {
    /// Every event of several kinds, oldest first.
    pub(super) fn of_kinds(&self, kinds: &[&str; 2]) -> Result<Vec<Event>> {
        let rows = || -> rusqlite::Result<Vec<Event>> {
            let mut q =
                self.db.prepare("SELECT at, kind, about, detail FROM event WHERE kind IN (?1, ?2) ORDER BY id")?;
            q.query_map(kinds, |r| Ok(Event { at: r.get(0)?, kind: r.get(1)?, about: r.get(2)?, detail: r.get(3)? }))?
                .collect()
        };
        rows().map_err(|e| self.failed(e))
    }
}
