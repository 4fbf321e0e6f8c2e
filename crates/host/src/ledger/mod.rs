//! The ledger: what was issued and done, in SQLite. It holds no key of any leaf.
//!
//! Its journal is a table: one durable commit records what is about to happen together with what it makes; after
//! the files stand the row goes away in a second commit, which need not be durable, since a row too many is only
//! looked at again.

mod authorities;
mod certificates;
mod enrollment;
mod events;
mod installed;
mod journal;
mod origins;
mod requests;
mod revocations;
mod salvage;
pub mod schema;
pub mod stored_path;

pub use authorities::Authorities;
pub use certificates::{Certificates, Filter, Page, Sort};
pub use enrollment::{Accounts, Enrolled, Held, NewAccount, Nonces, Orders};
pub use events::{Event, Events};
pub use installed::{Appended, Installed, InstalledFile, Servers};
pub use journal::{Journal, Record, Work, WorkKind};
pub use origins::{Origin, Origins};
pub use requests::{Requests, Waiting};
pub use revocations::{Listed, Revocations};
pub use salvage::{Salvaged, set_aside};
pub use schema::VERSION as LAYOUT;

use crate::error::{Error, Result};
use rusqlite::Connection;
use std::path::{Path, PathBuf};

/// How long another process may hold the ledger.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(30);
/// A log of so many pages is folded into the database: about twelve issues. Anyone who opens the ledger reads the log whole;
/// folding costs what reading so much of it costs in that time. What comes after is written over it from its beginning.
const LOG_PAGES: u32 = 160;
/// An issue touches a dozen trees: with small pages that is a dozen kilobytes to write, to make durable and to read again.
const PAGE_BYTES: u32 = 1024;
/// SQLite's own files beside the ledger's.
pub const FILES: [&str; 3] = ["ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"];

/// An open ledger, wherever it is kept.
///
/// What is recorded is durable when a call returns. Every method fails if the ledger cannot be read or written.
pub trait Ledger:
    Accounts
    + Authorities
    + Certificates
    + Events
    + Journal
    + Nonces
    + Orders
    + Origins
    + Requests
    + Revocations
    + Servers
    + Send
{
    /// What is wrong with it; None if it is whole.
    fn damage(&self) -> Result<Option<String>>;

    /// A whole copy in one file of SQLite's, for a backup.
    fn copy_to(&self, file: &Path) -> Result<()>;
}

/// Where the ledger of a data directory is found.
pub trait Ledgers: std::fmt::Debug + Send + Sync {
    /// True if there is one.
    fn is_there(&self, data: &Path) -> bool;

    /// Where it is, or would be.
    fn place(&self, data: &Path) -> PathBuf;

    /// The number of its layout, which [`LAYOUT`] is for one of this version; None if there is no ledger. It is not changed.
    ///
    /// Errors: it cannot be read.
    fn layout(&self, data: &Path) -> Result<Option<i64>>;

    /// Opens or makes the ledger.
    ///
    /// Errors: it cannot be opened, is damaged, or was made by a later version.
    fn open(&self, data: &Path) -> Result<Box<dyn Ledger>>;

    /// Opens it if there is one: for commands that only look.
    ///
    /// Errors: as for [`Ledgers::open`].
    fn open_existing(&self, data: &Path) -> Result<Option<Box<dyn Ledger>>>;
}

/// A file in the data directory.
#[derive(Clone, Copy, Debug)]
pub struct InDirectory;

impl Ledgers for InDirectory {
    fn is_there(&self, data: &Path) -> bool {
        Sqlite::file(data).exists()
    }

    fn place(&self, data: &Path) -> PathBuf {
        Sqlite::file(data)
    }

    fn layout(&self, data: &Path) -> Result<Option<i64>> {
        let path = Sqlite::file(data);
        if !path.exists() {
            return Ok(None);
        }
        let read = || -> rusqlite::Result<i64> {
            let db = Connection::open_with_flags(&path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY)?;
            db.busy_timeout(PATIENCE)?;
            distrust(&db)?;
            db.pragma_query_value(None, "user_version", |r| r.get(0))
        };
        read().map(Some).map_err(|e| ledger_error(&path, e))
    }

    fn open(&self, data: &Path) -> Result<Box<dyn Ledger>> {
        Ok(Box::new(Sqlite::open(data)?))
    }

    fn open_existing(&self, data: &Path) -> Result<Option<Box<dyn Ledger>>> {
        Ok(Sqlite::open_existing(data)?.map(|l| -> Box<dyn Ledger> { Box::new(l) }))
    }
}

/// A ledger in SQLite.
pub struct Sqlite {
    db: Connection,
    path: PathBuf,
}

impl Sqlite {
    /// The file inside a data directory.
    pub fn file(data: &Path) -> PathBuf {
        data.join(FILES[0])
    }

    /// Opens or makes the ledger. The directory is 0700.
    pub fn open(data: &Path) -> Result<Sqlite> {
        crate::fs::make_directory(data, 0o700)?;
        let path = Sqlite::file(data);
        let opened = Connection::open(&path).and_then(|db| {
            db.busy_timeout(PATIENCE)?;
            distrust(&db)?;
            if !keeps_a_log(&path) {
                db.pragma_update(None, "page_size", PAGE_BYTES)?;
                db.pragma_update(None, "journal_mode", "WAL")?;
            }
            // Every commit is durable: `synchronous` is FULL unless something says otherwise.
            db.pragma_update(None, "wal_autocheckpoint", LOG_PAGES)?;
            // A statement that is kept stays compiled: else every new value compiles it again, which cost more than its answer.
            db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
            // A checkpoint at every exit would cost three more fsyncs.
            db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
            Ok(db)
        });
        let db = opened.map_err(|source| ledger_error(&path, source))?;
        let ledger = Sqlite { db, path };
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
        let ledger = Sqlite { db: opened.map_err(|source| ledger_error(&path, source))?, path };
        schema::migrate(&ledger.db).map_err(|e| ledger.failed(e))?;
        Ok(ledger)
    }

    /// Opens the ledger if there is one: for commands that only look.
    pub fn open_existing(data: &Path) -> Result<Option<Sqlite>> {
        if Sqlite::file(data).exists() { Sqlite::open(data).map(Some) } else { Ok(None) }
    }

    fn failed(&self, source: rusqlite::Error) -> Error {
        ledger_error(&self.path, source)
    }
}

impl Ledger for Sqlite {
    // SQLite looks at the shape of its pages, but not at what is in them: every certificate must besides have the fingerprint under
    // which it was recorded.
    fn damage(&self) -> Result<Option<String>> {
        let said: String =
            self.db.query_row("PRAGMA integrity_check(1)", [], |r| r.get(0)).map_err(|e| self.failed(e))?;
        if said != "ok" {
            return Ok(Some(said));
        }
        let changed = || -> rusqlite::Result<bool> {
            let all = "SELECT sha256, der FROM certificate UNION ALL SELECT sha256, der FROM authority_certificate";
            let mut q = self.db.prepare(all)?;
            let mut rows = q.query([])?;
            while let Some(r) = rows.next()? {
                if !is_recorded(&r.get::<_, String>(0)?, r.get_ref(1)?.as_blob()?) {
                    return Ok(true);
                }
            }
            Ok(false)
        };
        let changed = changed().map_err(|e| self.failed(e))?;
        Ok(changed.then(|| "a certificate in it is not the one that was recorded".to_owned()))
    }

    fn copy_to(&self, file: &Path) -> Result<()> {
        self.db
            .execute("VACUUM INTO ?1", [path_bytes(file)])
            .map(|_| ())
            .map_err(|source| Error::Ledger { path: file.to_owned(), source })
    }
}

/// A ledger may have been edited or come from a backup: nothing in it is executed. No trigger and no view runs, its schema cannot
/// call functions with effects, and it cannot be used to damage the file itself.
fn distrust(db: &Connection) -> rusqlite::Result<()> {
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
fn path_bytes(path: &Path) -> rusqlite::types::ToSqlOutput<'_> {
    use rusqlite::types::{ToSqlOutput, ValueRef};
    ToSqlOutput::Borrowed(ValueRef::Text(path.as_os_str().as_encoded_bytes()))
}

/// True if bytes have the fingerprint under which they were recorded.
fn is_recorded(sha256: &str, der: &[u8]) -> bool {
    crate::digest::sha256(der) == sha256
}

/// True if the file says itself that it is a database with a write-ahead log (the octet at 18 of its header): then it
/// need not say so again.
fn keeps_a_log(path: &Path) -> bool {
    use std::io::Read;
    let mut header = [0; 19];
    let read = crate::platform::open_regular(path).and_then(|(mut f, _)| f.read_exact(&mut header));
    read.is_ok() && header.starts_with(b"SQLite format 3\0") && header[18] == 2
}

fn ledger_error(path: &Path, source: rusqlite::Error) -> Error {
    let code = source.sqlite_error_code();
    match code {
        Some(rusqlite::ErrorCode::NotADatabase | rusqlite::ErrorCode::DatabaseCorrupt) => {
            Error::LedgerDamaged { path: path.to_owned(), source }
        }
        _ => Error::Ledger { path: path.to_owned(), source },
    }
}

use stored_path::{restored, stored as text};

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
