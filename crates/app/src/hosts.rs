//! Names in the hosts file, in a marked block.

use crate::env::Env;
use crate::failure::Result;
use crate::report::{self, Answer, Outcome};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::{Path, PathBuf};
use tamga_core::deploy::hosts::{self, Row, State, Wanted};
use tamga_core::plan::ports::Environment;
use tamga_core::plan::ports::Files;
use tamga_core::vocabulary::text::Shown;
use tamga_host::error::Error;
use tamga_host::ledger::{Record, Work};

/// The file that this system's resolver reads first.
#[cfg(not(windows))]
pub const FILE: &str = "/etc/hosts";
/// The file that this system's resolver reads first.
#[cfg(windows)]
pub const FILE: &str = "C:\\Windows\\System32\\drivers\\etc\\hosts";
/// The file of Windows, as its Linux guests see it.
pub const FILE_OF_WINDOWS: &str = "/mnt/c/Windows/System32/drivers/etc/hosts";

/// What to do with the names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verb {
    /// Put them in.
    Add,
    /// Take them out; without a name all of ours.
    Remove,
    /// See how they stand.
    Status,
}

/// Which names, and where.
#[derive(Clone, Debug)]
pub struct Request {
    /// What to do.
    pub verb: Verb,
    /// The names.
    pub names: Vec<Wanted>,
    /// The same as they are typed again, should it not go to the end.
    pub typed: Vec<String>,
    /// Another hosts file.
    pub file: Option<PathBuf>,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// How names stand.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// Every name.
    #[serde(rename = "hosts", serialize_with = "rows")]
    #[schemars(with = "Vec<RowView<'static>>")]
    pub rows: Vec<Row>,
    /// The file.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub file: PathBuf,
    /// Where what it was before is kept, if it was changed now.
    #[serde(skip)]
    pub copy: Option<PathBuf>,
    /// True if it was changed.
    #[serde(skip)]
    pub is_changed: bool,
    /// True if browsers on Windows look into another file, which was not changed.
    #[serde(skip)]
    pub windows_differs: bool,
    #[serde(skip)]
    verb: Option<Verb>,
}

impl Done {
    /// Bad if a name that was asked after leads elsewhere or nowhere; partial if one that was added leads elsewhere.
    pub fn outcome(&self) -> Outcome {
        let elsewhere = self.rows.iter().any(|r| r.state == State::Elsewhere);
        let absent = self.rows.iter().any(|r| r.state == State::Absent);
        match self.verb {
            Some(Verb::Status) if elsewhere || absent => Outcome::Bad,
            Some(Verb::Add) if elsewhere => Outcome::Partial,
            _ => Outcome::Good,
        }
    }
}

/// How names would stand.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    hosts: [(); 0],
    dry_run: bool,
    /// Every name that would change.
    #[serde(skip)]
    pub rows: Vec<Row>,
    /// The file.
    #[serde(skip)]
    pub file: PathBuf,
}

#[derive(Serialize, JsonSchema)]
struct RowView<'a> {
    name: &'a str,
    address: Option<String>,
    state: &'static str,
    change: &'static str,
    why: Option<&'a str>,
}

fn rows<S: Serializer>(all: &[Row], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|r| RowView {
        name: &r.name,
        address: r.address.map(|a| a.to_string()),
        state: r.state.word(),
        change: r.change,
        why: r.why.as_deref(),
    }))
}

/// Adds names to the hosts file, removes them, or looks how they stand.
///
/// Errors: the file cannot be read or written; a name that is none.
pub fn hosts(env: &Env, request: &Request) -> Result<Report> {
    let verb = request.verb;
    let file = request.file.clone().unwrap_or_else(|| FILE.into());
    // Read under the lock: two runs at once do not lose each other's names.
    let _held = match verb != Verb::Status && !env.dry_run {
        true => Some(env.open_for_change()?),
        false => None,
    };
    let text = read(env, &file)?;
    let (rows, is_changed) = match verb {
        Verb::Status => (hosts::status(&text, &request.names)?, false),
        Verb::Add | Verb::Remove => {
            let (plan, word) = match verb {
                Verb::Add => (hosts::add(&text, &request.names)?, "add"),
                _ => (hosts::remove(&text, &request.names)?, "remove"),
            };
            let changed = plan.text != text;
            if changed && env.dry_run {
                let rows = plan.rows.into_iter().filter(|r| r.change != "none").collect();
                return Ok(Answer::Planned(Plan { hosts: [], dry_run: true, rows, file }));
            }
            if changed {
                let again = format!("tamga hosts {word} {}", request.typed.join(" "));
                put(env, &file, &plan, again.trim_end())?;
            }
            (plan.rows, changed)
        }
    };
    let copy = copy_of(&file);
    let copy = (is_changed && env.machine.exists(&copy)).then_some(copy);
    // Programs of Windows look into a file of their own.
    let guest = env.machine.env("WSL_DISTRO_NAME").is_some() && request.file.is_none();
    let windows_differs = guest && verb == Verb::Add && env.machine.exists(Path::new(FILE_OF_WINDOWS));
    Ok(Answer::Done(Done { rows, file, copy, is_changed, windows_differs, verb: Some(verb) }))
}

fn read(env: &Env, file: &Path) -> Result<Vec<u8>> {
    let real = env.machine.real(file);
    match env.disk().read(&real).map(|b| b.to_vec()) {
        Ok(text) => Ok(text),
        Err(e) => Err(Error::file("reading", &real)(e).into()),
    }
}

/// Writes the file with the rights that belong there; the copy of what it was goes when nothing of ours is left in it.
fn put(env: &Env, file: &Path, plan: &hosts::Plan, again: &str) -> Result<()> {
    let real = env.machine.real(file);
    let copy = copy_of(&real);
    // Under the journal: what a killed run leaves beside the file, the next one removes. Where `leave` finds no ledger any more, none
    // is made for it.
    let journaled = match again.starts_with("tamga hosts remove") && env.open_to_look()?.is_none() {
        true => None,
        false => {
            let (lock, ledger) = env.open_for_change()?;
            let said = format!("changing {} was interrupted; run {again} again", file.shown());
            let files = [&real, &copy].map(|f| std::path::absolute(f).unwrap_or_else(|_| f.clone()).into());
            let work = Work::Replace { said, files: files.into() };
            let id = ledger.begin(&work, &Record::Nothing, env.now)?;
            Some((lock, ledger, work, id))
        }
    };
    let done = env.machine.with_rights_for(file, || {
        env.disk().rewrite(&real, &plan.text, &copy)?;
        if plan.has_block { Ok(()) } else { env.disk().remove(&copy) }
    });
    if let Some((_lock, ledger, work, id)) = journaled {
        let clean = || env.disk().unstage(&real).and_then(|()| env.disk().unstage(&copy));
        if done.is_ok() || env.machine.with_rights_for(file, clean).is_ok() {
            ledger.finish(id, &work)?;
        }
    }
    done.map_err(|e| match e {
        Error::File { source, .. } if source.kind() == std::io::ErrorKind::PermissionDenied => {
            Error::NeedsRights { path: file.to_owned(), command: format!("sudo {again}") }.into()
        }
        other => other.into(),
    })
}

/// Where what was there before the last change is kept.
fn copy_of(file: &Path) -> PathBuf {
    let mut name = file.file_name().unwrap_or_default().to_owned();
    name.push(".before-tamga");
    file.with_file_name(name)
}

/// Takes our whole block out. None: there was none.
pub(crate) fn clear(env: &Env) -> Option<Result<()>> {
    let file = Path::new(FILE);
    let text = read(env, file).ok()?;
    let plan = hosts::remove(&text, &[]).ok()?;
    if plan.text == text {
        return None;
    }
    Some(put(env, file, &plan, "tamga hosts remove"))
}
