//! Where the ledger is, whether it is whole, and moving it.

use crate::env::Env;
use crate::failure::Result;
use crate::report::{Answer, Outcome};
use schemars::JsonSchema;
use serde::Serialize;
use std::time::Instant;
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::place::Address;
use tamga_host::ledger::{Chosen, GRANTS, HostCount, LAYOUT, Ledger};

/// Where the ledger is, and what it holds.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Status {
    /// Its file, or its URL.
    pub address: String,
    /// `file` or `server`.
    pub kind: &'static str,
    /// False if there is none yet.
    pub exists: bool,
    /// The number of its layout.
    pub layout: i64,
    /// The name of this machine in it; null in a file.
    pub host: Option<String>,
    /// How long a question and its answer took, in milliseconds; null where there is no ledger.
    pub milliseconds: Option<f64>,
    /// Authorities.
    pub authorities: u64,
    /// Certificates in force.
    pub certificates: u64,
    /// The machines that share it; empty in a file.
    pub hosts: Vec<Host>,
}

/// A machine that shares a ledger.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Host {
    /// Its name.
    pub name: String,
    /// True for the one that asks.
    pub is_this: bool,
    /// Its certificates in force whose files it has.
    pub certificates: u64,
    /// The end of the one that ends first, RFC 3339.
    pub ends_first: Option<String>,
    /// When it did something last, RFC 3339.
    pub latest: Option<String>,
    /// Work that it began and did not finish.
    pub unfinished: u64,
}

impl Host {
    pub(crate) fn of(count: HostCount, this: &str) -> Host {
        Host {
            is_this: count.name == this,
            certificates: count.certificates,
            ends_first: count.ends_first.map(|t| t.to_string()),
            latest: count.latest.map(|t| t.to_string()),
            unfinished: count.unfinished,
            name: count.name,
        }
    }
}

/// The machines that share the ledger.
pub(crate) fn hosts(ledger: &dyn Ledger) -> Result<Vec<Host>> {
    let this = ledger.host()?;
    Ok(match this.is_empty() {
        true => Vec::new(),
        false => ledger.census()?.hosts.into_iter().map(|h| Host::of(h, &this)).collect(),
    })
}

/// The choice of this machine; a ledger in memory has none.
fn chosen(env: &Env) -> Result<&Chosen> {
    env.machine.ledgers().chosen().ok_or_else(|| {
        Error::Objection {
            code: "ledger-in-memory",
            what: "this ledger is in memory".into(),
            why: "it ends with the program".into(),
            instead: "use a data directory".into(),
        }
        .into()
    })
}

/// Looks where it is.
///
/// Errors: it cannot be reached or read.
pub fn status(env: &Env) -> Result<Status> {
    let address = chosen(env)?.whereabouts(env.machine.data())?;
    let kind = if matches!(address, Address::Server(_)) { "server" } else { "file" };
    let mut out = Status {
        address: address.to_string(),
        kind,
        exists: false,
        layout: LAYOUT,
        host: None,
        milliseconds: None,
        authorities: 0,
        certificates: 0,
        hosts: Vec::new(),
    };
    let Some(ledger) = env.open_to_look()? else { return Ok(out) };
    let asked = Instant::now();
    let _ = ledger.newest_event()?;
    out.milliseconds = Some((asked.elapsed().as_secs_f64() * 1e5).round() / 100.0);
    let (census, host) = (ledger.census()?, ledger.host()?);
    (out.exists, out.authorities, out.certificates) = (true, census.authorities, census.certificates);
    if kind == "server" {
        out.hosts = census.hosts.into_iter().map(|h| Host::of(h, &host)).collect();
        out.host = Some(host);
    }
    Ok(out)
}

/// Whether a ledger is whole.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Check {
    /// Its file, or its URL.
    pub address: String,
    /// What is wrong with it; null if it is whole.
    pub damage: Option<String>,
    /// How many certificates in force are in it.
    pub certificates: u64,
}

impl Check {
    /// Bad if it is damaged.
    pub fn outcome(&self) -> Outcome {
        if self.damage.is_none() { Outcome::Good } else { Outcome::Bad }
    }
}

/// Reads every certificate and compares it with the fingerprint under which it was recorded.
///
/// Errors: it cannot be reached.
pub fn check(env: &Env) -> Result<Check> {
    let address = chosen(env)?.whereabouts(env.machine.data())?.to_string();
    let (damage, certificates) = match env.open_to_look()? {
        Some(l) => (l.damage()?, l.census()?.certificates),
        None => (None, 0),
    };
    Ok(Check { address, damage, certificates })
}

/// A ledger that was moved.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Moved {
    /// Where it was.
    pub from: String,
    /// Where it is.
    pub to: String,
    /// The name of this machine in it; null in a file.
    pub host: Option<String>,
    /// True if there was a ledger already, which this machine joins.
    pub joined: bool,
    /// Authorities that were copied.
    pub authorities: usize,
    /// Certificates that were copied.
    pub certificates: usize,
    /// Where the file lies that was the ledger.
    pub aside: Option<String>,
}

/// A ledger that would be moved.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Plan {
    /// Where it is.
    pub from: String,
    /// Where it would be.
    pub to: String,
    dry_run: bool,
}

/// Moves the ledger; where there is one already and this machine has none, joins it.
///
/// Errors: both have something in them; another machine has this name; either cannot be reached.
pub fn relocate(env: &Env, to: &str, host: Option<&Label>) -> Result<Answer<Moved, Plan>> {
    let data = env.machine.data();
    let from = chosen(env)?.whereabouts(data)?;
    if env.dry_run {
        return Ok(Answer::Planned(Plan { from: from.to_string(), to: to.to_owned(), dry_run: true }));
    }
    let _lock = env.disk().lock(data)?;
    let moved = chosen(env)?.relocate(data, to, host.map(Label::as_str), env.now)?;
    let copied = moved.copied.unwrap_or_default();
    Ok(Answer::Done(Moved {
        from: moved.from.to_string(),
        to: moved.to.to_string(),
        host: moved.host,
        joined: moved.copied.is_none() && matches!(moved.to, Address::Server(_)),
        authorities: copied.authorities,
        certificates: copied.certificates,
        aside: moved.aside.map(|p| tamga_core::vocabulary::text::Shown::shown(&p)),
    }))
}

/// The roles that a database needs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Grants {
    /// Statements of SQL, for its administrator.
    pub sql: &'static str,
}

/// The statements that make roles with the least rights.
pub fn grants() -> Grants {
    Grants { sql: GRANTS }
}
