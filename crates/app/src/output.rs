//! Files that are written for the person: under the journal, never over another file unasked, never committed by accident.

use crate::env::Env;
use crate::failure::Result;
use crate::interact::Question;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::REQUEST_FILE;
use tamga_core::ca::report::Issued;
use tamga_core::error::{Diagnostic, Error, Kind};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::error::Error as HostError;
use tamga_host::ledger::{Record, Waiting, Work};

/// The directory for a label's files, absolute: the ledger must find it again from anywhere.
pub(crate) fn directory(into: Option<&Path>, label: &Label) -> Result<PathBuf> {
    absolute(&into.map_or_else(|| PathBuf::from(label.as_str()), Path::to_path_buf))
}

/// A path from the root, without resolving links.
pub fn absolute(path: &Path) -> Result<PathBuf> {
    Ok(std::path::absolute(path).map_err(HostError::file("finding", path))?)
}

/// A file that is there already and is not replaced.
#[derive(Debug, thiserror::Error)]
#[error("{} already exists", path.shown())]
pub struct Occupied {
    path: PathBuf,
    by: Occupant,
}

/// Whose file it is.
#[derive(Debug)]
enum Occupant {
    /// A certificate in force, in its own directory.
    Certificate(Box<Issued>),
    /// A key that waits for its certificate.
    Waiting(Box<Waiting>),
    /// Nobody's that the ledger knows.
    Unknown,
    /// Not looked up: the file was named by the caller.
    Named,
}

impl Occupied {
    /// By a file that was named with an option.
    pub fn named(path: &Path) -> Occupied {
        Occupied { path: path.to_owned(), by: Occupant::Named }
    }
}

impl Diagnostic for Occupied {
    fn kind(&self) -> Kind {
        Kind::Refused
    }
    fn code(&self) -> &'static str {
        "file-in-the-way"
    }
    fn what(&self) -> String {
        self.to_string()
    }
    fn why(&self) -> String {
        match &self.by {
            Occupant::Certificate(i) => format!(
                "it belongs to the certificate {}, which is valid until {} for {}",
                i.label,
                i.certificate.not_after.date(),
                i.certificate.name_words().join(", ")
            ),
            Occupant::Waiting(w) => format!("it belongs to {}, whose key waits for a signed certificate", w.label),
            Occupant::Unknown => "it is not in the ledger, and Tamga replaces no file that it did not write".into(),
            Occupant::Named => "Tamga never replaces it, so that no key or backup is lost".into(),
        }
    }
    fn remedy(&self) -> String {
        match &self.by {
            Occupant::Certificate(i) => format!(
                "to replace it: tamga renew {0}; to add a name: tamga renew {0} --add NAME; to make another: --into DIR --label TEXT",
                i.label
            ),
            Occupant::Waiting(w) => {
                let receive = if w.is_authority { "authority receive" } else { "receive" };
                format!(
                    "have {} signed, then: tamga {receive} {} --certificate FILE; to make another: --into DIR --label TEXT",
                    w.folder.join(REQUEST_FILE).shown(),
                    w.label
                )
            }
            Occupant::Unknown => "move it away, or choose another directory: --into DIR".into(),
            Occupant::Named => "choose another name, or move the file away first".into(),
        }
    }
}

/// Refuses if one of these names is taken in a directory, and says by what.
pub fn unoccupied(env: &Env, directory: &Path, names: &[&str]) -> Result<()> {
    let taken = names.iter().map(|n| directory.join(n)).find(|path| env.disk().is_taken(path));
    let Some(path) = taken else { return Ok(()) };
    let mut by = Occupant::Unknown;
    if let Some(ledger) = env.open_to_look()? {
        let waiting = ledger.all_waiting()?.into_iter().find(|w| w.folder == directory);
        by = match (ledger.live_in(directory)?, waiting) {
            (Some(issued), _) => Occupant::Certificate(Box::new(issued)),
            (None, Some(waiting)) => Occupant::Waiting(Box::new(waiting)),
            (None, None) => Occupant::Unknown,
        };
    }
    Err(Occupied { path, by }.into())
}

/// Writes a file whole under the journal: what a killed run or a full disk leaves beside it, perhaps with a key in it, the next run
/// removes.
pub fn write_journaled(env: &Env, output: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let (_lock, ledger) = env.open_for_change()?;
    let whole = absolute(output)?;
    let said = format!("writing {} was interrupted; run the same command again", output.shown());
    let work = Work::Replace { said, files: vec![whole.into()] };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    let written = env.disk().write_whole(output, bytes, mode);
    // A staged file that could not even be removed keeps its row.
    if written.is_ok() || env.disk().unstage(output).is_ok() {
        ledger.finish(id, &work)?;
    }
    Ok(written?)
}

/// Refuses to replace another file of that name without a yes.
pub(crate) fn may_replace(env: &Env, output: &Path, new: &[u8]) -> Result<()> {
    let Ok(there) = env.disk().read(output) else { return Ok(()) };
    if **there == *new || env.caller.confirm(Question::ReplaceFile(output)) == Some(true) {
        return Ok(());
    }
    Err(Error::Objection {
        code: "file-exists",
        what: format!("{} is there already", output.shown()),
        why: "a file of yours is not replaced unasked".into(),
        instead: "name another with --output FILE, or replace it with --yes".into(),
    }
    .into())
}

/// Keeps a key out of version control: by a new `.gitignore`, or by a remark with the line to add. None outside of a repository.
pub(crate) fn keep_out_of_version_control(env: &Env, output: &Path) -> Result<Option<String>> {
    let file = absolute(output)?;
    let (Some(directory), Some(name)) = (file.parent(), file.file_name().map(|n| n.to_string_lossy().into_owned()))
    else {
        return Ok(None);
    };
    if !directory.ancestors().any(|a| env.disk().exists(&a.join(".git"))) {
        return Ok(None);
    }
    let ignore = directory.join(".gitignore");
    const OURS: &str = "# Private keys: never commit them.\n";
    let covered = |line: &str| [name.as_str(), "*"].contains(&line.trim().trim_start_matches('/'));
    let text = match env.disk().read_to_replace(&ignore).map(|b| String::from_utf8_lossy(&b).into_owned()) {
        Ok(text) if text.lines().any(covered) => return Ok(None),
        Ok(text) if text.starts_with(OURS) => format!("{}\n/{name}\n", text.trim_end()),
        Ok(_) => {
            let place = ignore.shown();
            return Ok(Some(format!("add the line /{name} to {place}: the private key must not be committed")));
        }
        Err(_) => format!("{OURS}/{name}\n"),
    };
    env.disk().write_whole(&ignore, text.as_bytes(), 0o644)?;
    Ok(Some(format!("{} keeps it out of version control", ignore.shown())))
}
