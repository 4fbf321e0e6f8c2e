//! Any bytes as an access-control list, and an account judged by it.
#![no_main]

use tamga_core::deploy::access::{Account, Acl, Stop, obstacle};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let acl = Acl::read(bytes);
    let text = String::from_utf8_lossy(bytes);
    let account =
        Account::find("www-data", &text, &text).unwrap_or(Account { name: "x".into(), uid: 33, groups: vec![33] });
    let mode = u32::from(bytes.first().copied().unwrap_or(0)) << 1;
    let stop = |folder| Stop { path: "/x".into(), folder, owner: 33, group: 33, mode, acl: acl.clone() };
    let way = [stop(true), stop(false)];
    let _ = obstacle(&account, &way);
    let other = Account { name: "y".into(), uid: 1, groups: vec![2, 3] };
    let _ = obstacle(&other, &way);
});
