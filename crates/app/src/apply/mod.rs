//! A lab made to match one file: only what differs is done, and one thing that fails does not hold up the rest.

mod authorities;
mod certificates;
mod proofs;
mod surroundings;
mod target;
mod withdrawn;

use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::interact::Task;
use crate::output::absolute;
use crate::report::{Certificate, Outcome};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::lab::file::{self, Lab};
use tamga_core::error::{Error, Kind};
use tamga_core::vocabulary::text::Shown;
use tamga_host::{fs, places as machine};

/// The file's usual name.
pub const USUAL: &str = "tamga.toml";

/// What to apply, and how.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The file; None for `tamga.toml` in the current directory.
    pub file: Option<PathBuf>,
    /// Only these certificates and authorities; empty for everything.
    pub only: Vec<String>,
    /// Carry out the checks of the file even if nothing was changed.
    pub check: bool,
    /// Withdraw what an earlier run made for this file and the file lists no more.
    pub prune: bool,
    /// Opens keys.
    pub secret: Secret,
}

tamga_core::words! {
    /// What a row is about.
    pub enum What: "part" {
        /// An authority.
        Authority = "authority",
        /// A certificate.
        Certificate = "certificate",
        /// Files from which a server reads.
        Place = "place",
        /// A root in a store.
        Store = "store",
        /// Names in the hosts file.
        Hosts = "hosts",
        /// A check of the file.
        Check = "check",
    }
}

tamga_core::words! {
    /// What became of it.
    pub enum Change: "change" {
        /// An authority was made.
        Made = "made",
        /// An authority may certify more names.
        Permitted = "permitted",
        /// A certificate was issued.
        Issued = "issued",
        /// A certificate was renewed.
        Renewed = "renewed",
        /// A file was put right.
        PutRight = "put right",
        /// Files were put where a server reads them.
        Put = "put",
        /// A root or names were added.
        Added = "added",
        /// A check held.
        Held = "held",
        /// It was withdrawn: it is no longer in the file.
        Withdrawn = "withdrawn",
        /// It is no longer in the file, and still there.
        Unlisted = "unlisted",
        /// It would be done.
        Would = "would",
        /// It failed.
        Failed = "failed",
    }
}

/// One thing that was done, or was to be.
#[derive(Clone, Debug)]
pub struct Row {
    /// What it is about.
    pub what: What,
    /// Which one.
    pub about: String,
    /// What became of it.
    pub change: Change,
    /// Why.
    pub why: String,
    /// What to do about it.
    pub remedy: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct RowView<'a> {
    what: &'static str,
    about: &'a str,
    change: &'static str,
    why: &'a str,
    remedy: Option<&'a str>,
}

crate::report::schema_as!(Row => RowView<'static>);

impl Serialize for Row {
    fn serialize<S: serde::Serializer>(&self, s: S) -> std::result::Result<S::Ok, S::Error> {
        RowView {
            what: self.what.word(),
            about: &self.about,
            change: self.change.word(),
            why: &self.why,
            remedy: self.remedy.as_deref(),
        }
        .serialize(s)
    }
}

/// What was done, or would be.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Everything that differed.
    pub changes: Vec<Row>,
    /// The certificates that were changed.
    pub certificates: Vec<Certificate>,
    /// True if nothing was done.
    pub dry_run: bool,
    /// The directory of the file, from which its paths are meant.
    #[serde(skip)]
    pub base: PathBuf,
    #[serde(skip)]
    outcome: Outcome,
}

impl Report {
    /// Good if everything is as the file says; bad if something could not be made so.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }
}

/// One run.
struct Run<'a> {
    env: &'a Env,
    request: &'a Request,
    lab: Lab,
    /// The file, absolute.
    path: PathBuf,
    rows: Vec<Row>,
    /// The certificates that were as they should be.
    standing: Vec<Issued>,
    outcome: Outcome,
}

/// Makes the lab match the file.
///
/// Errors: the file is missing, malformed, or could have been written by somebody else; another run of `apply` does not end. What
/// fails in between is in the report.
pub fn apply(env: &Env, request: &Request) -> Result<Report> {
    let given = request.file.clone().unwrap_or_else(|| USUAL.into());
    if request.file.is_none() && !env.disk().exists(&given) {
        return Err(Error::Objection {
            code: "no-file",
            what: format!("there is no {USUAL} in this directory"),
            why: "it says what the lab is to have, and nothing else is done".into(),
            instead: format!("begin with one: tamga apply --example > {USUAL}; or name another: tamga apply FILE"),
        }
        .into());
    }
    refuse_if_open(env)?;
    let (path, text) = match given == Path::new(fs::STDIN) {
        // Paths in it are from here; nobody but the caller wrote it.
        true => (absolute(&given)?, env.disk().read_named(&given)?),
        // It says what is run and written: for a user too it must be the user's own.
        false => {
            let path = env.disk().resolved(&given).map_err(tamga_host::error::Error::file("reading", &given))?;
            let text = env.disk().read_trusted(&path)?;
            (path, text)
        }
    };
    let text = std::str::from_utf8(&text)
        .map_err(|_| Error::Malformed { what: given.shown(), why: "it is not UTF-8 text".into() })?;
    let base = absolute(fs::parent(&path))?;
    let lab = file::read(text, &given.shown(), &base)?;
    let env = &match &lab.ledger {
        Some(address) => env.with_ledger(address),
        None => env.clone(),
    };
    let mut run = Run { env, request, lab, path, rows: Vec::new(), standing: Vec::new(), outcome: Outcome::Good };
    run.refuse_unknown_labels()?;
    run.go()?;
    run.report(base)
}

/// As root nothing is done that somebody else could have written: not the file, not the program, not the data directory.
fn refuse_if_open(env: &Env) -> Result<()> {
    if !env.machine.acts_as_root() {
        return Ok(());
    }
    machine::refuse_if_open(&env.machine)?;
    if let Ok(program) = std::env::current_exe() {
        env.disk().refuse_if_replaceable(fs::parent(&program))?;
    }
    Ok(())
}

impl Run<'_> {
    /// Labels that were asked for and that the file does not have are mistyped.
    fn refuse_unknown_labels(&self) -> Result<()> {
        let authorities = self.lab.authorities.iter().map(|a| &a.label);
        let known: Vec<String> =
            authorities.chain(self.lab.certificates.iter().map(|c| &c.label)).map(ToString::to_string).collect();
        match self.request.only.iter().find(|l| !known.contains(l)) {
            None => Ok(()),
            Some(l) => Err(Error::LabelUnknown { label: l.clone(), sought: "label in the file", known }.into()),
        }
    }

    fn is_meant(&self, label: &str) -> bool {
        self.request.only.is_empty() || self.request.only.iter().any(|l| l == label)
    }

    /// True if the whole file is meant.
    fn is_whole(&self) -> bool {
        self.request.only.is_empty()
    }

    fn base(&self) -> &Path {
        fs::parent(&self.path)
    }

    fn go(&mut self) -> Result<()> {
        // What interrupted work left is finished or undone first, and reported.
        let _locks = match self.env.dry_run {
            true => None,
            false => Some(self.env.open_for_apply()?),
        };
        self.stage("authorities", Run::authorities)?;
        let changed = self.stage("certificates", Run::certificates)?;
        self.stage("files of the servers", |run| run.targets(&changed))?;
        if self.is_whole() {
            self.stage("trust stores", Run::stores)?;
            self.hosts();
            self.stage("what the file no longer lists", Run::withdraw)?;
        }
        let nothing = self.rows.iter().all(|r| r.change == Change::Unlisted);
        if self.is_whole() && !self.env.dry_run && (self.request.check || !nothing) {
            // Servers may be slow: nobody else waits for them at the lock.
            let env = self.env;
            env.unlocked(|| self.stage("checks", Run::checks))??;
        }
        Ok(())
    }

    /// One part of the work, which the caller sees while it lasts.
    fn stage<T>(&mut self, what: &str, work: impl FnOnce(&mut Self) -> T) -> T {
        let _shown = self.env.caller.progress(Task::One(what));
        work(self)
    }

    fn row(&mut self, what: What, about: impl Into<String>, change: Change, why: impl Into<String>) {
        let change = if self.env.dry_run { Change::Would } else { change };
        self.rows.push(Row { what, about: about.into(), change, why: why.into(), remedy: None });
    }

    /// Something that the file asks for and that is not there: the rest goes on.
    fn lacking(&mut self, what: What, about: impl Into<String>, why: impl Into<String>, remedy: Option<String>) {
        self.rows.push(Row { what, about: about.into(), change: Change::Failed, why: why.into(), remedy });
        self.outcome = self.outcome.worst(Outcome::Bad);
    }

    fn failed(&mut self, what: What, about: impl Into<String>, failure: &Failure) {
        let diagnostic = &failure.0;
        self.lacking(what, about, format!("{}: {}", diagnostic.what(), diagnostic.why()), Some(diagnostic.remedy()));
        if diagnostic.kind() == Kind::Stuck {
            self.outcome = self.outcome.worst(Outcome::Stuck);
        }
    }

    fn report(self, base: PathBuf) -> Result<Report> {
        let changed = self.rows.iter().filter(|r| r.what == What::Certificate && r.change != Change::Failed);
        let labels: BTreeSet<&str> = changed.map(|r| r.about.as_str()).collect();
        let certificates = match self.env.open_to_look()? {
            Some(l) => labels.iter().filter_map(|w| l.current(w).ok().flatten()).collect(),
            None => Vec::new(),
        };
        Ok(Report {
            certificates: certificates.into_iter().map(Certificate::with_all_files).collect(),
            changes: self.rows,
            dry_run: self.env.dry_run,
            base,
            outcome: self.outcome,
        })
    }
}
