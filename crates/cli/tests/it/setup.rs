//! The whole job in one step, and its undoing.

use crate::{lab, sandbox};
use tamga_testkit::sandbox::has;

#[test]
fn setup_twice_changes_nothing_and_more_names_extend() {
    let s = sandbox().without_clients();
    let first = s.json(&["setup", "charts.saltmarsh.test", "--into", "tls"]).expect(0).json();
    assert_eq!(first["certificates"][0]["names"].as_array().unwrap().len(), 4);
    assert_eq!(first["change"], "issued");
    let before = s.files("lab");
    let bytes = std::fs::read(s.lab("tls/certificate.pem")).unwrap();
    let second = s.json(&["setup", "charts.saltmarsh.test"]).expect(0).json();
    assert_eq!(second["change"], "unchanged");
    assert_eq!((s.files("lab"), std::fs::read(s.lab("tls/certificate.pem")).unwrap()), (before, bytes));
    let third = s.json(&["setup", "charts.saltmarsh.test", "*.buoys.saltmarsh.test"]).expect(0).json();
    assert_eq!(third["change"], "extended");
    assert_eq!(third["certificates"][0]["names"].as_array().unwrap().len(), 5);
    let listed = s.json(&["list"]).expect(0).json();
    let states: Vec<&str> =
        listed["certificates"].as_array().unwrap().iter().map(|c| c["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["superseded", "valid"]);
}

#[test]
fn setup_permits_the_names_given_to_a_new_authority_only() {
    let s = sandbox().without_clients();
    s.run(&["setup", "tides.example.org"]).expect(0);
    let ran = s.run(&["setup", "other.example.com"]).expect(3);
    assert!(ran.err.contains("--permit other.example.com"), "{}", ran.err);
    assert!(!s.lab("other.example.com").exists());
}

#[test]
fn setup_proves_and_leave_undoes() {
    if !has(&["chromium", "curl"]) {
        return;
    }
    let s = sandbox();
    let v = s.json(&["setup", "charts.saltmarsh.test", "--into", "tls"]).expect(0).json();
    let proof = v["proof"].as_array().unwrap();
    let of = |client: &str| -> Vec<&serde_json::Value> { proof.iter().filter(|p| p["client"] == client).collect() };
    assert!(of("chromium").len() >= 3 && of("chromium").iter().all(|p| p["verdict"] == "accepts"), "{v}");
    assert!(of("curl").iter().all(|p| p["verdict"] == "refuses" && p["in_scope"] == false), "{v}");
    assert_eq!(v["names"][0]["resolves"], false);
    let ran = s.run(&["setup", "charts.saltmarsh.test"]).expect(0);
    assert!(
        ran.out.starts_with("Chromium opens https://charts.saltmarsh.test without a warning.")
            && ran.out.contains("not set up")
            && ran.out.contains("--scope machine"),
        "{}",
        ran.out
    );

    let left = s.json(&["leave"]).expect(0).json();
    assert_eq!(left["stores"][0]["change"], "removed");
    assert!(s.path("data").exists(), "nobody was asked");
    let v = s.json(&["setup", "charts.saltmarsh.test", "--stores", "bundle"]).json();
    let refused = v["proof"].as_array().unwrap().iter().find(|p| p["client"] == "chromium").unwrap().clone();
    assert_eq!(refused["code"], "net::ERR_CERT_AUTHORITY_INVALID");
    s.run(&["leave", "--yes"]).expect(0);
    assert!(!s.path("data").exists());
}

#[test]
fn leave_goes_by_the_marks_when_the_data_folder_is_gone() {
    if !has(&["chromium"]) {
        return;
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["trust", "add"]).expect(0);
    std::fs::remove_dir_all(s.path("data")).unwrap();
    let status = s.run(&["trust", "status"]);
    assert!(
        status.out.contains("no authority of this ledger")
            && status.out.contains("tamga trust remove tamga-saltmarsh-"),
        "{}",
        status.out
    );
    let asked = s.json(&["leave"]).expect(5).json();
    assert!(asked["remains"][0].as_str().unwrap().contains("leave --yes"), "{asked}");
    let v = s.json(&["leave", "--yes"]).expect(0).json();
    assert_eq!(v["stores"][0]["change"], "removed");
    assert!(!s.path("data").exists(), "a data directory was made again");
    assert!(!s.run(&["trust", "status"]).out.contains("leftover"));
}

#[test]
fn leave_names_each_folder_once_and_its_key_only_where_it_is() {
    let s = lab().without_clients();
    s.run(&["issue", "charts.saltmarsh.test"]).expect(0);
    s.run(&["renew", "charts.saltmarsh.test"]).expect(0);
    s.run(&["request", "archive.saltmarsh.test"]).expect(0);
    s.run(&["request", "gauge-7.saltmarsh.test", "--into", "device"]).expect(0);
    s.run(&["sign", "device/request.pem", "--label", "signed"]).expect(0);
    let v = s.json(&["leave", "--yes"]).expect(0).json();
    let remains: Vec<&str> = v["remains"].as_array().unwrap().iter().map(|r| r.as_str().unwrap()).collect();
    let reply = |folder: &str| remains.iter().filter(|r| r.contains(&format!("/lab/{folder}"))).collect::<Vec<_>>();
    for (folder, key) in [("charts.saltmarsh", true), ("archive.", true), ("device", true), ("signed", false)] {
        let lines = reply(folder);
        assert_eq!(lines.len(), 1, "{folder}: {remains:?}");
        assert_eq!(lines[0].contains("private key"), key, "{remains:?}");
    }
}

#[test]
fn serve_sends_the_certificate_and_stops_on_a_signal() {
    use std::io::{BufRead, BufReader};
    let s = crate::lab();
    let mut c = s.command(&["serve", "charts", "--format", "json"]);
    let mut child = c.stdout(std::process::Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let v: serde_json::Value = serde_json::from_str(&line).unwrap();
    let port = v["port"].as_u64().unwrap();
    s.run(&["check", &format!("localhost:{port}"), "--anchor", "charts/root.pem"]).expect(0);
    assert!(s.run(&["serve", "charts", "--port", &port.to_string()]).expect(4).err.contains("--port"));
    let pid = child.id().to_string();
    assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    assert!(child.wait().unwrap().success());
    s.run(&["serve", "nothing"]).expect(3);
}

/// Called through sudo: the invoking person's data directory and stores, with their rights; the machine's with root's.
#[test]
fn under_sudo_it_acts_for_the_person_who_called() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
    if !has(&["update-ca-certificates"]) {
        return;
    }
    let mut s = sandbox();
    if std::fs::metadata(s.path("root")).unwrap().uid() != 0 {
        eprintln!("SKIPPED: only root can act for somebody else");
        return;
    }
    let (uid, gid) = (65_534, 65_534);
    let home = s.path("home");
    chown(&home, Some(uid), Some(gid)).unwrap();
    for open in [s.path(""), s.path("lab"), s.path("root"), home.clone()] {
        std::fs::set_permissions(open, std::fs::Permissions::from_mode(0o755)).unwrap();
    }
    // Installed where the person may not look, as below root's own home.
    let program = s.behind_a_closed_folder();
    if tamga_testkit::account::run_for_nobody(&s, &home, "", &["list"]).is_none() {
        return;
    }
    let run =
        |words: &[&str], code: i32| tamga_testkit::account::run_for_nobody(&s, &home, "", words).unwrap().expect(code);
    let ran = run(&["authority", "create", "saltmarsh"], 0);
    assert!(ran.err.contains("acting for nobody"), "{}", ran.err);
    let key = home.join(".local/share/tamga/authorities/saltmarsh/private-key.pem");
    assert_eq!(std::fs::metadata(&key).unwrap().uid(), uid);
    run(&["trust", "add", "--scope", "machine"], 0);
    let anchors = s.path("root/usr/local/share/ca-certificates");
    let anchor = std::fs::read_dir(&anchors).unwrap().flatten().next().unwrap();
    assert_eq!(anchor.metadata().unwrap().uid(), 0);
    if has(&["chromium"]) {
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o700)).unwrap();
        assert!(run(&["trust", "add"], 4).out.contains("chmod 755"));
        std::fs::set_permissions(&program, std::fs::Permissions::from_mode(0o755)).unwrap();
        run(&["trust", "add"], 0);
        assert_eq!(std::fs::metadata(home.join(".local/share/pki/nssdb/cert9.db")).unwrap().uid(), uid);
    }
    assert_eq!(anchor.metadata().unwrap().gid(), 0);
    // With a data directory named, root's rights stay for it, but the person's database is still theirs.
    run(&["--data-dir", "/proc/self/cwd/named", "authority", "create", "second"], 0);
    assert_eq!(std::fs::metadata(s.lab("named/ledger.sqlite")).unwrap().uid(), 0);
    if has(&["chromium"]) {
        run(&["--data-dir", "/proc/self/cwd/named", "trust", "add"], 0);
        for file in std::fs::read_dir(home.join(".local/share/pki/nssdb")).unwrap().flatten() {
            assert_eq!(file.metadata().unwrap().uid(), uid);
        }
    }
    // What only root may write is refused to the person's rights.
    run(&["issue", "x.test", "--into", "/root/tamga-must-not-be-here"], 4);
    run(&["leave", "--yes"], 0);
    assert_eq!(std::fs::read_dir(&anchors).unwrap().count(), 0);
}
