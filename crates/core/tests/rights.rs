//! Who may read a file: compared with the algorithm of acl(5), written once more in another way.

#![allow(clippy::unwrap_used, reason = "tests")]

use proptest::prelude::*;
use tamga_core::deploy::access::{Account, Acl, Stop, obstacle};

/// acl(5), "access check algorithm", line by line, for one object and the permission bits asked for.
fn granted(uid: u32, groups: &[u32], at: &Stop, wanted: u32) -> bool {
    if uid == 0 {
        return true;
    }
    let class = |shift: u32| at.mode >> shift & 7;
    // 1. The owner.
    if uid == at.owner {
        return class(6) & wanted != 0;
    }
    let Some(acl) = &at.acl else {
        let shift = if groups.contains(&at.group) { 3 } else { 0 };
        return class(shift) & wanted != 0;
    };
    let mask = acl.mask.map_or(7, u32::from);
    // 2. A named user.
    for (id, may) in &acl.users {
        if *id == uid {
            return u32::from(*may) & mask & wanted != 0;
        }
    }
    // 3. The owning group and named groups: one that grants is enough, one that matches forbids the rest.
    let mut matched = false;
    let of_groups = std::iter::once((at.group, acl.owning_group)).chain(acl.groups.iter().copied());
    for (id, may) in of_groups {
        if groups.contains(&id) {
            matched = true;
            if u32::from(may) & mask & wanted != 0 {
                return true;
            }
        }
    }
    // 4. Others.
    !matched && class(0) & wanted != 0
}

fn stop(folder: bool) -> impl Strategy<Value = Stop> {
    let id = 0_u32..4;
    let list = prop::collection::vec((0_u32..4, 0_u8..8), 0..3);
    let acl = prop::option::of((list.clone(), list, 0_u8..8, prop::option::of(0_u8..8)));
    (id.clone(), id, 0_u32..0o1000, acl).prop_map(move |(owner, group, mode, acl)| Stop {
        path: "/x".into(),
        folder,
        owner,
        group,
        mode,
        acl: acl.map(|(mut users, groups, owning_group, mask)| {
            // One entry a user: the system keeps no two.
            users.sort_unstable();
            users.dedup_by_key(|u| u.0);
            Acl { users, groups, owning_group, mask }
        }),
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_000))]

    #[test]
    fn the_first_obstacle_is_where_the_algorithm_refuses(
        uid in 0_u32..4,
        groups in prop::collection::vec(0_u32..4, 1..3),
        folders in prop::collection::vec(stop(true), 0..4),
        file in stop(false),
    ) {
        let account = Account { name: "gauge".into(), uid, groups: groups.clone() };
        let way: Vec<Stop> = folders.into_iter().chain([file]).collect();
        let expected = way.iter().position(|at| !granted(uid, &groups, at, if at.folder { 1 } else { 4 }));
        let found = obstacle(&account, &way).map(|o| way.iter().position(|s| std::ptr::eq(s, o.at)).unwrap());
        prop_assert_eq!(found, expected);
    }

    #[test]
    fn any_bytes_are_read_as_a_list_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..80)) {
        let read = Acl::read(&bytes);
        prop_assert_eq!(read.is_some(), bytes.starts_with(&[2, 0, 0, 0]));
    }

    #[test]
    fn any_texts_are_searched_for_an_account(typed in "[a-z0-9:]{0,6}", passwd in "[a-z0-9:\n]{0,80}", group in "[a-z0-9:,\n]{0,60}") {
        if let Some(found) = Account::find(&typed, &passwd, &group) {
            prop_assert!(found.name == typed || found.uid.to_string() == typed);
            prop_assert!(!found.groups.is_empty());
        }
    }
}
