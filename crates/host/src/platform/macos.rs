//! Rights on macOS: they belong to the process, and the saved id keeps the way back.

use crate::platform::Effective;
use nix::unistd::{Gid, Uid, getegid, setegid, seteuid, setgid, setuid};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// What this process acts with now.
pub fn effective_rights() -> Effective {
    Effective { uid: nix::unistd::geteuid().as_raw(), gid: getegid().as_raw(), groups: Vec::new() }
}

/// Sets the effective ids; the saved ids stay root's, so that the way back exists.
///
/// Errors: the system refuses.
pub fn set_effective(wanted: &Effective) -> std::io::Result<()> {
    let now = effective_rights();
    if (now.uid, now.gid) == (wanted.uid, wanted.gid) {
        return Ok(());
    }
    seteuid(Uid::from_raw(0))?;
    setegid(Gid::from_raw(wanted.gid))?;
    seteuid(Uid::from_raw(wanted.uid))?;
    Ok(())
}

/// Puts root privileges aside: group, then user. The saved ids stay root's.
pub fn become_user(user: &Effective) -> std::io::Result<()> {
    setegid(Gid::from_raw(user.gid))?;
    seteuid(Uid::from_raw(user.uid))?;
    Ok(())
}

/// The program gets root privileges back, where they were only put aside.
pub fn with_root(command: &mut Command) {
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(|| {
            seteuid(Uid::from_raw(0))?;
            setgid(Gid::from_raw(0))?;
            setuid(Uid::from_raw(0))?;
            Ok(())
        });
    }
}

/// The program has no rights but this user's, for good.
pub fn as_user(command: &mut Command, user: &Effective) {
    let (uid, gid) = (user.uid, user.gid);
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(move || {
            let _ = seteuid(Uid::from_raw(0));
            setgid(Gid::from_raw(gid))?;
            setuid(Uid::from_raw(uid))?;
            Ok(())
        });
    }
}

/// macOS keeps its lists elsewhere: the mode alone is judged.
pub fn access_list(_: &Path) -> Option<Vec<u8>> {
    None
}

/// The same of an open file or directory.
pub fn access_list_of(_: &std::os::fd::OwnedFd) -> Option<Vec<u8>> {
    None
}
