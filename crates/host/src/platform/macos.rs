//! Rights on macOS: they belong to the process, and the saved id keeps the way back.

use nix::unistd::{Gid, Uid, getegid, setegid, seteuid, setgid, setuid};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// Sets the effective ids; refused where we have no such right, and then the work fails by itself.
pub fn set_effective((uid, gid): (u32, u32)) {
    let _ = seteuid(Uid::from_raw(0));
    if getegid().as_raw() != gid {
        let _ = setegid(Gid::from_raw(gid));
    }
    let _ = seteuid(Uid::from_raw(uid));
}

/// Puts root's rights aside: group, then user. The saved id stays root's.
pub fn become_person(uid: u32, gid: u32) -> std::io::Result<()> {
    setegid(Gid::from_raw(gid))?;
    seteuid(Uid::from_raw(uid))?;
    Ok(())
}

/// The program gets root's rights back, where they were only put aside.
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

/// The program has no rights but this person's, for good.
pub fn as_person(command: &mut Command, uid: u32, gid: u32) {
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
