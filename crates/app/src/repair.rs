//! Putting right what interrupted work left, and a ledger that is damaged or lost.

use crate::env::Env;
use crate::failure::Result;
use crate::report;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::PathBuf;
use tamga_host::ledger::Salvaged;
use tamga_host::{recover, repair};

/// What was found, or put right.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Report {
    /// Nothing was changed.
    Looked {
        /// False.
        repaired: bool,
        /// True in a dry run.
        #[serde(skip_serializing_if = "std::ops::Not::not")]
        dry_run: bool,
        /// What there is.
        #[serde(skip)]
        state: State,
    },
    /// What was put right.
    Repaired(Box<Repaired>),
}

/// What there is to repair.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum State {
    /// There is no data directory.
    Nothing,
    /// The ledger is whole.
    Whole,
    /// The ledger is damaged.
    Damaged,
    /// There is no ledger.
    Missing,
}

/// What was put right.
#[derive(Serialize, JsonSchema)]
pub struct Repaired {
    /// True if anything was.
    pub repaired: bool,
    /// Where a damaged ledger is kept.
    #[serde(serialize_with = "report::path_or_null")]
    #[schemars(with = "Option<String>")]
    pub moved: Option<PathBuf>,
    /// Labels of authorities that were found by their files.
    pub authorities: Vec<String>,
    /// Labels of certificates that were found by their files.
    pub certificates: Vec<String>,
    /// What else there is to know.
    pub notes: Vec<String>,
    /// How much was read from a damaged ledger.
    #[serde(serialize_with = "salvaged")]
    #[schemars(with = "SalvagedView")]
    pub salvaged: Salvaged,
}

#[derive(Serialize, JsonSchema)]
struct SalvagedView {
    authorities: usize,
    certificates: usize,
    revocations: usize,
    events: usize,
}

fn salvaged<S: Serializer>(s: &Salvaged, out: S) -> std::result::Result<S::Ok, S::Error> {
    SalvagedView {
        authorities: s.authorities,
        certificates: s.certificates,
        revocations: s.revocations,
        events: s.events,
    }
    .serialize(out)
}

/// Repairs the data directory; certificate directories below these are taken up if an authority here signed them.
///
/// Errors: files that cannot be read or written.
pub fn repair(env: &Env, directories: &[PathBuf]) -> Result<Report> {
    let data = env.machine.data();
    if !env.disk().exists(data) && directories.is_empty() {
        return Ok(Report::Looked { repaired: false, dry_run: false, state: State::Nothing });
    }
    if env.dry_run {
        let state = match env.machine.ledgers().open_existing(data) {
            Ok(Some(l)) if l.damage()?.is_none() => State::Whole,
            Ok(Some(_)) | Err(_) => State::Damaged,
            Ok(None) => State::Missing,
        };
        return Ok(Report::Looked { repaired: false, dry_run: true, state });
    }
    let _lock = env.disk().lock(data)?;
    let (ledger, done) = repair::repair(data, directories, env.now)?;
    let recovered = recover::recover(&ledger, &env.machine, env.now, env.disk().is_applying(data))?;
    let repaired = !(done.is_nothing() && recovered.is_empty());
    Ok(Report::Repaired(Box::new(Repaired {
        repaired,
        moved: done.moved,
        authorities: done.authorities,
        certificates: done.certificates,
        notes: done.said.into_iter().chain(recovered).collect(),
        salvaged: done.salvaged,
    })))
}
