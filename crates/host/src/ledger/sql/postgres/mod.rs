//! PostgreSQL, and what speaks like it: a ledger for several machines.
//!
//! What is used of it: tables, indices, `RETURNING`, `ON CONFLICT`, SERIALIZABLE transactions, `SET LOCAL`. There is no named statement,
//! no LISTEN, no advisory lock, no session state: a pooler may give every transaction another connection.
//!
//! A transaction whose commit was not answered is looked up, never repeated: its first statement inserts a mark of its own into
//! `commit_mark`. If the mark is there, it was done; if it is still under way, the server lets us wait until that is known.

mod link;
mod settings;
mod tls;
mod transaction;

pub(crate) use settings::{Around, Read, Settings, is_postgres};

use super::{Database, Durability, SqlResult, Store, StoreExt as _, values};
use crate::database::SqlError;
use crate::error::{Error, Result};
use crate::ledger::{Census, Ledger, Sqlite, census, certificates, schema, transfer};
pub(crate) use link::Pool;
use link::{Link, wait};
use std::cell::{Cell as Kept, OnceCell, RefCell};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tamga_core::plan::ports::Entropy as _;
use tokio_postgres::error::SqlState;
pub(super) use transaction::cell;
use transaction::{Reading, Transaction};

/// How long a transaction is tried again: while servers change places, and while others write the same.
const PERSISTENCE: Duration = Duration::from_secs(20);
/// The same where the server was never reached by this command.
const FIRST_PERSISTENCE: Duration = Duration::from_secs(2);
/// Two transactions that write the same are tried again so often: more, and it is no coincidence.
const COINCIDENCES: u32 = 4;
/// A mark is kept so long, in seconds: longer than any answer is owed.
const MARK_KEPT: i64 = 86_400;

/// A ledger in PostgreSQL.
pub struct Postgres {
    settings: Settings,
    /// Made for the first connection: reading the system's roots takes as long as all questions of a command.
    tls: OnceCell<Option<tls::Tls>>,
    roots: fn(&Path) -> Vec<Vec<u8>>,
    link: RefCell<Option<Link>>,
    pool: Pool,
    /// True once a server was reached.
    was_reached: Kept<bool>,
    data: PathBuf,
    host: Host,
}

impl Postgres {
    /// Connects to the database of a URL. A pool's connection to it is taken, if there is one.
    ///
    /// Errors: it cannot be reached; it has no tables of ours, and `make` is not set; they are of a later version.
    pub(crate) fn open(settings: Settings, place: Place<'_>, pool: Pool, make: bool) -> Result<Postgres> {
        let url = settings.url.clone();
        let (data, host) = (place.data.to_owned(), Host::new(place.host, place.secret));
        let kept = pool.taken(&url);
        let is_known = kept.is_some();
        let was_reached = Kept::new(is_known);
        let (tls, roots) = (OnceCell::new(), place.roots);
        let ledger = Postgres { settings, tls, roots, link: RefCell::new(kept), pool, was_reached, data, host };
        if is_known {
            return Ok(ledger);
        }
        ledger.tls().map_err(|why| Error::LedgerUrl { url: url.clone(), why })?;
        let version = ledger.version().map_err(|e| ledger.failed(e))?;
        match version {
            Some(schema::VERSION) => Ok(ledger),
            // The first layout of a server's tables was this one: any other is of a later version.
            Some(_) => Err(Error::LedgerNewer { path: url.into() }),
            None if make => {
                ledger.create().map_err(|e| ledger.failed(e))?;
                Ok(ledger)
            }
            None => Err(Error::LedgerAbsent { url }),
        }
    }

    /// The number of its layout; None if the database has no tables of ours.
    pub(crate) fn version(&self) -> SqlResult<Option<i64>> {
        let mut found = None;
        let done = self.look_with(&mut |db| {
            found = db.one("SELECT max(version) FROM schema_version", &[], |r| r.get(0))?;
            Ok(())
        });
        match done {
            Err(SqlError::Postgres(e)) if e.code() == Some(&SqlState::UNDEFINED_TABLE) => Ok(None),
            done => done.map(|()| found.flatten()),
        }
    }

    /// True if a machine is the one that has this ledger's name for it, or takes a name that none has.
    pub(crate) fn is_known_as(&self, identity: &str) -> Result<bool> {
        let take = "INSERT INTO ledger_host (name, identity) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        let ask = "SELECT identity FROM ledger_host WHERE name = ?1";
        self.write(|db| {
            db.execute(take, values![db.host(), identity])?;
            Ok(db.single(ask, values![db.host()], |r| r.get::<String>(0))? == identity)
        })
    }

    /// Makes the tables. Of several that do so at once one succeeds, and the others find what it made.
    fn create(&self) -> SqlResult<()> {
        let sql =
            format!("BEGIN; {} INSERT INTO schema_version VALUES ({}); COMMIT", schema::postgres(), schema::VERSION);
        let done = self.batch(&sql);
        if done.is_err() {
            let _ = self.batch("ROLLBACK");
            if self.version()? == Some(schema::VERSION) {
                return Ok(());
            }
        }
        done
    }

    /// Statements without values, sent at once.
    fn batch(&self, sql: &str) -> SqlResult<()> {
        let link = self.linked()?;
        let done = wait(link.client.batch_execute(sql))?;
        self.keep(link);
        Ok(done?)
    }

    /// Lets the server look over many rows that came at once: until it does so by itself, it takes a table of a million for an empty one, and
    /// reads it whole for one name. Where it may not, or cannot, it does so later.
    pub(crate) fn settle(&self) {
        let Ok(link) = self.linked() else { return };
        // This connection is given up: what the server warns of here is not about a commit.
        let _ = wait(link.client.batch_execute("VACUUM (ANALYZE) certificate, certificate_name, event, revocation"));
    }

    /// What TLS needs; None where it is not spoken.
    ///
    /// Errors: a file that the URL names cannot be read.
    fn tls(&self) -> std::result::Result<Option<tls::Tls>, String> {
        if let Some(made) = self.tls.get() {
            return Ok(made.clone());
        }
        let made = tls_of(&self.settings, || (self.roots)(&self.data))?;
        Ok(self.tls.get_or_init(|| made).clone())
    }

    /// The connection, made if there is none. It is put back by [`Postgres::keep`] as long as it is good.
    fn linked(&self) -> SqlResult<Link> {
        match self.link.take().filter(|l| !l.client.is_closed()) {
            Some(link) => Ok(link),
            None => {
                let link = Link::new(&self.settings, self.tls().map_err(SqlError::Unreachable)?)?;
                self.was_reached.set(true);
                Ok(link)
            }
        }
    }

    /// Until when a server that is not there is tried again: one that was there is about to change places with another.
    fn deadline(&self) -> Instant {
        Instant::now() + if self.was_reached.get() { PERSISTENCE } else { FIRST_PERSISTENCE }
    }

    fn keep(&self, link: Link) {
        if !link.client.is_closed() {
            self.link.replace(Some(link));
        }
    }

    /// Tries a transaction once.
    fn tried(&self, write: &Write<'_>, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>) -> Tried {
        let link = match self.linked() {
            Ok(link) => link,
            Err(e) if write.in_doubt.get() => return Tried::Again(e),
            Err(e) => return if is_passing(&e) { Tried::Again(e) } else { Tried::Failed(e) },
        };
        let db = Transaction { link: &link, host: &self.host, begin: RefCell::new(Some(write.begin())) };
        let done = work(&db).and_then(|()| db.begun());
        if let Err(e) = done {
            drop(db);
            // The mark is random: where it is, an earlier try of this transaction put it, and was committed.
            if is_mark(&e) {
                let rolled_back = matches!(wait(link.client.batch_execute("ROLLBACK")), Ok(Ok(())));
                return if rolled_back { self.confirmed(link, write) } else { Tried::Again(e) };
            }
            let again = is_passing(&e) || is_conflict(&e);
            // A connection that did not answer is not asked again; a mark that is under way elsewhere keeps us waiting.
            if !matches!(e, SqlError::Silent(_)) && matches!(wait(link.client.batch_execute("ROLLBACK")), Ok(Ok(()))) {
                self.keep(link);
            }
            return if again { Tried::Again(e) } else { Tried::Failed(e) };
        }
        drop(db);
        self.committed(link, write, "COMMIT")
    }

    /// Commits.
    fn committed(&self, link: Link, write: &Write<'_>, sql: &str) -> Tried {
        link.has_warned();
        match wait(link.client.batch_execute(sql)) {
            // A server whose wait for the replica was cancelled answers "done" all the same, with a warning.
            Ok(Ok(())) if link.has_warned() && write.durability == Durability::Durable => {
                Tried::Failed(SqlError::Unconfirmed("its replica did not confirm it".into()))
            }
            Ok(Ok(())) => {
                self.keep(link);
                Tried::Done
            }
            Ok(Err(e)) => {
                let e = SqlError::from(e);
                if is_conflict(&e) {
                    // Only these say that nothing was committed: a server that ends a connection may have committed before.
                    let _ = wait(link.client.batch_execute("ROLLBACK"));
                    self.keep(link);
                } else {
                    write.in_doubt.set(true);
                }
                Tried::Again(e)
            }
            Err(_) => Tried::Failed(SqlError::Unconfirmed("it did not answer in time".into())),
        }
    }

    /// Of a transaction that was committed, perhaps without its replica: a later commit that the replica confirms says that it has the
    /// earlier ones too.
    fn confirmed(&self, link: Link, write: &Write<'_>) -> Tried {
        let mut mark = [0; 16];
        crate::entropy::System.fill(&mut mark);
        let later = Write { mark, ..*write };
        write.in_doubt.set(true);
        self.committed(link, write, &format!("{}; COMMIT", later.begin()))
    }
}

/// This machine in a shared ledger.
pub(super) struct Host {
    pub(super) name: String,
    key: ring::hmac::Key,
}

impl Host {
    fn new(name: &str, secret: &[u8]) -> Host {
        Host { name: name.to_owned(), key: ring::hmac::Key::new(ring::hmac::HMAC_SHA256, secret) }
    }

    /// The MAC of a row: of its parts, each with its length, and of this machine's name.
    pub(super) fn mark(&self, parts: &[&str]) -> String {
        let mut context = ring::hmac::Context::with_key(&self.key);
        for part in std::iter::once(self.name.as_str()).chain(parts.iter().copied()) {
            context.update(&u64::try_from(part.len()).unwrap_or(u64::MAX).to_be_bytes());
            context.update(part.as_bytes());
        }
        tamga_core::vocabulary::text::hex(context.sign().as_ref())
    }
}

/// Where a ledger is used.
pub(crate) struct Place<'a> {
    /// The data directory of this machine.
    pub(crate) data: &'a Path,
    /// The name of this machine in the ledger.
    pub(crate) host: &'a str,
    /// What this machine marks its rows with.
    pub(crate) secret: &'a [u8],
    /// Reads the certificates by which a server is known, DER, of a data directory.
    pub(crate) roots: fn(&Path) -> Vec<Vec<u8>>,
}

fn tls_of(settings: &Settings, roots: impl FnOnce() -> Vec<Vec<u8>>) -> std::result::Result<Option<tls::Tls>, String> {
    use rustls::pki_types::pem::PemObject as _;
    use rustls::pki_types::{CertificateDer, PrivateKeyDer};
    let settings::Encryption::Verified { roots: file, client } = &settings.encryption else { return Ok(None) };
    let mut store = rustls::RootCertStore::empty();
    store.add_parsable_certificates(roots().into_iter().map(CertificateDer::from));
    let unread = |file: &Path, e: &dyn std::fmt::Display| {
        use tamga_core::vocabulary::text::Shown as _;
        format!("{}: {e}", file.shown())
    };
    let certificates = |file: &PathBuf| -> std::result::Result<Vec<CertificateDer<'static>>, String> {
        CertificateDer::pem_file_iter(file).and_then(Iterator::collect).map_err(|e| unread(file, &e))
    };
    if let Some(file) = file {
        store.add_parsable_certificates(certificates(file)?);
    }
    let client = match client {
        Some((certificate, key)) => {
            let read = PrivateKeyDer::from_pem_file(key).map_err(|e| unread(key, &e))?;
            Some((certificates(certificate)?, read))
        }
        None => None,
    };
    tls::Tls::new(store, client).map(Some).map_err(|e| e.to_string())
}

/// What came of one try.
enum Tried {
    Done,
    Again(SqlError),
    Failed(SqlError),
}

/// A transaction that is to be done once.
struct Write<'a> {
    durability: Durability,
    mark: [u8; 16],
    now: i64,
    /// True once a commit was sent and not answered.
    in_doubt: &'a Kept<bool>,
}

impl Write<'_> {
    /// The statements with which it begins.
    fn begin(&self) -> String {
        let fast = match self.durability {
            Durability::Durable => "",
            Durability::Process => "SET LOCAL synchronous_commit = off;",
        };
        let mark = tamga_core::vocabulary::text::hex(&self.mark);
        format!("BEGIN ISOLATION LEVEL SERIALIZABLE; {fast} INSERT INTO commit_mark VALUES ('\\x{mark}', {})", self.now)
    }
}

/// True where the same may succeed a moment later, on another connection: the server is gone, starting, or does not take writes now.
fn is_passing(e: &SqlError) -> bool {
    match e {
        SqlError::Postgres(e) => match e.code() {
            // The library names the way in words alone.
            None => {
                let said = e.to_string();
                e.is_closed()
                    || ["error connecting", "error communicating", "connection timed out"]
                        .iter()
                        .any(|w| said.starts_with(w))
            }
            Some(code) => {
                let class = &code.code()[..2];
                class == "08" || class == "57" || *code == SqlState::READ_ONLY_SQL_TRANSACTION
            }
        },
        SqlError::Unreachable(_) => true,
        _ => false,
    }
}

/// True where another transaction was in the way.
fn is_conflict(e: &SqlError) -> bool {
    let SqlError::Postgres(e) = e else { return false };
    e.code().is_some_and(|c| {
        [
            SqlState::T_R_SERIALIZATION_FAILURE,
            SqlState::T_R_DEADLOCK_DETECTED,
            SqlState::UNIQUE_VIOLATION,
            SqlState::LOCK_NOT_AVAILABLE,
        ]
        .contains(c)
    })
}

/// The key of a row that is there already, as the server says it: `Key (label)=(charts) already exists.`
fn key_that_is_there(e: &SqlError) -> Option<String> {
    let SqlError::Postgres(e) = e else { return None };
    let violated = e.as_db_error().filter(|d| *d.code() == SqlState::UNIQUE_VIOLATION)?;
    let detail = violated.detail().unwrap_or_default();
    let key = detail.split_once("=(").and_then(|(_, rest)| rest.split_once(')')).map_or(detail, |(key, _)| key);
    Some(tamga_core::vocabulary::text::harmless(key))
}

/// True if the mark of a transaction is there already.
fn is_mark(e: &SqlError) -> bool {
    let SqlError::Postgres(e) = e else { return false };
    e.as_db_error().is_some_and(|d| *d.code() == SqlState::UNIQUE_VIOLATION && d.table() == Some("commit_mark"))
}

impl Drop for Postgres {
    // The next one to open it in this process need not connect again.
    fn drop(&mut self) {
        if let Some(link) = self.link.take().filter(|l| !l.client.is_closed()) {
            self.pool.give(&self.settings.url, link);
        }
    }
}

impl Ledger for Postgres {
    // The server looks after its pages; what is in them is compared there, and nothing but the answer crosses the network.
    fn damage(&self) -> Result<Option<String>> {
        self.look(|db| {
            let wrong = |table: &str| {
                let sql = format!("SELECT count(*) FROM {table} WHERE encode(sha256(der), 'hex') <> sha256");
                db.single(&sql, values![], |r| r.get::<i64>(0))
            };
            let changed = wrong("certificate")? + wrong("authority_certificate")? > 0;
            Ok(changed.then(|| certificates::CHANGED.to_owned()))
        })
    }

    fn census(&self) -> Result<Census> {
        self.look(census::taken)
    }

    fn host(&self) -> Result<String> {
        self.look(|db| Ok(db.host().to_owned()))
    }

    fn stay_open(&self, _: bool) -> Result<()> {
        Ok(())
    }

    fn copy_to(&self, file: &Path) -> Result<()> {
        // In one transaction, so that it is the ledger of one moment; from the beginning, if the server wants it repeated.
        self.write(|from| {
            let copied = || -> Result<()> {
                crate::fs::remove(file)?;
                let copy = Sqlite::open_at(&self.data, file)?;
                copy.write(|to| transfer::copy(from, to))?;
                copy.close()
            };
            Ok(copied())
        })?
    }
}

impl Store for Postgres {
    fn look_with(&self, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>) -> SqlResult<()> {
        let until = self.deadline();
        let mut pause = Duration::from_millis(50);
        loop {
            let handed = Kept::new(false);
            let done = self.linked().and_then(|link| {
                let db = Transaction { link: &link, host: &self.host, begin: RefCell::default() };
                let done = work(&Reading { db, handed: &handed });
                self.keep(link);
                done
            });
            match done {
                // The caller has seen rows: it would see them twice.
                Err(e) if is_passing(&e) && !handed.get() && Instant::now() < until => {
                    std::thread::sleep(pause);
                    pause = (pause * 2).min(Duration::from_secs(1));
                }
                done => return done,
            }
        }
    }

    fn write_with(
        &self,
        durability: Durability,
        work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>,
    ) -> SqlResult<()> {
        let mut mark = [0; 16];
        crate::entropy::System.fill(&mut mark);
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
        let in_doubt = Kept::new(false);
        let write = Write { durability, mark, now: i64::try_from(now).unwrap_or(0), in_doubt: &in_doubt };
        let until = self.deadline();
        let (mut pause, mut taken) = (Duration::from_millis(1), 0);
        loop {
            match self.tried(&write, work) {
                Tried::Done => {
                    // One in so many clears away what nobody asks for any more.
                    if mark[0] < 4 {
                        let _ = self.batch(&format!("DELETE FROM commit_mark WHERE at < {}", write.now - MARK_KEPT));
                    }
                    return Ok(());
                }
                Tried::Failed(e) => return Err(if in_doubt.get() { SqlError::Unconfirmed(e.to_string()) } else { e }),
                Tried::Again(e) if Instant::now() > until => {
                    return Err(if in_doubt.get() { SqlError::Unconfirmed(e.to_string()) } else { e });
                }
                Tried::Again(e) => {
                    if let Some(key) = key_that_is_there(&e) {
                        taken += 1;
                        if taken > COINCIDENCES {
                            return Err(SqlError::Taken(key));
                        }
                    }
                    // Not all at the same moment.
                    let part = u32::from(mark[usize::from(mark[15]) % 15]);
                    std::thread::sleep(pause / 2 + pause * part / 255);
                    pause = (pause * 2).min(Duration::from_millis(500));
                }
            }
        }
    }

    fn failed(&self, source: SqlError) -> Error {
        let url = self.settings.url.clone();
        match source {
            SqlError::Taken(label) => Error::LabelTaken { label },
            SqlError::Unconfirmed(why) => Error::LedgerUnconfirmed { url, why },
            source => Error::LedgerUnreachable { url, source, notes: self.settings.notes.clone() },
        }
    }

    fn directory(&self) -> &Path {
        &self.data
    }
}
