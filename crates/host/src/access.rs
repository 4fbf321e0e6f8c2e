//! The way to a file: owner, group, mode and access-control list of every folder on it.

use crate::error::{Error, Result};
use crate::platform;
use std::path::{Path, PathBuf};
use tamga_core::access::{Account, Acl, Stop};
use tamga_core::ports::Look;

/// Every folder on the way to a file, as written and as links lead, then the file.
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

/// An account of this machine, by name or number.
pub fn account(look: &dyn Look, typed: &str) -> Option<Account> {
    let text = |path: &str| String::from_utf8_lossy(&look.read(Path::new(path)).unwrap_or_default()).into_owned();
    Account::find(typed, &text("/etc/passwd"), &text("/etc/group"))
}

/// The name of an owner, or its number.
pub fn owner_name(look: &dyn Look, uid: u32) -> String {
    account(look, &uid.to_string()).map_or_else(|| uid.to_string(), |a| a.name)
}
