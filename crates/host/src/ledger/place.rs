//! Where the ledger is: what was typed, `TAMGA_LEDGER`, or the data directory's `ledger.toml`; without any of them a file in it.

use super::sql::{Around, Place, Pool, Postgres, Read, Settings, Sqlite, Store as _, is_postgres};
use super::transfer::{self, Transferred};
use super::{Ledger, Ledgers, StoreExt as _, set_aside};
use crate::entropy;
use crate::error::{Error, Result};
use crate::fs;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use tamga_core::plan::ports::Entropy as _;
use tamga_core::vocabulary::text::{Shown as _, hex};
use tamga_core::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

/// The ledger's address, where it is not in the data directory.
pub const VARIABLE: &str = "TAMGA_LEDGER";
/// What says where the ledger is.
pub const FILE: &str = "ledger.toml";
/// No file of ours or of libpq's is larger.
const FILE_BYTES: u64 = 1 << 20;

/// Where a ledger is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Address {
    /// A file of SQLite's.
    File(PathBuf),
    /// A database on a server, by its URL.
    Server(String),
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Address::File(path) => f.write_str(&path.shown()),
            Address::Server(url) => f.write_str(&url.shown()),
        }
    }
}

/// What `ledger.toml` says.
#[derive(Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Noted {
    /// The address; none for the file in the data directory.
    url: Option<String>,
    /// This machine's name in the ledger.
    host: Option<String>,
    /// What tells this data directory from another of the same name.
    identity: Option<String>,
    /// What this machine marks its rows with: nobody else knows it.
    secret: Option<Zeroizing<String>>,
    /// Where it was about to be moved.
    moving: Option<Moving>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Moving {
    url: String,
    attempt: String,
}

/// The ledger of a data directory, wherever it is.
#[derive(Clone, Debug)]
pub struct Chosen {
    named: Option<String>,
    variables: BTreeMap<String, String>,
    home: PathBuf,
    pool: Pool,
}

/// An open ledger of a known kind.
enum Opened {
    Sqlite(Box<Sqlite>),
    Postgres(Box<Postgres>),
}

impl Opened {
    fn boxed(self) -> Box<dyn Ledger> {
        match self {
            Opened::Sqlite(l) => l,
            Opened::Postgres(l) => l,
        }
    }

    fn has_arrived(&self, attempt: &str) -> Result<bool> {
        match self {
            Opened::Sqlite(l) => l.look(|db| transfer::has_arrived(db, attempt)),
            Opened::Postgres(l) => l.look(|db| transfer::has_arrived(db, attempt)),
        }
    }

    fn is_empty(&self) -> Result<bool> {
        match self {
            Opened::Sqlite(l) => l.look(transfer::is_empty),
            Opened::Postgres(l) => l.look(transfer::is_empty),
        }
    }

    /// Copies another ledger into this one, in one transaction of each.
    fn take_over(&self, from: &Opened, attempt: &str, now: Timestamp) -> Result<Transferred> {
        let copy = |source: &dyn super::Database, target: &dyn super::Database| {
            let done = transfer::copy(source, target)?;
            transfer::arrived(target, attempt, now)?;
            Ok(done)
        };
        // The source is locked for writing meanwhile: what it would get then would be lost.
        let done = match (from, self) {
            (Opened::Sqlite(from), Opened::Sqlite(to)) => from.write(|f| Ok(to.write(|t| copy(f, t))))?,
            (Opened::Sqlite(from), Opened::Postgres(to)) => from.write(|f| Ok(to.write(|t| copy(f, t))))?,
            (Opened::Postgres(from), Opened::Sqlite(to)) => from.write(|f| Ok(to.write(|t| copy(f, t))))?,
            (Opened::Postgres(from), Opened::Postgres(to)) => from.write(|f| Ok(to.write(|t| copy(f, t))))?,
        };
        if let (Ok(_), Opened::Postgres(to)) = (&done, self) {
            to.settle();
        }
        done
    }
}

/// What came of a move.
#[derive(Clone, Debug)]
pub struct Moved {
    /// Where it was.
    pub from: Address,
    /// Where it is now.
    pub to: Address,
    /// This machine's name in it; None in a file.
    pub host: Option<String>,
    /// What was copied; None if there was nothing, and this machine joined a ledger that was there.
    pub copied: Option<Transferred>,
    /// Where the file that it was before lies now.
    pub aside: Option<PathBuf>,
}

impl Chosen {
    /// `named` is what was typed; `variables` are the environment.
    pub fn new(named: Option<String>, variables: BTreeMap<String, String>, home: PathBuf) -> Chosen {
        Chosen { named, variables, home, pool: Pool::default() }
    }

    /// The same with an address that a file names, where nothing was typed and no variable is set.
    #[must_use]
    pub fn or(self, address: &str) -> Chosen {
        let named = self.named.clone().or_else(|| self.variables.get(VARIABLE).cloned());
        Chosen { named: Some(named.unwrap_or_else(|| address.to_owned())), ..self }
    }

    fn noted(&self, data: &Path) -> Result<Noted> {
        let path = data.join(FILE);
        let Some((bytes, _)) = read_small(&path) else { return Ok(Noted::default()) };
        let text = String::from_utf8_lossy(&bytes);
        toml::from_str(&text).map_err(|e| Error::LedgerUrl {
            url: path.shown(),
            why: tamga_core::vocabulary::text::harmless(e.message()),
        })
    }

    fn note(data: &Path, noted: &Noted) -> Result<()> {
        let quoted = |text: &str| serde_json::Value::from(text).to_string();
        let mut out = Zeroizing::new(String::new());
        out.push_str(
            "# Where the ledger of this data directory is: tamga ledger status. Changed by tamga ledger move.\n",
        );
        for (name, value) in [("url", &noted.url), ("host", &noted.host), ("identity", &noted.identity)] {
            if let Some(value) = value {
                out.push_str(&format!("{name} = {}\n", quoted(value)));
            }
        }
        if let Some(secret) = &noted.secret {
            out.push_str(&format!("secret = {}\n", quoted(secret)));
        }
        if let Some(m) = &noted.moving {
            out.push_str(&format!("\n[moving]\nurl = {}\nattempt = {}\n", quoted(&m.url), quoted(&m.attempt)));
        }
        fs::write_whole(&data.join(FILE), out.as_bytes(), 0o600)
    }

    /// What an address means: `postgres://…`, `sqlite:` or `sqlite:PATH`.
    fn address(data: &Path, url: &str) -> Result<Address> {
        if is_postgres(url) {
            return Ok(Address::Server(url.to_owned()));
        }
        match url.strip_prefix("sqlite:") {
            Some("") => Ok(Address::File(Sqlite::file(data))),
            Some(path) => {
                let path = Path::new(path);
                Ok(Address::File(std::path::absolute(path).unwrap_or_else(|_| path.to_owned())))
            }
            None => Err(Error::LedgerUrl {
                url: url.to_owned(),
                why: "it begins neither with postgres:// nor with sqlite:".into(),
            }),
        }
    }

    /// Where the ledger is.
    ///
    /// Errors: an address that is none; a `ledger.toml` that does not read.
    pub fn whereabouts(&self, data: &Path) -> Result<Address> {
        let named = self.named.clone().or_else(|| self.variables.get(VARIABLE).cloned());
        match named {
            Some(url) => Chosen::address(data, &url),
            None => match self.noted(data)?.url {
                Some(url) => Chosen::address(data, &url),
                None => Ok(Address::File(Sqlite::file(data))),
            },
        }
    }

    /// The name of this machine in a ledger that several share.
    fn host(&self, data: &Path) -> Result<String> {
        Ok(self.noted(data)?.host.unwrap_or_else(crate::platform::host_name))
    }

    fn opened(&self, data: &Path, address: &Address, make: bool) -> Result<Option<Opened>> {
        match address {
            Address::File(path) if !make && !path.exists() => Ok(None),
            Address::File(path) => Ok(Some(Opened::Sqlite(Box::new(Sqlite::open_at(data, path)?)))),
            Address::Server(url) => {
                let noted = self.noted(data)?;
                // A database without our tables may be the wrong one: only a move makes them.
                match self.connected(data, url, &noted, false) {
                    Err(Error::LedgerAbsent { .. }) => Ok(None),
                    ledger => Ok(Some(Opened::Postgres(Box::new(ledger?)))),
                }
            }
        }
    }

    fn connected(&self, data: &Path, url: &str, noted: &Noted, make: bool) -> Result<Postgres> {
        let (Some(host), Some(secret)) = (&noted.host, &noted.secret) else {
            return Err(Error::LedgerNotJoined { url: tamga_core::vocabulary::text::harmless(&without_password(url)) });
        };
        let account = self.variables.get("USER").or(self.variables.get("LOGNAME")).cloned();
        let around = Around {
            variable: &|name| self.variables.get(name).cloned(),
            home: &self.home,
            read: &read_small,
            account,
        };
        let settings = Settings::read(url, &around).map_err(|why| Error::LedgerUrl {
            url: tamga_core::vocabulary::text::harmless(&without_password(url)),
            why,
        })?;
        Postgres::open(settings, Place { data, host, secret: secret.as_bytes(), roots }, self.pool.clone(), make)
    }

    /// The ledger as it is now: where a move was interrupted, it is where the copy arrived.
    fn current(&self, data: &Path, make: bool, settle: bool) -> Result<Option<Opened>> {
        let address = self.whereabouts(data)?;
        let noted = self.noted(data)?;
        let is_named = self.named.is_some() || self.variables.contains_key(VARIABLE);
        if let Some(moving) = noted.moving.as_ref().filter(|_| !is_named) {
            let to = Chosen::address(data, &moving.url)?;
            if let Some(target) = self.opened(data, &to, false)?
                && target.has_arrived(&moving.attempt)?
            {
                if settle {
                    Chosen::settle(data, &noted, &to, entropy::now())?;
                }
                return Ok(Some(target));
            }
            if settle {
                Chosen::note(data, &Noted { moving: None, ..noted })?;
            }
        }
        self.opened(data, &address, make)
    }

    /// From now on the ledger is there. Nothing writes into a file of the data directory that was it: it is moved aside; its new place.
    fn settle(data: &Path, noted: &Noted, to: &Address, now: Timestamp) -> Result<Option<PathBuf>> {
        let url = match to {
            Address::Server(url) => Some(url.clone()),
            Address::File(path) if *path == Sqlite::file(data) => None,
            Address::File(path) => Some(format!("sqlite:{}", path.to_string_lossy())),
        };
        // First: stopped in between, the next run finds that the copy arrived and comes here again.
        let aside = if url.is_some() { set_aside(data, "moved", now)? } else { None };
        Chosen::note(data, &Noted { url, moving: None, ..noted.clone() })?;
        Ok(aside)
    }

    /// Moves the ledger. The caller holds the data directory's lock. `host` is this machine's name there.
    ///
    /// Errors: a target that has a ledger already, if this one has something in it; a name that another machine has there; either database's.
    pub fn relocate(&self, data: &Path, to: &str, host: Option<&str>, now: Timestamp) -> Result<Moved> {
        let target_address = Chosen::address(data, to)?;
        // An address for one command alone is not what is moved.
        let mut noted_only = Chosen { named: None, ..self.clone() };
        noted_only.variables.remove(VARIABLE);
        let source = noted_only.current(data, false, true)?;
        let from = noted_only.whereabouts(data)?;
        if from == target_address {
            return Err(Error::LedgerHere { url: target_address.to_string() });
        }
        fs::make_directory(data, 0o700)?;
        let mut noted = self.noted(data)?;
        if matches!(target_address, Address::Server(_)) {
            noted.host = Some(host.map_or_else(|| self.host(data), |h| Ok(h.to_owned()))?);
        }
        if noted.identity.is_none() {
            let mut bytes = [0; 16];
            entropy::System.fill(&mut bytes);
            noted.identity = Some(hex(&bytes));
        }
        if noted.secret.is_none() {
            let mut bytes = Zeroizing::new([0; 32]);
            entropy::System.fill(&mut *bytes);
            noted.secret = Some(Zeroizing::new(hex(&*bytes)));
        }
        let mut attempt = [0; 16];
        entropy::System.fill(&mut attempt);
        let attempt = hex(&attempt);
        // What names this machine there is kept before it is said there.
        Chosen::note(data, &noted)?;
        let (name, identity) = (noted.host.clone().unwrap_or_default(), noted.identity.clone().unwrap_or_default());
        let target = match &target_address {
            Address::Server(url) => {
                let ledger = self.connected(data, url, &noted, true)?;
                if !ledger.is_known_as(&identity)? {
                    return Err(Error::LedgerName { url: url.clone(), host: name });
                }
                Opened::Postgres(Box::new(ledger))
            }
            Address::File(path) => Opened::Sqlite(Box::new(Sqlite::open_at(data, path)?)),
        };
        let copied = match &source {
            Some(source) if !source.is_empty()? => {
                if !target.is_empty()? {
                    return Err(Error::LedgerOccupied { url: target_address.to_string() });
                }
                noted.moving = Some(Moving { url: to.to_owned(), attempt: attempt.clone() });
                Chosen::note(data, &noted)?;
                Some(target.take_over(source, &attempt, now)?)
            }
            _ => None,
        };
        drop(source);
        let aside = Chosen::settle(data, &noted, &target_address, now)?;
        let host = matches!(target_address, Address::Server(_)).then_some(name);
        Ok(Moved { from, to: target_address, host, copied, aside })
    }
}

impl Ledgers for Chosen {
    fn is_there(&self, data: &Path) -> bool {
        match self.whereabouts(data) {
            Ok(Address::File(path)) => path.exists(),
            Ok(Address::Server(_)) => true,
            Err(_) => false,
        }
    }

    fn place(&self, data: &Path) -> PathBuf {
        match self.whereabouts(data) {
            Ok(Address::File(path)) => path,
            Ok(Address::Server(url)) => url.into(),
            Err(_) => data.join(FILE),
        }
    }

    fn layout(&self, data: &Path) -> Result<Option<i64>> {
        match self.whereabouts(data)? {
            Address::File(path) => Sqlite::layout(&path),
            address @ Address::Server(_) => match self.opened(data, &address, false)? {
                Some(Opened::Postgres(l)) => l.version().map_err(|e| l.failed(e)),
                _ => Ok(None),
            },
        }
    }

    fn open(&self, data: &Path) -> Result<Box<dyn Ledger>> {
        match self.current(data, true, true)? {
            Some(opened) => Ok(opened.boxed()),
            None => Err(Error::LedgerAbsent { url: self.whereabouts(data)?.to_string() }),
        }
    }

    fn open_existing(&self, data: &Path) -> Result<Option<Box<dyn Ledger>>> {
        Ok(self.current(data, false, false)?.map(Opened::boxed))
    }

    fn chosen(&self) -> Option<&Chosen> {
        Some(self)
    }
}

/// A URL without what should not have been in it.
fn without_password(url: &str) -> String {
    let Some((scheme, rest)) = url.split_once("://") else { return url.to_owned() };
    let (authority, after) = rest.split_at(rest.find(['/', '?']).unwrap_or(rest.len()));
    match authority.rsplit_once('@').and_then(|(user, hosts)| Some((user.split_once(':')?.0, hosts))) {
        Some((user, hosts)) => format!("{scheme}://{user}@{hosts}{after}"),
        None => url.to_owned(),
    }
}

/// A small file's bytes, and whether others may read it; None if there is none.
fn read_small(path: &Path) -> Option<Read> {
    let (file, _) = crate::platform::open_regular(path).ok()?;
    let open = crate::platform::is_open_to_others(&file);
    let mut bytes = Zeroizing::new(Vec::new());
    file.take(FILE_BYTES + 1).read_to_end(&mut bytes).ok().filter(|n| *n as u64 <= FILE_BYTES)?;
    Some((bytes, open))
}

/// The roots by which a server is known: those of the data directory's authorities, and the system's.
fn roots(data: &Path) -> Vec<Vec<u8>> {
    use tamga_core::ca::authority::CERTIFICATE_FILE;
    use tamga_core::pki::format::pem;
    use tamga_core::stores::trust::families;
    let own = std::fs::read_dir(data.join("authorities")).into_iter().flatten().flatten();
    let own = own.map(|e| e.path().join(CERTIFICATE_FILE));
    let bundles = families::ALL.into_iter().map(|f| PathBuf::from(f.bundle));
    own.chain(bundles).filter_map(|p| crate::fs::read_regular(&p).ok()).flat_map(|b| pem::certificates(&b)).collect()
}
