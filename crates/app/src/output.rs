//! Files that are written for the person: under the journal, never over another file unasked, never committed by accident.

use crate::env::Env;
use crate::failure::Result;
use crate::interact::Question;
use std::path::{Path, PathBuf};
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::error::Error as HostError;
use tamga_host::fs;
use tamga_host::ledger::{Record, Work};

/// The directory for a label's files, absolute: the ledger must find it again from anywhere.
pub(crate) fn directory(into: Option<&Path>, label: &Label) -> Result<PathBuf> {
    absolute(&into.map_or_else(|| PathBuf::from(label.as_str()), Path::to_path_buf))
}

/// A path from the root, without resolving links.
pub(crate) fn absolute(path: &Path) -> Result<PathBuf> {
    Ok(std::path::absolute(path).map_err(HostError::file("finding", path))?)
}

/// Refuses if one of these names is taken in a directory.
pub(crate) fn unoccupied(directory: &Path, names: &[&str]) -> Result<()> {
    for name in names {
        let path = directory.join(name);
        if path.symlink_metadata().is_ok() {
            return Err(HostError::InTheWay { path }.into());
        }
    }
    Ok(())
}

/// Writes a file whole under the journal: what a killed run or a full disk leaves beside it, perhaps with a key in it, the next run
/// removes.
pub(crate) fn write_journaled(env: &Env, output: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let (_lock, ledger) = env.open_for_change()?;
    let whole = absolute(output)?;
    let said = format!("writing {} was interrupted; run the same command again", output.shown());
    let work = Work::Replace { said, files: vec![whole.into()] };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    let written = fs::write_whole(output, bytes, mode);
    // A staged file that could not even be removed keeps its row.
    if written.is_ok() || fs::unstage(output).is_ok() {
        ledger.finish(id, &work)?;
    }
    Ok(written?)
}

/// Refuses to replace another file of that name without a yes.
pub(crate) fn may_replace(env: &Env, output: &Path, new: &[u8]) -> Result<()> {
    let Ok(there) = fs::read_regular(output) else { return Ok(()) };
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
pub(crate) fn keep_out_of_version_control(output: &Path) -> Result<Option<String>> {
    let file = absolute(output)?;
    let (Some(directory), Some(name)) = (file.parent(), file.file_name().map(|n| n.to_string_lossy().into_owned()))
    else {
        return Ok(None);
    };
    if !directory.ancestors().any(|a| a.join(".git").exists()) {
        return Ok(None);
    }
    let ignore = directory.join(".gitignore");
    const OURS: &str = "# Private keys: never commit them.\n";
    let covered = |line: &str| [name.as_str(), "*"].contains(&line.trim().trim_start_matches('/'));
    let text = match fs::read_to_replace(&ignore).map(|b| String::from_utf8_lossy(&b).into_owned()) {
        Ok(text) if text.lines().any(covered) => return Ok(None),
        Ok(text) if text.starts_with(OURS) => format!("{}\n/{name}\n", text.trim_end()),
        Ok(_) => {
            let place = ignore.shown();
            return Ok(Some(format!("add the line /{name} to {place}: the private key must not be committed")));
        }
        Err(_) => format!("{OURS}/{name}\n"),
    };
    fs::write_whole(&ignore, text.as_bytes(), 0o644)?;
    Ok(Some(format!("{} keeps it out of version control", ignore.shown())))
}
