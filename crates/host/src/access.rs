//! The way to a file: owner, group, mode and access-control list of every folder on it.

use crate::error::{Error, Result};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use tamga_core::access::{Account, Acl, Stop};
use tamga_core::ports::Look;

/// The attribute in which Linux keeps an access-control list.
const ACL: &str = "system.posix_acl_access";

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
        let mut value = vec![0; 4096];
        let acl = rustix::fs::getxattr(&path, ACL, value.as_mut_slice()).ok().and_then(|n| Acl::read(&value[..n]));
        out.push(Stop {
            folder: meta.is_dir(),
            owner: meta.uid(),
            group: meta.gid(),
            mode: meta.mode() & 0o7777,
            path,
            acl,
        });
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
