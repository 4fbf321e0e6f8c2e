//! The way to a file: owner, group, mode and access-control list of every directory on it.

use crate::error::{Error, Result};
use crate::platform;
use std::path::{Path, PathBuf};
use tamga_core::deploy::access::{Account, Acl, Stop};
use tamga_core::plan::ports::Look;

/// Every directory on the way to a file, as written and as links lead, then the file.
///
/// Errors: something on the way cannot be looked at.
pub fn way(file: &Path) -> Result<Vec<Stop>> {
    let absolute = std::path::absolute(file).map_err(Error::file("finding", file))?;
    let real = std::fs::canonicalize(&absolute).map_err(Error::file("finding", file))?;
    let mut paths: Vec<PathBuf> = Vec::new();
    for start in [&absolute, &real] {
        let mut above: Vec<PathBuf> = start.ancestors().skip(1).map(Path::to_path_buf).collect();
        above.reverse();
        paths.extend(above);
    }
    paths.push(real);
    let mut out: Vec<Stop> = Vec::new();
    for path in paths {
        if out.iter().any(|s| s.path == path) {
            continue;
        }
        let meta = std::fs::metadata(&path).map_err(Error::file("looking at", &path))?;
        let acl = platform::access_list(&path).and_then(|value| Acl::read(&value));
        let (owner, group) = platform::owner(&meta);
        out.push(Stop { folder: meta.is_dir(), owner, group, mode: platform::mode(&meta), path, acl });
    }
    Ok(out)
}

/// True if every account of this machine can read a file: its mode lets others, and so does every directory on the way. Not where a
/// mount keeps others out: a secret of a container is a file, or lies in a directory, that is mounted for it alone.
pub fn is_open_to_all(file: &Path) -> bool {
    const OTHERS_READ: u32 = 0o004;
    const OTHERS_ENTER: u32 = 0o001;
    let Ok(way) = way(file) else { return false };
    let Some((last, folders)) = way.split_last() else { return false };
    let open = |stop: &Stop| stop.mode & if stop.folder { OTHERS_ENTER } else { OTHERS_READ } != 0;
    let regular = std::fs::metadata(file).is_ok_and(|m| m.is_file());
    regular && open(last) && folders.iter().all(open) && !platform::is_mounted_alone(&last.path)
}

/// An account of this machine, by name or number.
pub fn account(look: &dyn Look, typed: &str) -> Option<Account> {
    let text = |path: &str| String::from_utf8_lossy(&look.read(Path::new(path)).unwrap_or_default()).into_owned();
    Account::find(typed, &text("/etc/passwd"), &text("/etc/group"))
}

/// The name of an owner, or its number.
pub fn owner_name(look: &dyn Look, uid: u32) -> String {
    account(look, &uid.to_string()).map_or_else(|| uid.to_string(), |a| a.name)
}
