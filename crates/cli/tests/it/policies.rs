//! Policies of browsers: the files that are written, and what the real browsers make of them, in a private view of the file system.

use crate::lab;
use serde_json::{Value, json};
use std::path::Path;
use std::process::Command;
use tamga_testkit::firefox::Firefox;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::site::Site;

/// A command that runs in a view of the file system in which the sandbox's /etc and /usr/lib lie over the machine's; None, visibly,
/// where no such view can be made.
pub(crate) fn overlaid(s: &Sandbox) -> Option<Command> {
    let root = s.path("root").display().to_string();
    let script = format!(
        "mount -t tmpfs t /mnt && for d in etc usr/lib; do n=$(echo $d | tr / -); mkdir -p /mnt/$n/u /mnt/$n/w && \
         cp -a {root}/$d/. /mnt/$n/u/ && mount -t overlay o -o lowerdir=/$d,upperdir=/mnt/$n/u,workdir=/mnt/$n/w /$d; done && exec \"$@\""
    );
    let command = || {
        let mut c = Command::new("unshare");
        c.args(["-m", "sh", "-c", &script, "sh"]);
        c
    };
    for d in ["etc", "usr/lib"] {
        std::fs::create_dir_all(s.path("root").join(d)).unwrap();
    }
    if command().arg("true").output().is_ok_and(|o| o.status.success()) {
        return Some(command());
    }
    eprintln!("SKIPPED: no private view of the file system can be made here");
    None
}

fn row(v: &Value, store: &str) -> Value {
    v["stores"].as_array().unwrap().iter().find(|r| r["store"] == store).unwrap_or_else(|| panic!("{v}")).clone()
}

fn write(path: &Path, text: &str) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, text).unwrap();
}

#[test]
fn chromium_takes_a_root_by_policy_with_its_limits_and_loses_it_again() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    let folder = s.path("root/etc/chromium/policies/managed");
    write(&folder.join("lab.json"), "{\"HomepageLocation\": \"https://charts.saltmarsh.test\"}\n");
    let words = ["trust", "add", "saltmarsh", "--stores", "chromium-policy"];
    assert_eq!(row(&s.json(&words).expect(0).json(), "chromium-policy")["change"], "added");
    let ours: Value = serde_json::from_slice(&std::fs::read(folder.join("tamga-roots.json")).unwrap()).unwrap();
    let limits = &ours["CACertificatesWithConstraints"][0]["constraints"];
    assert!(limits["permitted_dns_names"].as_array().unwrap().contains(&json!("test")), "{ours}");
    assert!(limits["permitted_cidrs"].as_array().unwrap().contains(&json!("127.0.0.0/8")), "{ours}");
    assert!(limits["permitted_cidrs"].as_array().unwrap().contains(&json!("::1/128")), "{ours}");
    assert_eq!(row(&s.json(&words).expect(0).json(), "chromium-policy")["change"], "none");
    let site = Site::start(&s, &["charts"]);
    let seen = |code: i32| {
        let Some(mut c) = overlaid(&s) else { return };
        let target = format!("https://localhost:{}", site.port);
        let own = s.command(&["check", &target, "--clients", "chromium", "--observe", "--format", "json"]);
        c.arg(own.get_program()).args(own.get_args()).current_dir(s.lab(""));
        c.env_clear().envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
        let out = c.output().unwrap();
        let said = String::from_utf8_lossy(&out.stdout).into_owned();
        assert_eq!(out.status.code(), Some(code), "{said}\n{}", String::from_utf8_lossy(&out.stderr));
        assert!(said.contains("observed") && !said.contains("prediction-differs"), "{said}");
    };
    seen(0);
    // Another file with that setting comes later in the alphabet: Chromium takes it alone, and that is said.
    write(&folder.join("zz-others.json"), "{\"CACertificates\": []}");
    let v = s.json(&["trust", "status", "saltmarsh", "--stores", "chromium-policy"]).expect(1).json();
    let reply = row(&v, "chromium-policy");
    assert!(reply["state"] == "absent" && reply["why"].to_string().contains("zz-others.json"), "{v}");
    std::fs::remove_file(folder.join("zz-others.json")).unwrap();
    let words = ["trust", "remove", "saltmarsh", "--stores", "chromium-policy"];
    assert_eq!(row(&s.json(&words).expect(0).json(), "chromium-policy")["change"], "removed");
    assert!(!folder.join("tamga-roots.json").exists() && folder.join("lab.json").exists());
    seen(1);
}

#[test]
fn two_roots_share_the_file_and_leave_finds_them_without_a_ledger() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    s.run(&["authority", "create", "harbour", "--permit-any"]).expect(0);
    for label in ["saltmarsh", "harbour"] {
        s.run(&["trust", "add", label, "--stores", "chromium-policy"]).expect(0);
    }
    let file = s.path("root/etc/chromium/policies/managed/tamga-roots.json");
    let both: Value = serde_json::from_slice(&std::fs::read(&file).unwrap()).unwrap();
    assert_eq!(both["CACertificates"].as_array().unwrap().len(), 1, "the unlimited one: {both}");
    assert_eq!(both["CACertificatesWithConstraints"].as_array().unwrap().len(), 1, "{both}");
    s.run(&["trust", "remove", "harbour", "--stores", "chromium-policy"]).expect(0);
    std::fs::remove_dir_all(s.path("data")).unwrap();
    s.run(&["leave", "--yes"]).expect(0);
    assert!(!file.exists());
    std::fs::write(&file, "not JSON").unwrap();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let v = s.json(&["trust", "add", "saltmarsh", "--stores", "chromium-policy"]).expect(4).json();
    assert!(row(&v, "chromium-policy")["why"].to_string().contains("not JSON"), "{v}");
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "not JSON");
}

#[test]
fn firefox_takes_a_root_by_policy_and_removal_takes_it_out_of_the_profile_too() {
    if !has(&["firefox-esr"]) {
        return;
    }
    let s = lab();
    std::fs::create_dir_all(s.path("root/usr/lib")).unwrap();
    let policies = s.path("root/etc/firefox/policies/policies.json");
    let theirs =
        "{\n    \"policies\": {\"DisableTelemetry\": true, \"Certificates\": {\"ImportEnterpriseRoots\": false}}\n}\n";
    write(&policies, theirs);
    let words = ["trust", "add", "saltmarsh", "--stores", "firefox-policy"];
    assert_eq!(row(&s.json(&words).expect(0).json(), "firefox-policy")["change"], "added");
    let now: Value = serde_json::from_slice(&std::fs::read(&policies).unwrap()).unwrap();
    assert_eq!(now["policies"]["DisableTelemetry"], true);
    assert_eq!(now["policies"]["Certificates"]["ImportEnterpriseRoots"], false);
    assert_eq!(now["policies"]["Certificates"]["Install"].as_array().unwrap().len(), 1, "{now}");
    assert_eq!(row(&s.json(&words).expect(0).json(), "firefox-policy")["change"], "none");
    let profile = s.path("home/.config/mozilla/firefox/a.lab");
    let site = Site::start(&s, &["charts"]);
    let address = format!("https://localhost:{}/", site.port);
    let accepted = |s: &Sandbox| {
        let mut c = overlaid(s)?;
        c.arg("firefox-esr");
        Some(Firefox::start_by(c, &s.path("home"), &profile).accepts(&address))
    };
    let first = accepted(&s);
    assert_ne!(first, Some(false));
    let words = ["trust", "remove", "saltmarsh", "--stores", "firefox-policy"];
    // Only now: the link would lie over the program's own directory in the private view.
    std::os::unix::fs::symlink("/usr/lib/firefox-esr", s.path("root/usr/lib/firefox-esr")).unwrap();
    assert_eq!(row(&s.json(&words).expect(0).json(), "firefox-policy")["change"], "removed");
    assert_eq!(std::fs::read_to_string(&policies).unwrap(), theirs, "byte for byte as before");
    assert_eq!(s.files("root/usr/lib/mozilla").len(), 0);
    assert!(!policies.with_extension("json.before-tamga").exists());
    std::fs::remove_file(s.path("root/usr/lib/firefox-esr")).unwrap();
    if first.is_some() {
        assert_eq!(accepted(&s), Some(false), "the profile kept the root");
    }
    write(&policies, "[]");
    s.run(&["trust", "add", "saltmarsh", "--stores", "firefox-policy"]).expect(4);
    assert_eq!(std::fs::read_to_string(&policies).unwrap(), "[]");
    std::fs::remove_file(&policies).unwrap();
    s.run(&["trust", "add", "saltmarsh", "--stores", "firefox-policy"]).expect(0);
    s.run(&["trust", "remove", "saltmarsh", "--stores", "firefox-policy"]).expect(0);
    assert!(!policies.exists());
}

/// A policies file in which something else stands where the list must be: why not, and no success.
#[test]
fn a_policies_file_of_another_shape_is_reported() {
    let s = lab();
    for text in [
        r#"{"policies": []}"#,
        r#"{"policies": {"Certificates": "none"}}"#,
        r#"{"policies": {"Certificates": {"Install": "x"}}}"#,
    ] {
        write(&s.path("root/etc/firefox/policies/policies.json"), text);
        let ran = s.run(&["trust", "add", "--stores", "firefox-policy"]).expect(4);
        assert!(ran.out.contains("Certificates.Install"), "{}", ran.out);
        assert_eq!(std::fs::read_to_string(s.path("root/etc/firefox/policies/policies.json")).unwrap(), text);
    }
}

/// The place of a policy is a file too, and so is a JVM's store; neither is a bundle of roots.
#[test]
fn what_a_root_was_put_into_is_not_taken_for_a_bundle() {
    let Some(machine) = tamga_testkit::machine::Machine::start(env!("CARGO_BIN_EXE_tamga").as_ref()) else { return };
    let bundles = |words: &str| {
        let ran = machine.types(&format!("tamga trust status {words} --format json || true"));
        let v: Value = serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{}", ran.err));
        let rows = v["stores"].as_array().unwrap().clone();
        let of_bundles =
            rows.iter().filter(|r| r["store"] == "bundle").map(|r| r["place"].as_str().unwrap().to_owned());
        of_bundles.collect::<Vec<String>>()
    };
    let add = "mkdir -p /etc/firefox/policies; cd /root; tamga authority create saltmarsh
               tamga trust add saltmarsh --stores firefox-policy,java,bundle --bundle roots.pem || true";
    machine.types(add).expect(0);
    assert_eq!(bundles(""), ["/root/roots.pem"]);
    // What an earlier run put it into is reached all the same.
    machine.types("tamga trust remove saltmarsh; ! grep 'BEGIN CERTIFICATE' /root/roots.pem").expect(0);
}
