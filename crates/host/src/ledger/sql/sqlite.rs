//! SQLite: a file in the data directory.

use super::{Cell, Database, Dialect, Durability, Row, SqlResult, Store, StoreExt as _, Value};
use crate::database::SqlError;
use crate::error::{Error, Result};
use crate::ledger::{Census, FILES, Ledger, census, certificates, schema};
use rusqlite::types::{ToSqlOutput, ValueRef};
use rusqlite::{Connection, ToSql, params_from_iter};
use std::cell::OnceCell;
use std::path::{Path, PathBuf};

/// How long another process may hold the ledger.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(30);
/// A log of so many pages is folded into the database: about twelve issues. Anyone who opens the ledger reads the log whole;
/// folding costs what reading so much of it costs in that time. What comes after is written over it from its beginning.
const LOG_PAGES: u32 = 160;
/// The same while a service writes.
const LONG_LOG_PAGES: u32 = 8_000;
/// An issue touches a dozen trees: with small pages that is a dozen kilobytes to write, to make durable and to read again.
const PAGE_BYTES: u32 = 1024;
/// So many statements stay compiled: all that a service uses.
const STATEMENTS: usize = 64;

/// A ledger in SQLite.
pub struct Sqlite {
    pub(in crate::ledger) db: Connection,
    path: PathBuf,
    /// The data directory.
    data: PathBuf,
    /// A second connection, for what need not outlive a loss of power: a service asks for that with every request.
    fast: OnceCell<Connection>,
}

impl Sqlite {
    /// The file inside a data directory.
    pub fn file(data: &Path) -> PathBuf {
        data.join(FILES[0])
    }

    /// Opens or makes the ledger. The directory is 0700.
    pub fn open(data: &Path) -> Result<Sqlite> {
        Sqlite::open_at(data, &Sqlite::file(data))
    }

    /// The same in a file elsewhere: the ledger of this data directory.
    ///
    /// Errors: as for [`Sqlite::open`].
    pub fn open_at(data: &Path, path: &Path) -> Result<Sqlite> {
        crate::fs::make_directory(data, 0o700)?;
        let path = path.to_owned();
        // The data directory is the owner's alone; a file elsewhere must be so itself.
        if !path.starts_with(data) && !path.exists() {
            crate::fs::write_whole(&path, b"", 0o600)?;
        }
        let db = connected(&path).map_err(|e| ledger_error(&path, e.into()))?;
        let ledger = Sqlite { db, path, data: data.to_owned(), fast: OnceCell::new() };
        match schema::migrate(&ledger.db).map_err(|e| ledger.failed(e))? {
            true => Ok(ledger),
            false => Err(Error::LedgerNewer { path: ledger.path }),
        }
    }

    /// Opens or makes a ledger that is kept in memory: the same one under the same name, gone when the last of them is closed.
    ///
    /// Errors: SQLite cannot open it.
    pub fn in_memory(name: &str, data: &Path) -> Result<Sqlite> {
        let path = Sqlite::file(data);
        let opened = Connection::open(format!("file:{name}?mode=memory&cache=shared")).and_then(|db| {
            db.busy_timeout(PATIENCE)?;
            distrust(&db)?;
            Ok(db)
        });
        let ledger = Sqlite {
            db: opened.map_err(|e| ledger_error(&path, e.into()))?,
            path,
            data: data.to_owned(),
            fast: OnceCell::new(),
        };
        schema::migrate(&ledger.db).map_err(|e| ledger.failed(e))?;
        Ok(ledger)
    }

    fn is_in_memory(&self) -> bool {
        self.db.path().is_none_or(str::is_empty)
    }

    /// Closes it as one file, with nothing beside it.
    ///
    /// Errors: it cannot be written.
    pub(in crate::ledger) fn close(self) -> Result<()> {
        let done = self.db.pragma_update(None, "journal_mode", "DELETE");
        done.map_err(|e| self.failed(e.into()))
    }

    /// Opens the ledger if there is one: for commands that only look.
    pub fn open_existing(data: &Path) -> Result<Option<Sqlite>> {
        if Sqlite::file(data).exists() { Sqlite::open(data).map(Some) } else { Ok(None) }
    }

    /// The number of the layout of the ledger in a file, which is not changed; None if there is none.
    ///
    /// Errors: it cannot be read.
    pub fn layout(path: &Path) -> Result<Option<i64>> {
        if !path.exists() {
            return Ok(None);
        }
        let read = || -> rusqlite::Result<i64> {
            let db = Connection::open_with_flags(path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY)?;
            db.busy_timeout(PATIENCE)?;
            distrust(&db)?;
            db.pragma_query_value(None, "user_version", |r| r.get(0))
        };
        read().map(Some).map_err(|e| ledger_error(path, e.into()))
    }
}

impl ToSql for Value<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self {
            Value::Integer(Some(n)) => ValueRef::Integer(*n),
            Value::Text(Some(t)) => ValueRef::Text(t.as_bytes()),
            Value::Bytes(Some(b)) => ValueRef::Blob(b),
            Value::Integer(None) | Value::Text(None) | Value::Bytes(None) | Value::Null => ValueRef::Null,
        }))
    }
}

/// The value of a column.
pub(super) fn cell<'r>(row: &'r rusqlite::Row<'r>, at: usize) -> SqlResult<Cell<'r>> {
    Ok(match row.get_ref(at)? {
        ValueRef::Null => Cell::Null,
        ValueRef::Integer(n) => Cell::Integer(n),
        ValueRef::Text(t) => Cell::Text(std::str::from_utf8(t).map_err(|_| SqlError::Shape(at))?),
        ValueRef::Blob(b) => Cell::Bytes(b),
        ValueRef::Real(_) => return Err(SqlError::Shape(at)),
    })
}

impl Database for Connection {
    fn dialect(&self) -> Dialect {
        Dialect::Sqlite
    }

    fn host(&self) -> &str {
        ""
    }

    fn mark(&self, _: &[&str]) -> String {
        String::new()
    }

    fn execute(&self, sql: &str, values: &[Value<'_>]) -> SqlResult<usize> {
        Ok(self.prepare_cached(sql)?.execute(params_from_iter(values))?)
    }

    fn each(&self, sql: &str, values: &[Value<'_>], row: &mut dyn FnMut(Row<'_>) -> SqlResult<()>) -> SqlResult<()> {
        let mut statement = self.prepare_cached(sql)?;
        let mut rows = statement.query(params_from_iter(values))?;
        while let Some(r) = rows.next()? {
            row(Row::Sqlite(r))?;
        }
        Ok(())
    }
}

impl Store for Sqlite {
    fn look_with(&self, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>) -> SqlResult<()> {
        work(&self.db)
    }

    fn write_with(
        &self,
        durability: Durability,
        work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>,
    ) -> SqlResult<()> {
        if durability == Durability::Durable || self.is_in_memory() {
            return transaction(&self.db, work);
        }
        // With NORMAL the file stays whole and what was written outlives the process; the next durable commit makes it durable too.
        if let Some(db) = self.fast.get() {
            return transaction(db, work);
        }
        self.db.pragma_update(None, "synchronous", "NORMAL")?;
        let done = transaction(&self.db, work);
        self.db.pragma_update(None, "synchronous", "FULL")?;
        done
    }

    fn failed(&self, source: SqlError) -> Error {
        ledger_error(&self.path, source)
    }

    fn directory(&self) -> &Path {
        &self.data
    }
}

impl Ledger for Sqlite {
    // SQLite looks at the shape of its pages, but not at what is in them.
    fn damage(&self) -> Result<Option<String>> {
        let said: String =
            self.db.query_row("PRAGMA integrity_check(1)", [], |r| r.get(0)).map_err(|e| self.failed(e.into()))?;
        if said != "ok" {
            return Ok(Some(said));
        }
        self.look(certificates::changed)
    }

    fn census(&self) -> Result<Census> {
        self.look(census::taken)
    }

    fn host(&self) -> Result<String> {
        self.look(|db| Ok(db.host().to_owned()))
    }

    // While somebody has it open, others need not read the log to find their way in it: it may be longer, and is folded less often.
    fn stay_open(&self, long: bool) -> Result<()> {
        let pages = if long { LONG_LOG_PAGES } else { LOG_PAGES };
        let set = || -> rusqlite::Result<()> {
            if long && self.fast.get().is_none() && !self.is_in_memory() {
                let db = connected(&self.path)?;
                db.pragma_update(None, "synchronous", "NORMAL")?;
                let _ = self.fast.set(db);
            }
            for db in std::iter::once(&self.db).chain(self.fast.get()) {
                db.pragma_update(None, "wal_autocheckpoint", pages)?;
            }
            // At the end the log is short again.
            if long { Ok(()) } else { self.db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(())) }
        };
        set().map_err(|e| self.failed(e.into()))
    }

    fn copy_to(&self, file: &Path) -> Result<()> {
        self.db
            .execute("VACUUM INTO ?1", [path_bytes(file)])
            .map(|_| ())
            .map_err(|e| Error::Ledger { path: file.to_owned(), source: e.into() })
    }
}

fn connected(path: &Path) -> rusqlite::Result<Connection> {
    let db = Connection::open(path)?;
    db.busy_timeout(PATIENCE)?;
    distrust(&db)?;
    if !keeps_a_log(path) {
        db.pragma_update(None, "page_size", PAGE_BYTES)?;
        db.pragma_update(None, "journal_mode", "WAL")?;
    }
    // Every commit is durable: `synchronous` is FULL unless something says otherwise.
    db.pragma_update(None, "wal_autocheckpoint", LOG_PAGES)?;
    // A statement that is kept stays compiled: else every new value compiles it again, which cost more than its answer.
    db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
    // A checkpoint at every exit would cost three more fsyncs.
    db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
    db.set_prepared_statement_cache_capacity(STATEMENTS);
    Ok(db)
}

/// The lock for writing is taken at the beginning: two that read first and write then would get in each other's way.
fn transaction(db: &Connection, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>) -> SqlResult<()> {
    // Kept like all others: compiled once.
    let said = |sql: &str| -> SqlResult<()> { Ok(db.prepare_cached(sql)?.execute([]).map(drop)?) };
    said("BEGIN IMMEDIATE")?;
    let done = work(db).and_then(|()| said("COMMIT"));
    if done.is_err() && !db.is_autocommit() {
        said("ROLLBACK")?;
    }
    done
}

/// A ledger may have been edited or come from a backup: nothing in it is executed. No trigger and no view runs, its schema cannot
/// call functions with effects, and it cannot be used to damage the file itself.
pub(in crate::ledger) fn distrust(db: &Connection) -> rusqlite::Result<()> {
    use rusqlite::config::DbConfig;
    for (setting, on) in [
        (DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true),
        (DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false),
        (DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false),
    ] {
        db.set_db_config(setting, on)?;
    }
    Ok(())
}

/// A path as SQLite takes it: its bytes, whether or not they are UTF-8.
fn path_bytes(path: &Path) -> ToSqlOutput<'_> {
    ToSqlOutput::Borrowed(ValueRef::Text(path.as_os_str().as_encoded_bytes()))
}

/// True if the file says itself that it is a database with a write-ahead log (the octet at 18 of its header): then it
/// need not say so again.
fn keeps_a_log(path: &Path) -> bool {
    use std::io::Read;
    let mut header = [0; 19];
    let read = crate::platform::open_regular(path).and_then(|(mut f, _)| f.read_exact(&mut header));
    read.is_ok() && header.starts_with(b"SQLite format 3\0") && header[18] == 2
}

fn ledger_error(path: &Path, source: SqlError) -> Error {
    let code = match &source {
        SqlError::Sqlite(e) => e.sqlite_error_code(),
        _ => None,
    };
    let path = path.to_owned();
    match code {
        Some(rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) => {
            Error::LedgerDamaged { path, source }
        }
        _ => Error::Ledger { path, source },
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    #[test]
    fn a_ledger_is_durable_and_logged_however_often_it_is_opened() {
        let folder = tempfile::tempdir().unwrap();
        let data = folder.path().join("data");
        for _ in 0..2 {
            let ledger = Sqlite::open(&data).unwrap();
            let word = |name: &str| ledger.db.pragma_query_value(None, name, |r| r.get::<_, rusqlite::types::Value>(0));
            assert_eq!(word("synchronous").unwrap(), 2_i64.into());
            assert_eq!(word("journal_mode").unwrap(), "wal".to_owned().into());
            assert_eq!(word("page_size").unwrap(), i64::from(PAGE_BYTES).into());
        }
        assert!(keeps_a_log(&Sqlite::file(&data)));
        assert!(!keeps_a_log(&data.join("nothing")));
    }
}
