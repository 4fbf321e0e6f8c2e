//! A timer that renews what is due, printed or put in place.

use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::output::absolute;
use crate::report;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::deploy::schedule::{self, Job, Kind};
use tamga_core::error::Error as CoreError;
use tamga_core::plan::ports::Commands;
use tamga_host::error::Error;
use tamga_host::{act, platform};

/// What to do.
#[derive(Clone, Debug)]
pub struct Request {
    /// The scheduler; None to see which there are.
    pub kind: Option<Kind>,
    /// Put it in place and switch it on.
    pub install: bool,
    /// The file with the passphrase of the authority's key.
    pub passphrase_file: Option<PathBuf>,
}

/// What is there, or was done.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Report {
    /// The schedulers that there are.
    Kinds {
        /// They.
        schedules: Vec<Schedule>,
    },
    /// The files of one.
    Parts {
        /// The scheduler.
        #[serde(serialize_with = "word")]
        #[schemars(with = "String")]
        kind: Kind,
        /// They.
        parts: Vec<Part>,
    },
    /// It would be installed.
    Planned {
        /// The scheduler.
        #[serde(serialize_with = "word")]
        #[schemars(with = "String")]
        kind: Kind,
        /// What would be done.
        steps: Vec<String>,
        /// True.
        dry_run: bool,
    },
    /// It is installed.
    Installed {
        /// The scheduler.
        #[serde(serialize_with = "word")]
        #[schemars(with = "String")]
        kind: Kind,
        /// False if it was there already.
        changed: bool,
    },
}

/// A scheduler.
#[derive(Clone, Copy, Debug, Serialize, JsonSchema)]
pub struct Schedule {
    /// Its word.
    pub kind: &'static str,
    /// True if this system has it.
    pub possible: bool,
    /// True if ours is in it.
    pub installed: bool,
    /// What it is.
    #[serde(skip)]
    pub title: &'static str,
}

/// A file of a timer.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Part {
    /// Where it belongs.
    #[serde(serialize_with = "report::path_or_null")]
    #[schemars(with = "Option<String>")]
    pub place: Option<PathBuf>,
    /// What it says.
    pub text: String,
}

fn word<S: serde::Serializer>(kind: &Kind, s: S) -> std::result::Result<S::Ok, S::Error> {
    s.serialize_str(kind.word())
}

/// Lists the schedulers, prints one's files, or installs them.
///
/// Errors: the scheduler is not installed; its files cannot be written.
pub fn schedule(env: &Env, request: &Request) -> Result<Report> {
    let mut job = job(env)?;
    job.passphrase_file = request.passphrase_file.as_deref().map(absolute).transpose()?;
    if let Some(file) = &job.passphrase_file {
        // A timer that fails every night is worse than an error now.
        env.disk().read_named(file)?;
    }
    let Some(kind) = request.kind else { return Ok(kinds(env, &job)) };
    if !request.install {
        let parts = schedule::parts(kind, &job, &env.machine).into_iter();
        let parts = parts.map(|p| Part { place: p.place, text: p.text }).collect();
        return Ok(Report::Parts { kind, parts });
    }
    if env.machine.program(kind.program()).is_none() {
        let program = kind.program().to_owned();
        let possible = Kind::ALL.into_iter().filter(|k| env.machine.program(k.program()).is_some());
        let possible: Vec<&str> = possible.map(Kind::word).collect();
        return Err(CoreError::Objection {
            code: "scheduler-missing",
            what: format!("{} is not possible here", kind.word()),
            why: format!("{program} is not installed"),
            instead: match possible.as_slice() {
                [] => "install a scheduler, or run tamga renew by hand".into(),
                all => format!("choose one that is possible here: {}", all.join(", ")),
            },
        }
        .into());
    }
    let steps = schedule::install(kind, &job, &env.machine)?;
    if env.dry_run {
        let steps = steps.iter().map(|p| p.step.words()).collect();
        return Ok(Report::Planned { kind, steps, dry_run: true });
    }
    act::perform(&env.machine, &steps)?;
    Ok(Report::Installed { kind, changed: !steps.is_empty() })
}

/// What would be run, and whose scheduler runs it.
fn job(env: &Env) -> Result<Job> {
    let program =
        std::env::current_exe().map_err(|source| Error::File { doing: "finding", path: "tamga".into(), source })?;
    let machine = platform::is_root() && env.machine.person.is_none() && env.machine.root().is_none();
    Ok(Job { program, data: env.machine.data().to_owned(), machine, passphrase_file: None })
}

fn kinds(env: &Env, job: &Job) -> Report {
    let one = |kind: Kind| {
        let possible = env.machine.program(kind.program()).is_some();
        let installed = possible && schedule::is_there(kind, job, &env.machine);
        Schedule { kind: kind.word(), possible, installed, title: kind.title() }
    };
    Report::Kinds { schedules: Kind::ALL.into_iter().map(one).collect() }
}

/// Takes every timer of ours away: for each its scheduler's word, and why it stays if it does.
pub(crate) fn clear(env: &Env) -> Vec<(&'static str, std::result::Result<(), Failure>)> {
    let Ok(job) = job(env) else { return Vec::new() };
    let mut out = Vec::new();
    for kind in Kind::ALL {
        let steps = schedule::remove(kind, &job, &env.machine);
        if !steps.is_empty() {
            out.push((kind.word(), act::perform(&env.machine, &steps).map_err(Failure::from)));
        }
    }
    out
}
