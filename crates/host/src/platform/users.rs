//! Accounts and groups as the system knows them: files, LDAP, sssd alike (getpwuid_r(3), getgrgid_r(3)).

use crate::error::{Error, Result};
use nix::unistd::{Gid, Group, Uid, User};
use std::path::PathBuf;
use std::sync::OnceLock;

/// The user who called sudo, doas or pkexec.
static INVOKING: OnceLock<u32> = OnceLock::new();

/// An account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Known {
    /// Its name.
    pub name: String,
    /// User id.
    pub uid: u32,
    /// Primary group id.
    pub gid: u32,
    /// Home directory.
    pub home: PathBuf,
}

impl From<User> for Known {
    fn from(u: User) -> Known {
        Known { name: u.name, uid: u.uid.as_raw(), gid: u.gid.as_raw(), home: u.dir }
    }
}

/// An account by its name, or by its number.
///
/// Errors: the system could not look it up. None: it has no such account.
pub fn find(typed: &str) -> Result<Option<Known>> {
    let asked = match typed.parse::<u32>() {
        Ok(uid) => User::from_uid(Uid::from_raw(uid)),
        Err(_) => User::from_name(typed),
    };
    asked.map(|u| u.map(Known::from)).map_err(|e| Error::Account { typed: typed.to_owned(), why: e.desc().into() })
}

/// A group's id by its name, or by its number.
///
/// Errors: the system could not look it up. None: it has no such group.
pub fn find_group(typed: &str) -> Result<Option<u32>> {
    let asked = match typed.parse::<u32>() {
        Ok(gid) => Group::from_gid(Gid::from_raw(gid)),
        Err(_) => Group::from_name(typed),
    };
    asked
        .map(|g| g.map(|g| g.gid.as_raw()))
        .map_err(|e| Error::Account { typed: typed.to_owned(), why: e.desc().into() })
}

/// Remembers the user who called sudo, doas or pkexec.
pub fn remember_invoking(uid: u32) {
    let _ = INVOKING.set(uid);
}

/// The user who called sudo, doas or pkexec.
pub fn invoking() -> Option<u32> {
    INVOKING.get().copied()
}

/// "the account NAME", or its number where it has no name.
pub fn name(uid: u32) -> String {
    let name = User::from_uid(Uid::from_raw(uid)).ok().flatten().map_or_else(|| uid.to_string(), |u| u.name);
    format!("the account {name}")
}

/// The name of a group, or its number.
pub fn group_name(gid: u32) -> String {
    Group::from_gid(Gid::from_raw(gid)).ok().flatten().map_or_else(|| gid.to_string(), |g| g.name)
}

/// Every group of an account, the primary one included, sorted.
pub fn groups(of: &Known) -> Vec<u32> {
    let mut out = vec![of.gid];
    #[cfg(target_os = "linux")]
    if let Ok(name) = std::ffi::CString::new(of.name.as_str())
        && let Ok(all) = nix::unistd::getgrouplist(&name, Gid::from_raw(of.gid))
    {
        out.extend(all.iter().map(|g| g.as_raw()));
    }
    out.sort_unstable();
    out.dedup();
    out
}

/// Groups below this are the system's own, kept in its files (SYS_GID_MAX of login.defs(5)).
const FIRST_OF_PEOPLE: u32 = 1000;

/// True if these accounts are all that a group has: as its members, or with it as their primary group (a private group, as umask
/// 002 wants it; or one of the system's that has no members). A group of people's must be named like one of the accounts: a directory
/// service that does not list its accounts cannot be asked who else has the group as the primary one.
pub fn is_private(gid: u32, allowed: &[u32]) -> bool {
    let Ok(Some(group)) = Group::from_gid(Gid::from_raw(gid)) else { return false };
    let is_allowed =
        |name: &String| User::from_name(name).ok().flatten().is_some_and(|u| allowed.contains(&u.uid.as_raw()));
    let belongs = gid < FIRST_OF_PEOPLE
        || allowed.iter().any(|uid| {
            User::from_uid(Uid::from_raw(*uid))
                .ok()
                .flatten()
                .is_some_and(|u| u.gid.as_raw() == gid && u.name == group.name)
        });
    belongs && group.mem.iter().all(is_allowed) && primary_users(gid).iter().all(|uid| allowed.contains(uid))
}

/// Every account that the system lists with this primary group.
fn primary_users(gid: u32) -> Vec<u32> {
    use std::sync::Mutex;
    // The list has one position for the whole process.
    static LISTING: Mutex<()> = Mutex::new(());
    let _alone = LISTING.lock().unwrap_or_else(|e| e.into_inner());
    let mut out = Vec::new();
    // SAFETY: only one thread lists at a time; each entry is read before the next call replaces it.
    unsafe {
        nix::libc::setpwent();
        while let Some(entry) = nix::libc::getpwent().as_ref() {
            if entry.pw_gid == gid {
                out.push(entry.pw_uid);
            }
        }
        nix::libc::endpwent();
    }
    out
}
