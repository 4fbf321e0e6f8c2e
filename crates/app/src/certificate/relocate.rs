//! A certificate's directory in another place: moved there, or found there.

use super::lookup::current;
use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::keys::certificates;
use crate::output::{absolute, unoccupied};
use crate::report::{self, Answer};
use schemars::JsonSchema;
use serde::Serialize;
use std::io::ErrorKind;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::report::Issued;
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::error::Error as HostError;

/// What to move, and where.
#[derive(Clone, Debug)]
pub struct Request {
    /// The certificate's label.
    pub label: Label,
    /// The directory that is to hold its files.
    pub into: PathBuf,
}

/// What was moved, or would be.
pub type Report = Answer<Done, Plan>;

tamga_core::words! {
    /// How the files came to be where they are.
    pub enum Change: "change" {
        /// They were there, and the ledger knew it.
        None = "none",
        /// The directory was moved.
        Moved = "moved",
        /// They were there already, and the ledger knows it now.
        Adopted = "adopted",
    }
}

/// Where the files are now.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Done {
    /// The certificate's label.
    pub label: Label,
    /// The directory.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub folder: PathBuf,
    /// The directory before.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub before: PathBuf,
    /// How they came to be there.
    #[serde(serialize_with = "change_word")]
    #[schemars(with = "report::OneOf<Change>")]
    pub change: Change,
}

/// What would be done.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Plan {
    dry_run: bool,
    /// The same as if it were done.
    #[serde(flatten)]
    pub done: Done,
}

fn change_word<S: serde::Serializer>(c: &Change, s: S) -> std::result::Result<S::Ok, S::Error> {
    s.serialize_str(c.word())
}

/// Moves a certificate's directory in one step, or takes note that its files are in another one. Stopped between the two, the same
/// call goes on: then the files are there already.
///
/// Errors: the label is unknown; a file exists at the new place; the new place is on another file system or inside the old one.
pub fn relocate(env: &Env, request: &Request) -> Result<Report> {
    let issued = current(env, &request.label)?;
    let to = absolute(&request.into)?;
    let change = match (issued.folder == to, holds(env, &to, &issued)) {
        (true, true) => Change::None,
        (false, true) => Change::Adopted,
        (_, false) => {
            if !holds(env, &issued.folder, &issued) {
                return Err(lost(&issued, &to).into());
            }
            if to.starts_with(&issued.folder) {
                return Err(inside(&issued, &to).into());
            }
            unoccupied(env, &to, &[CERTIFICATE_FILE, KEY_FILE])?;
            Change::Moved
        }
    };
    let done = Done { label: issued.label.clone(), folder: to.clone(), before: issued.folder.clone(), change };
    if env.dry_run {
        return Ok(Answer::Planned(Plan { dry_run: true, done }));
    }
    if change == Change::None {
        return Ok(Answer::Done(done));
    }
    let (_lock, ledger) = env.open_for_change()?;
    if change == Change::Moved {
        env.disk().move_directory(&issued.folder, &to).map_err(|e| not_moved(e, &issued, &to))?;
    }
    ledger.moved(&issued.label, &issued.folder, &to, env.now)?;
    Ok(Answer::Done(done))
}

/// True if this very certificate is in a directory.
fn holds(env: &Env, directory: &Path, issued: &Issued) -> bool {
    certificates(env, &[directory.join(CERTIFICATE_FILE)]).is_ok_and(|all| all.first() == Some(&issued.certificate))
}

/// Another file system is no place for a rename: what to type instead.
fn not_moved(e: HostError, issued: &Issued, to: &Path) -> Failure {
    let is_elsewhere = matches!(&e, HostError::File { source, .. } if source.kind() == ErrorKind::CrossesDevices);
    if !is_elsewhere {
        return e.into();
    }
    let (from, to) = (issued.folder.shown(), to.shown());
    Error::Objection {
        code: "another-file-system",
        what: format!("{from} cannot be moved to {to}"),
        why: "it is on another file system, where a move would not be one step".into(),
        instead: format!("cp -a {from} {to}, then: tamga move {} {to}; remove {from} at the end", issued.label),
    }
    .into()
}

fn inside(issued: &Issued, to: &Path) -> Error {
    Error::Objection {
        code: "directory-inside-itself",
        what: format!("{} cannot be moved to {}", issued.folder.shown(), to.shown()),
        why: "the new directory is inside the old one".into(),
        instead: "choose a directory outside it".into(),
    }
}

fn lost(issued: &Issued, to: &Path) -> Error {
    Error::Objection {
        code: "files-missing",
        what: format!("the files of {} are not in {}", issued.label, issued.folder.shown()),
        why: format!("they are not in {} either, so there is nothing to move", to.shown()),
        instead: format!("name the directory that has them: tamga move {} DIR", issued.label),
    }
}
