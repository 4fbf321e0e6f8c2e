//! Rights on Linux: they belong to a thread, and the saved id keeps the way back.

use crate::platform::Effective;
use rustix::process::{Gid, Uid, getegid, getgid, getuid};
use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// What this thread acts with now.
pub fn effective_rights() -> Effective {
    let mut groups: Vec<u32> = rustix::process::getgroups().unwrap_or_default().iter().map(|g| g.as_raw()).collect();
    groups.sort_unstable();
    Effective { uid: rustix::process::geteuid().as_raw(), gid: getegid().as_raw(), groups }
}

fn raw(groups: &[u32]) -> Vec<Gid> {
    groups.iter().map(|g| Gid::from_raw(*g)).collect()
}

/// Sets the effective ids and groups of this thread; the saved ids stay root's, so that the way back exists.
///
/// Errors: the system refuses.
pub fn set_effective(wanted: &Effective) -> std::io::Result<()> {
    if *wanted == effective_rights() {
        return Ok(());
    }
    // Groups can only be changed as root: first up, then down.
    set_thread_res_uid(getuid(), Uid::ROOT, Uid::ROOT)?;
    set_thread_groups(&raw(&wanted.groups))?;
    set_thread_res_gid(getgid(), Gid::from_raw(wanted.gid), Gid::ROOT)?;
    set_thread_res_uid(getuid(), Uid::from_raw(wanted.uid), Uid::ROOT)?;
    Ok(())
}

/// Gives up root privileges in the order that keeps none: groups, group, user. The saved ids stay root's.
pub fn become_user(user: &Effective) -> std::io::Result<()> {
    let (uid, gid) = (Uid::from_raw(user.uid), Gid::from_raw(user.gid));
    set_thread_groups(&raw(&user.groups))?;
    set_thread_res_gid(gid, gid, Gid::ROOT)?;
    set_thread_res_uid(uid, uid, Uid::ROOT)?;
    Ok(())
}

/// The program gets root privileges back, where they were only put aside.
pub fn with_root(command: &mut Command) {
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(|| {
            set_thread_res_uid(getuid(), Uid::ROOT, Uid::ROOT)?;
            set_thread_groups(&[Gid::ROOT])?;
            set_thread_res_gid(Gid::ROOT, Gid::ROOT, Gid::ROOT)?;
            set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT)?;
            Ok(())
        });
    }
}

/// The program has no rights but this user's, for good.
pub fn as_user(command: &mut Command, user: &Effective) {
    let (uid, gid, groups) = (Uid::from_raw(user.uid), Gid::from_raw(user.gid), raw(&user.groups));
    // SAFETY: between fork and exec only plain system calls are made; nothing is allocated or locked.
    unsafe {
        command.pre_exec(move || {
            // Up first where root privileges are only put aside, then down for good.
            let _ = set_thread_res_uid(Uid::ROOT, Uid::ROOT, Uid::ROOT);
            set_thread_groups(&groups)?;
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

/// The same of an open file or directory, one that may only be stepped through too.
pub fn access_list_of(fd: &std::os::fd::OwnedFd) -> Option<Vec<u8>> {
    use std::os::fd::AsRawFd;
    access_list(Path::new(&format!("/proc/self/fd/{}", fd.as_raw_fd())))
}
