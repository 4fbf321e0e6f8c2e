//! Names in the hosts file, in a sandbox's own.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::Sandbox;

const FILE: &str = "127.0.0.1 localhost\n10.0.0.7 archive.saltmarsh.test\n";

fn with_hosts() -> Sandbox {
    let s = sandbox().without_clients();
    std::fs::write(s.path("root/etc/hosts"), FILE).unwrap();
    s
}

fn text(s: &Sandbox) -> String {
    std::fs::read_to_string(s.path("root/etc/hosts")).unwrap()
}

#[test]
fn names_come_and_go_and_nothing_else_changes() {
    use std::os::unix::fs::PermissionsExt;
    let s = with_hosts();
    let added =
        s.json(&["hosts", "add", "charts.saltmarsh.test", "gauge-7.saltmarsh.test=192.168.7.7"]).expect(0).json();
    assert_eq!(added["hosts"].as_array().unwrap().len(), 3);
    assert!(text(&s).starts_with(FILE) && text(&s).contains("\n::1 charts.saltmarsh.test\n"));
    let copy = s.path("root/etc/hosts.before-tamga");
    assert_eq!(std::fs::read_to_string(&copy).unwrap(), FILE);
    let before = text(&s);
    s.run(&["hosts", "add", "charts.saltmarsh.test"]).expect(0);
    assert_eq!(text(&s), before, "adding twice changes nothing");
    let mode = std::fs::metadata(s.path("root/etc/hosts")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o644);
    s.run(&["hosts", "status", "charts.saltmarsh.test"]).expect(0);
    assert_eq!(s.json(&["hosts", "status", "x.test"]).expect(1).json()["hosts"][0]["state"], "absent");
    s.run(&["hosts", "remove", "gauge-7.saltmarsh.test"]).expect(0);
    assert!(!text(&s).contains("gauge-7"));
    s.run(&["hosts", "remove", "--dry-run"]).expect(0);
    assert!(text(&s).contains("charts"));
    s.run(&["hosts", "remove"]).expect(0);
    assert_eq!(text(&s), FILE);
    assert!(!copy.exists(), "the copy is left behind");
}

#[test]
fn another_address_is_reported_a_wildcard_explained_and_loopback_needs_nothing() {
    let s = with_hosts();
    let ran = s.json(&["hosts", "add", "archive.saltmarsh.test=10.0.0.8", "localhost"]).expect(5).json();
    assert_eq!(
        (ran["hosts"][0]["state"].as_str(), ran["hosts"][0]["change"].as_str()),
        (Some("elsewhere"), Some("none"))
    );
    assert!(ran["hosts"][0]["why"].as_str().unwrap().contains("line 2 gives it 10.0.0.7"));
    assert_eq!(ran["hosts"][1]["state"], "not-needed");
    assert_eq!(text(&s), FILE);
    let refused = s.run(&["hosts", "add", "*.buoys.saltmarsh.test"]).expect(3).err;
    assert!(refused.contains("no wildcards") && refused.contains("www.buoys.saltmarsh.test"), "{refused}");
    s.run(&["hosts", "add", "x.test", "--file", "nothing"]).expect(4);
    std::fs::write(s.lab("other"), "10.0.0.1 gateway\r\n").unwrap();
    s.run(&["hosts", "add", "x.test", "--file", "other"]).expect(0);
    assert!(std::fs::read_to_string(s.lab("other")).unwrap().ends_with("::1 x.test\r\n# tamga: end\r\n"));
}

#[test]
fn a_link_stays_a_link_and_leave_takes_the_names_out() {
    let s = lab().without_clients();
    let real = s.path("root/etc/hosts.real");
    std::fs::write(&real, FILE).unwrap();
    std::os::unix::fs::symlink("hosts.real", s.path("root/etc/hosts")).unwrap();
    s.run(&["hosts", "add", "charts.saltmarsh.test"]).expect(0);
    assert!(s.path("root/etc/hosts").is_symlink());
    assert!(std::fs::read_to_string(&real).unwrap().contains("charts"));
    let said = s.run(&["leave", "--yes"]).expect(0).out;
    assert!(said.contains("removed Tamga's names"), "{said}");
    assert_eq!(std::fs::read_to_string(&real).unwrap(), FILE);
}

/// A file that is a mount of its own, as in containers, cannot be renamed over: it is written in place.
#[test]
fn a_mount_is_written_in_place() {
    use std::process::Command;
    let s = with_hosts();
    let own = s.path("mounted");
    std::fs::write(&own, FILE).unwrap();
    let hosts = s.path("root/etc/hosts");
    let script = format!(
        "mount --bind '{}' '{}' && '{}' hosts add charts.saltmarsh.test && '{}' hosts remove && '{}' hosts add x.test",
        own.display(),
        hosts.display(),
        env!("CARGO_BIN_EXE_tamga"),
        env!("CARGO_BIN_EXE_tamga"),
        env!("CARGO_BIN_EXE_tamga")
    );
    let may = Command::new("unshare").args(["-m", "true"]).status().is_ok_and(|s| s.success());
    if !may {
        eprintln!("SKIPPED: no mount namespace may be made here");
        return;
    }
    let out = Command::new("unshare")
        .args(["-m", "sh", "-c", &script])
        .env("TAMGA_ROOT", s.path("root"))
        .env("TAMGA_DATA_DIR", s.path("data"))
        .output()
        .unwrap();
    assert!(out.status.success(), "{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    let written = std::fs::read_to_string(&own).unwrap();
    assert!(written.starts_with(FILE) && written.contains("127.0.0.1 x.test"), "{written}");
    assert_eq!(text(&s), FILE, "the file below the mount is another");
}
