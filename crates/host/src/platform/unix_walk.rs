//! The way to a directory on Unix: every directory and link from the root down, opened one in the other, and which accounts could
//! replace one of them. What is done in a directory, once it is open, is `unix_dir`.

use crate::error::{Error, Result};
use crate::fs::Allowed;
use crate::platform::users;
use rustix::fs::{self, AtFlags, Mode, OFlags};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

/// Upper bound on links on the way to a directory (the kernel's own limit, path_resolution(7)).
pub(super) const LINKS: usize = 40;

/// Opens a directory that we may enter but perhaps not read.
#[cfg(target_os = "linux")]
const STEP: OFlags = OFlags::PATH;
#[cfg(not(target_os = "linux"))]
const STEP: OFlags = OFlags::RDONLY;

/// A directory or link on the way to a directory.
pub(super) struct Stop {
    pub(super) path: PathBuf,
    /// None for a link.
    pub(super) fd: Option<OwnedFd>,
    pub(super) owner: u32,
    group: u32,
    mode: u32,
}

impl Stop {
    /// Who could replace what lies in it, other than these accounts; None if nobody could.
    pub(super) fn open_to(&self, allowed: &[u32]) -> Option<String> {
        if !allowed.contains(&self.owner) {
            return Some(users::name(self.owner));
        }
        // What lies in a sticky directory is replaced by its owner alone, and that owner is looked at too. A link has no mode.
        let fd = self.fd.as_ref().filter(|_| self.mode & 0o1000 == 0)?;
        open_to_others(fd, self.group, self.mode, allowed)
    }
}

/// Whose write permission, other than these accounts', a file or directory has.
pub(super) fn open_to_others(fd: &OwnedFd, group: u32, mode: u32, allowed: &[u32]) -> Option<String> {
    if mode & 0o002 != 0 {
        return Some("every account".into());
    }
    if mode & 0o020 == 0 {
        return None;
    }
    // With an access-control list the group's bits are the mask of all its entries.
    let acl = super::access_list_of(fd).and_then(|value| tamga_core::deploy::access::Acl::read(&value));
    let groups: Vec<u32> = match &acl {
        Some(acl) => {
            if let Some((uid, _)) = acl.users.iter().find(|(uid, may)| may & 2 != 0 && !allowed.contains(uid)) {
                return Some(users::name(*uid));
            }
            let own = (acl.owning_group & 2 != 0).then_some(group);
            acl.groups.iter().filter(|(_, may)| may & 2 != 0).map(|(gid, _)| *gid).chain(own).collect()
        }
        None => vec![group],
    };
    groups
        .into_iter()
        .find(|gid| !users::is_private(*gid, allowed))
        .map(|gid| format!("every member of the group {}", users::group_name(gid)))
}

/// The accounts that may change what lies on the way, besides `Allowed::Owner`'s.
pub(super) fn trusted(allowed: Allowed) -> Vec<u32> {
    let mut out = vec![0];
    // What we are: root, or the user whose own directories these are.
    out.push(rustix::process::geteuid().as_raw());
    out.extend(users::invoking());
    if let Allowed::Account(uid) = allowed {
        out.push(uid);
    }
    out
}

pub(super) fn failed(doing: &'static str, path: &Path) -> impl FnOnce(Errno) -> Error {
    let wrap = Error::file(doing, path);
    move |e| wrap(e.into())
}

fn stop(path: PathBuf, fd: OwnedFd) -> Result<Stop> {
    let stat = fs::fstat(&fd).map_err(failed("looking at", &path))?;
    Ok(Stop { path, owner: stat.st_uid, group: stat.st_gid, mode: stat.st_mode as u32 & 0o7777, fd: Some(fd) })
}

/// Every directory and link from the root down to a directory, opened one in the other.
pub(super) fn walk(path: &Path) -> Result<Vec<Stop>> {
    let absolute = std::path::absolute(path).map_err(Error::file("finding", path))?;
    let mut ahead: Vec<OsString> = parts(&absolute);
    let root = || -> Result<Stop> {
        let fd = fs::open("/", STEP | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
            .map_err(failed("opening", Path::new("/")))?;
        stop("/".into(), fd)
    };
    let mut way = vec![root()?];
    // Where we stand, as the index of its stop.
    let mut at = 0;
    let mut links = 0;
    while let Some(name) = ahead.pop() {
        let here = way[at].path.join(&name);
        let fd =
            way[at].fd.as_ref().ok_or_else(|| Error::file("opening", &here)(io::ErrorKind::NotADirectory.into()))?;
        let flags = STEP | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        match fs::openat(fd, name.as_os_str(), flags, Mode::empty()) {
            Ok(next) => {
                let path = if name == ".." { way[at].path.parent().unwrap_or(Path::new("/")).to_owned() } else { here };
                way.push(stop(path, next)?);
                at = way.len() - 1;
            }
            Err(Errno::NOTDIR | Errno::LOOP | Errno::MLINK) => {
                let target = fs::readlinkat(fd, name.as_os_str(), Vec::new());
                let target = target.map_err(|_| Error::file("opening", &here)(io::ErrorKind::NotADirectory.into()))?;
                let stat =
                    fs::statat(fd, name.as_os_str(), AtFlags::SYMLINK_NOFOLLOW).map_err(failed("opening", &here))?;
                links += 1;
                if links > LINKS {
                    return Err(failed("opening", &here)(Errno::LOOP));
                }
                let target = PathBuf::from(OsStr::from_bytes(target.as_bytes()));
                way.push(Stop { path: here, fd: None, owner: stat.st_uid, group: stat.st_gid, mode: 0 });
                if target.is_absolute() {
                    at = 0;
                }
                ahead.extend(parts(&target));
            }
            Err(e) => return Err(failed("opening", &here)(e)),
        }
    }
    if at != way.len() - 1 {
        // It ended with a link to the root, or to the directory that the link lies in: opened once more, as the last stop.
        let path = way[at].path.clone();
        let fd =
            way[at].fd.as_ref().ok_or_else(|| Error::file("opening", &path)(io::ErrorKind::NotADirectory.into()))?;
        let again = fs::openat(fd, ".", STEP | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        way.push(stop(path.clone(), again.map_err(failed("opening", &path))?)?);
    }
    Ok(way)
}

/// The names of a path, last first.
fn parts(path: &Path) -> Vec<OsString> {
    let mut out: Vec<OsString> = path
        .components()
        .filter(|c| matches!(c, Component::Normal(_) | Component::ParentDir))
        .map(|c| c.as_os_str().to_owned())
        .collect();
    out.reverse();
    out
}
