//! Could an account read a file? Owner, group, others and access-control lists, for every directory on the way.

use std::path::PathBuf;

/// To enter a directory.
const ENTER: u8 = 1;
/// To read a file.
const READ: u8 = 4;

/// An account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// Its name.
    pub name: String,
    /// Its user id.
    pub uid: u32,
    /// Its groups, the primary one first.
    pub groups: Vec<u32>,
}

/// The ids of an account and of its own group, by a file of accounts (passwd(5)).
///
/// ```
/// use tamga_core::deploy::access::ids;
///
/// assert_eq!(ids("root:x:0:0::/root:/bin/sh\nredis:x:104:107::/:/bin/false\n", "redis"), Some((104, 107)));
/// assert_eq!(ids("redis:x:none:107::/:/bin/false\n", "redis"), None);
/// ```
pub fn ids(accounts: &str, name: &str) -> Option<(u32, u32)> {
    let mut fields = accounts.lines().map(|l| l.split(':')).find_map(|mut f| (f.next() == Some(name)).then_some(f))?;
    Some((fields.nth(1)?.parse().ok()?, fields.next()?.parse().ok()?))
}

/// An access-control list beyond the mode (acl(5), IEEE 1003.1e draft 17).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Acl {
    /// Named users and what they may.
    pub users: Vec<(u32, u8)>,
    /// Named groups and what they may.
    pub groups: Vec<(u32, u8)>,
    /// What the owning group may.
    pub owning_group: u8,
    /// The most that named users and all groups may.
    pub mask: Option<u8>,
}

/// One thing on the way to a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stop {
    /// Where.
    pub path: PathBuf,
    /// True for a directory.
    pub folder: bool,
    /// The owner's user id.
    pub owner: u32,
    /// The group's id.
    pub group: u32,
    /// The permission bits.
    pub mode: u32,
    /// Its list, where it has one.
    pub acl: Option<Acl>,
}

/// What keeps an account out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Obstacle<'a> {
    /// Where.
    pub at: &'a Stop,
    /// Whose bits decided: `its owner`, `its group`, `others`, `list`.
    pub by: &'static str,
}

impl Account {
    /// An account by its name or number, from the texts of `/etc/passwd` and `/etc/group`.
    pub fn find(typed: &str, passwd: &str, group: &str) -> Option<Account> {
        let fields = passwd
            .lines()
            .map(|l| l.split(':').collect::<Vec<_>>())
            .find(|f| f.len() >= 4 && (f[0] == typed || (f[2] == typed && !typed.is_empty())))?;
        let (name, uid, primary) = (fields[0].to_owned(), fields[2].parse().ok()?, fields[3].parse().ok()?);
        let mut groups = vec![primary];
        for line in group.lines() {
            let f: Vec<&str> = line.split(':').collect();
            if let [_, _, id, members] = f[..]
                && members.split(',').any(|m| m.trim() == name)
                && let Ok(id) = id.parse()
                && !groups.contains(&id)
            {
                groups.push(id);
            }
        }
        Some(Account { name, uid, groups })
    }
}

impl Acl {
    /// Reads the value of the attribute `system.posix_acl_access`: version 2, then tag, permissions and id of each entry, little-endian.
    pub fn read(bytes: &[u8]) -> Option<Acl> {
        let entries = bytes.strip_prefix(&[2, 0, 0, 0])?;
        let mut acl = Acl::default();
        for e in entries.chunks_exact(8) {
            let (tag, may) = (u16::from_le_bytes([e[0], e[1]]), e[2] & 7);
            let id = u32::from_le_bytes([e[4], e[5], e[6], e[7]]);
            match tag {
                0x02 => acl.users.push((id, may)),
                0x04 => acl.owning_group = may,
                0x08 => acl.groups.push((id, may)),
                0x10 => acl.mask = Some(may),
                _ => {}
            }
        }
        Some(acl)
    }
}

/// The first thing on the way that keeps an account out; None if it could read the file. The way: every directory, then the file.
pub fn obstacle<'a>(account: &Account, way: &'a [Stop]) -> Option<Obstacle<'a>> {
    if account.uid == 0 {
        return None;
    }
    way.iter().find_map(|at| {
        let wanted = if at.folder { ENTER } else { READ };
        let (may, by) = rights(account, at);
        (may & wanted == 0).then_some(Obstacle { at, by })
    })
}

/// What an account may at one place, and whose bits say so (acl(5), "access check algorithm").
fn rights(account: &Account, at: &Stop) -> (u8, &'static str) {
    let bits = |shift: u32| ((at.mode >> shift) & 7) as u8;
    if account.uid == at.owner {
        return (bits(6), "its owner");
    }
    let none = Acl { owning_group: bits(3), ..Acl::default() };
    let acl = at.acl.as_ref().unwrap_or(&none);
    let mask = acl.mask.unwrap_or(7);
    if let Some((_, may)) = acl.users.iter().find(|(id, _)| *id == account.uid) {
        return (may & mask, "list");
    }
    let own = account.groups.contains(&at.group).then_some(acl.owning_group);
    let named = acl.groups.iter().filter(|(id, _)| account.groups.contains(id)).map(|(_, may)| *may);
    // Of several matching groups any may grant; their rights together say whether one does.
    let granted = own.into_iter().chain(named).reduce(|a, b| a | b);
    match granted {
        Some(may) => (may & mask, if at.acl.is_some() { "list" } else { "its group" }),
        None => (bits(0), "others"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stop(owner: u32, group: u32, mode: u32, folder: bool) -> Stop {
        Stop { path: "/x".into(), folder, owner, group, mode, acl: None }
    }

    fn service() -> Account {
        Account { name: "service".into(), uid: 114, groups: vec![120, 110] }
    }

    #[test]
    fn the_first_class_that_fits_decides() {
        let refused = |way: &[Stop]| obstacle(&service(), way).map(|o| o.by);
        assert_eq!(refused(&[stop(0, 0, 0o755, true), stop(114, 0, 0o600, false)]), None);
        assert_eq!(refused(&[stop(0, 0, 0o700, true), stop(114, 0, 0o600, false)]), Some("others"));
        // Its own file that only others may read: refused all the same.
        assert_eq!(refused(&[stop(114, 0, 0o004, false)]), Some("its owner"));
        assert_eq!(refused(&[stop(0, 110, 0o640, false)]), None);
        assert_eq!(refused(&[stop(0, 110, 0o604, false)]), Some("its group"));
        assert_eq!(refused(&[stop(0, 0, 0o711, true), stop(0, 0, 0o604, false)]), None);
        let root = Account { name: "root".into(), uid: 0, groups: vec![0] };
        assert_eq!(obstacle(&root, &[stop(1, 1, 0, true)]), None);
    }

    #[test]
    fn a_list_names_users_and_groups_below_its_mask() {
        let mut at = stop(0, 0, 0o640, false);
        let bytes = |entries: &[(u16, u16, u32)]| {
            let mut out = vec![2, 0, 0, 0];
            for (tag, may, id) in entries {
                out.extend(tag.to_le_bytes());
                out.extend(may.to_le_bytes());
                out.extend(id.to_le_bytes());
            }
            out
        };
        let mut with = |entries: &[(u16, u16, u32)]| {
            at.acl = Acl::read(&bytes(entries));
            obstacle(&service(), std::slice::from_ref(&at)).is_none()
        };
        assert!(with(&[(1, 6, !0), (2, 4, 114), (4, 0, !0), (0x10, 4, !0), (0x20, 0, !0)]));
        assert!(!with(&[(1, 6, !0), (2, 4, 114), (4, 0, !0), (0x10, 0, !0), (0x20, 4, !0)]), "the mask takes it away");
        assert!(with(&[(4, 0, !0), (8, 0, 110), (8, 4, 120), (0x10, 7, !0)]), "one of its groups may");
        assert!(!with(&[(4, 0, !0), (8, 0, 110), (0x10, 7, !0), (0x20, 7, !0)]), "others do not count for a member");
        assert_eq!(Acl::read(&[9, 0, 0, 0]), None);
    }

    #[test]
    fn an_account_is_found_with_all_its_groups() {
        let passwd = "root:x:0:0::/root:/bin/sh\npostgres:x:114:120:,,,:/var/lib/postgresql:/bin/bash\n";
        let group = "ssl-cert:x:110:postgres,www-data\npostgres:x:120:\n";
        let found = Account::find("postgres", passwd, group).unwrap();
        assert_eq!((found.uid, found.groups), (114, vec![120, 110]));
        assert_eq!(Account::find("114", passwd, group).unwrap().name, "postgres");
        assert!(Account::find("nobody", passwd, group).is_none() && Account::find("", passwd, group).is_none());
    }
}
