//! Could the service's account read the key? What is said is compared with that account really reading.

use crate::lab;
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::is_root;

/// What Tamga says, and whether the account could really read: both must agree.
fn agreed(s: &Sandbox, account: &str) -> (bool, String) {
    let ran = s.json(&[
        "check",
        "charts",
        "--account",
        account,
        "--anchor",
        "charts/root.pem",
        "--name",
        "localhost",
        "--clients",
        "standard",
    ]);
    let v = ran.json();
    let findings = v["targets"][0]["findings"].as_array().unwrap();
    let found = findings.iter().find(|f| f["code"] == "key-unreadable-by-service");
    let really = Command::new("setpriv")
        .args(["--reuid", account, "--regid", account, "--init-groups", "--", "cat"])
        .arg(s.lab("charts/private-key.pem"))
        .output()
        .unwrap()
        .status
        .success();
    assert_eq!(found.is_none(), really, "{v}");
    assert_eq!(ran.code, i32::from(!really), "{v}");
    (really, found.map(|f| f["summary"].as_str().unwrap().to_owned()).unwrap_or_default())
}

fn mode(s: &Sandbox, what: &str, bits: &str) {
    assert!(Command::new("chmod").arg(bits).arg(s.lab(what)).status().unwrap().success());
}

#[test]
fn folders_owners_groups_and_lists_are_weighed_as_the_system_weighs_them() {
    if !has(&["setpriv", "setfacl"]) || !is_root() {
        return;
    }
    let s = lab();
    // The sandbox looks up accounts under its own root.
    let (passwd, group) = (std::fs::read("/etc/passwd").unwrap(), std::fs::read("/etc/group").unwrap());
    std::fs::write(s.path("root/etc/passwd"), passwd).unwrap();
    std::fs::write(s.path("root/etc/group"), group).unwrap();
    mode(&s, "", "700");
    let (can, said) = agreed(&s, "www-data");
    assert!(!can && said.contains("cannot enter"), "{said}");
    s.open_to_others();
    let (can, said) = agreed(&s, "www-data");
    assert!(!can && said.contains("cannot read") && said.contains("0600"), "{said}");
    mode(&s, "charts/private-key.pem", "640");
    assert!(!agreed(&s, "www-data").0);
    assert!(Command::new("chgrp").arg("www-data").arg(s.lab("charts/private-key.pem")).status().unwrap().success());
    assert!(agreed(&s, "www-data").0);
    mode(&s, "charts", "750");
    assert!(!agreed(&s, "www-data").0);
    let acl = |words: &[&str], what: &str| {
        let out = Command::new("setfacl").args(words).arg(s.lab(what)).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    };
    acl(&["-m", "u:www-data:x"], "charts");
    assert!(agreed(&s, "www-data").0);
    acl(&["-m", "m::---"], "charts/private-key.pem");
    let (can, said) = agreed(&s, "www-data");
    assert!(!can && said.contains("list") || said.contains("group"), "{said}");
    acl(&["-m", "u:www-data:r,m::r"], "charts/private-key.pem");
    assert!(agreed(&s, "www-data").0);
    // The owner's own bits decide for the owner, however wide the others are.
    acl(&["-b"], "charts/private-key.pem");
    acl(&["-b"], "charts");
    mode(&s, "charts", "755");
    assert!(Command::new("chown").arg("www-data").arg(s.lab("charts/private-key.pem")).status().unwrap().success());
    mode(&s, "charts/private-key.pem", "044");
    let (can, said) = agreed(&s, "www-data");
    assert!(!can && said.contains("owner"), "{said}");
    s.run(&["check", "charts", "--account", "nobody-here"]).expect(2);
}
