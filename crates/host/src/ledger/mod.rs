//! The ledger: what was issued and done, in SQLite or, for several machines, in PostgreSQL. It holds no key of any leaf.
//!
//! Its journal is a table: one durable commit records what is about to happen together with what it makes; after
//! the files stand the row goes away in a second commit, which need not be durable, since a row too many is only
//! looked at again.

mod authorities;
mod census;
mod certificates;
mod enrollment;
mod events;
mod installed;
mod journal;
mod origins;
pub mod place;
mod requests;
mod revocations;
mod salvage;
pub mod schema;
mod sql;
pub mod stored_path;
mod transfer;

pub use authorities::Authorities;
pub use census::{Census, HostCount};
pub use certificates::{Certificates, Filter, Page, Sort};
pub use enrollment::{Accounts, Enrolled, Held, NewAccount, Nonces, Orders};
pub use events::{Event, Events};
pub use installed::{Appended, Installed, InstalledFile, Servers};
pub use journal::{Journal, Record, Work, WorkKind};
pub use origins::{Origin, Origins};
pub use place::{Address, Chosen, Moved};
pub use requests::{Requests, Waiting};
pub use revocations::{Listed, Revocations};
pub use salvage::{Salvaged, set_aside};
pub use schema::{GRANTS, VERSION as LAYOUT};
pub use sql::{Postgres, Sqlite};

use crate::error::Result;
use std::path::{Path, PathBuf};

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

    /// What it holds, machine by machine.
    fn census(&self) -> Result<Census>;

    /// The name of this machine in it; empty where the ledger is this machine's own.
    fn host(&self) -> Result<String>;

    /// That it will be written for long, as by a service; or, with false, that this is over.
    fn stay_open(&self, long: bool) -> Result<()>;

    /// A whole copy in one file of SQLite's, for a backup.
    fn copy_to(&self, file: &Path) -> Result<()>;
}

/// Where the ledger of a data directory is found.
pub trait Ledgers: std::fmt::Debug + Send + Sync {
    /// True if there is one.
    fn is_there(&self, data: &Path) -> bool;

    /// Where it is, or would be: its file, or its URL.
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

    /// The choice between files and servers; None where there is none, as in memory.
    fn chosen(&self) -> Option<&Chosen> {
        None
    }
}

/// True if bytes have the fingerprint under which they were recorded.
fn is_recorded(sha256: &str, der: &[u8]) -> bool {
    crate::digest::sha256(der) == sha256
}

pub use transfer::Transferred;

use sql::{Database, Durability, Row, SqlResult, Store, StoreExt, values};
use stored_path::{restored, stored as text};
