//! Rights on Linux: they belong to a thread, and the saved id keeps the way back.

use rustix::process::{Gid, Uid, getegid, getgid, getuid};
use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// Sets the effective ids of this thread; refused where we have no such right, and then the work fails by itself.
pub fn set_effective((uid, gid): (u32, u32)) {
    // The group can only be changed with root's rights: first up, then down.
    let _ = set_thread_res_uid(getuid(), Uid::ROOT, Uid::ROOT);
    if getegid().as_raw() != gid {
        let _ = set_thread_res_gid(getgid(), Gid::from_raw(gid), Gid::ROOT);
    }
    let _ = set_thread_res_uid(getuid(), Uid::from_raw(uid), Uid::ROOT);
}

/// Gives up root's rights in the order that keeps none: groups, group, user. The saved id stays root's.
pub fn become_person(uid: u32, gid: u32) -> std::io::Result<()> {
    let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
    set_thread_groups(&[gid])?;
    set_thread_res_gid(gid, gid, Gid::ROOT)?;
    set_thread_res_uid(uid, uid, Uid::ROOT)?;
    Ok(())
}

/// The program gets root's rights back, where they were only put aside.
pub fn with_root(command: &mut Command) {
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(|| {
            set_thread_res_uid(getuid(), Uid::ROOT, Uid::ROOT)?;
            set_thread_res_gid(Gid::ROOT, Gid::ROOT, Gid::ROOT)?;
            set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT)?;
            Ok(())
        });
    }
}

/// The program has no rights but this person's, for good.
pub fn as_person(command: &mut Command, uid: u32, gid: u32) {
    let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(move || {
            // Up first where root's rights are only put aside, then down for good.
            let _ = set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT);
            set_thread_groups(&[gid])?;
            set_thread_res_gid(gid, gid, gid)?;
            set_thread_res_uid(uid, uid, uid)?;
            Ok(())
        });
    }
}

/// The access-control list of a file, as the kernel keeps it.
pub fn access_list(path: &Path) -> Option<Vec<u8>> {
    let mut value = vec![0; 4096];
    let n = rustix::fs::getxattr(path, "system.posix_acl_access", value.as_mut_slice()).ok()?;
    value.truncate(n);
    Some(value)
}
