//! What was done, in order.

use super::sql::Value;
use super::{Database, Row, SqlResult, Store, StoreExt as _, values};
use crate::error::Result;
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

pub(super) fn insert(db: &dyn Database, at: Timestamp, kind: &str, about: &str, detail: &str) -> SqlResult<()> {
    let sql = "INSERT INTO event (at, kind, about, detail, host, mark) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
    let at = at.to_string();
    let mark = db.mark(&[&at, kind, about, detail]);
    db.execute(sql, values![&at, kind, about, detail, db.host(), mark]).map(drop)
}

/// What was done, by its time.
pub trait Events {
    /// Notes an event by itself.
    fn note(&self, at: Timestamp, kind: &str, about: &str, detail: &str) -> Result<()>;

    /// When the latest event on this machine was, by its own time; None without any. A time that is none is left out.
    fn newest_event(&self) -> Result<Option<Timestamp>>;

    /// Every event of a kind on this machine, oldest first.
    fn of_kind(&self, kind: &str) -> Result<Vec<Event>>;

    /// Everything that was done about a label, oldest first.
    fn history(&self, about: &str) -> Result<Vec<Event>>;
}

fn event(r: Row<'_>) -> SqlResult<Event> {
    Ok(Event { at: r.get(0)?, kind: r.get(1)?, about: r.get(2)?, detail: r.get(3)? })
}

const COLUMNS: &str = "SELECT at, kind, about, detail, mark FROM event";

/// Events of this machine that it recorded itself: by some of them files are removed again.
fn own(db: &dyn Database, sql: &str, values: &[Value<'_>]) -> SqlResult<Vec<Event>> {
    let all = db.all(sql, values, |r| Ok((event(r)?, r.get::<String>(4)?)))?;
    let is_ours = |(e, mark): &(Event, String)| *mark == db.mark(&[&e.at, &e.kind, &e.about, &e.detail]);
    Ok(all.into_iter().filter(is_ours).map(|(e, _)| e).collect())
}

impl<S: Store> Events for S {
    fn note(&self, at: Timestamp, kind: &str, about: &str, detail: &str) -> Result<()> {
        self.write(|db| insert(db, at, kind, about, detail))
    }

    fn newest_event(&self) -> Result<Option<Timestamp>> {
        let sql = "SELECT max(at) FROM event WHERE host = ?1";
        let latest: Option<String> = self.look(|db| db.single(sql, values![db.host()], |r| r.get(0)))?;
        Ok(latest.and_then(|at| Timestamp::from_str(&at).ok()))
    }

    fn of_kind(&self, kind: &str) -> Result<Vec<Event>> {
        let sql = format!("{COLUMNS} WHERE kind = ?1 AND host = ?2 ORDER BY id");
        self.look(|db| own(db, &sql, values![kind, db.host()]))
    }

    fn history(&self, about: &str) -> Result<Vec<Event>> {
        self.look(|db| db.all(&format!("{COLUMNS} WHERE about = ?1 ORDER BY id"), values![about], event))
    }
}

/// Every event of several kinds on this machine, oldest first.
pub(super) fn of_kinds(db: &dyn Database, kinds: &[&str; 2]) -> SqlResult<Vec<Event>> {
    let sql = format!("{COLUMNS} WHERE kind IN (?1, ?2) AND host = ?3 ORDER BY id");
    own(db, &sql, values![kinds[0], kinds[1], db.host()])
}
