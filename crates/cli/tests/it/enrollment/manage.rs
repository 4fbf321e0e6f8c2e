//! Invitations, accounts and the unit: what the administrator does.

use super::Service;
use super::own::Client;
use crate::{lab, sandbox};
use std::os::unix::fs::PermissionsExt;

#[test]
fn an_invitation_is_written_for_its_owner_alone() {
    let s = lab();
    let file = s.lab("charts.invitation");
    let named = ["enrollment", "invite", "--output", file.to_str().unwrap(), "--names", "charts.saltmarsh.test"];
    let made = s.run(&named).expect(0);
    assert!(made.out.contains("charts.saltmarsh.test"), "{}", made.out);
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let text = std::fs::read_to_string(&file).unwrap();
    let key = text.lines().find_map(|l| l.strip_prefix("key = ")).unwrap().to_owned();
    assert!(!made.out.contains(&key) && !made.err.contains(&key));
    // A second one never takes its place.
    let again = s.run(&named).expect(3);
    assert!(again.err.contains("already exists"), "{}", again.err);
    // Into a pipe a key goes only where that was said.
    let refused = s.run(&["enrollment", "invite"]).expect(2);
    assert!(refused.err.contains("--output"), "{}", refused.err);
    assert!(s.run(&["enrollment", "invite", "--output", "-"]).expect(0).out.contains("key = "));
    let said = s
        .json(&["enrollment", "invite", "--output", s.lab("second").to_str().unwrap(), "--uses", "3"])
        .expect(0)
        .json();
    assert_eq!(said["invitation"]["uses"], 3);
    let second = std::fs::read_to_string(s.lab("second")).unwrap();
    assert!(!said.to_string().contains(second.lines().last().unwrap().trim_start_matches("key = ")));
    // The ledger does not have it in clear.
    for file in ["data/ledger.sqlite", "data/ledger.sqlite-wal"] {
        let bytes = std::fs::read(s.path(file)).unwrap_or_default();
        assert!(!bytes.windows(key.len()).any(|w| w == key.as_bytes()), "{file}");
    }
    let wrong = s.run(&["enrollment", "invite", "--output", "x", "--names", "10.0.0.0/99"]).expect(2);
    assert!(wrong.err.contains("block"), "{}", wrong.err);
}

#[test]
fn accounts_are_listed_shown_and_blocked() {
    let s = lab();
    assert!(s.run(&["enrollment", "accounts"]).expect(0).out.contains("no account yet"));
    let service = Service::start(&s, &[]);
    let listen = format!("127.0.0.1:{}", service.http);
    let contact = ["--contact", "lab-operator@saltmarsh.test", "--challenge-listen", &listen];
    Client::new(&s, &service).asks(&["charts.saltmarsh.test"], &contact).expect(0);
    let listed = s.run(&["enrolment", "accounts", "list"]).expect(0);
    assert!(listed.words().contains("lab-operator@saltmarsh.test"), "{}", listed.out);
    let shown = s.json(&["enrollment", "accounts", "show", "1"]).expect(0).json();
    assert_eq!((&shown["accounts"][0]["certificates"], &shown["accounts"][0]["state"]), (&1.into(), &"valid".into()));
    assert!(s.run(&["enrollment", "accounts", "show", "7"]).expect(3).err.contains("no account 7"));
    s.run(&["enrollment", "accounts", "block", "1", "--dry-run"]).expect(0);
    assert!(s.run(&["enrollment", "accounts", "show", "1"]).expect(0).out.contains("valid"));
    s.run(&["enrollment", "accounts", "block", "1"]).expect(0);
    assert!(s.run(&["enrollment", "accounts", "show", "1"]).expect(0).out.contains("blocked"));
    // What it got is listed with the rest, has no file here, and is said to be elsewhere.
    let listed = s.json(&["list", "charts.saltmarsh.test"]).expect(0).json();
    let one =
        listed["certificates"].as_array().unwrap().iter().find(|c| c["label"] == "charts.saltmarsh.test").unwrap();
    assert_eq!((&one["folder"], &one["files"]), (&"".into(), &serde_json::json!({})), "{listed}");
    assert!(s.run(&["show", "charts.saltmarsh.test"]).expect(0).out.contains("on the machine of the client"));
    // Even its own files, lying where the command is run, are not taken from there unnamed.
    for name in ["private-key.pem", "certificate.pem"] {
        std::fs::rename(s.lab("charts.saltmarsh.test").join(name), s.lab(name)).unwrap();
    }
    std::fs::remove_dir_all(s.lab("charts.saltmarsh.test")).unwrap();
    for words in [
        &["export", "charts.saltmarsh.test", "--as", "pem", "--output", "x.pem"][..],
        &["recipe", "nginx", "charts.saltmarsh.test"],
        &["serve", "charts.saltmarsh.test"],
    ] {
        let refused = s.run(words).expect(3);
        assert!(refused.err.contains("are not here"), "{words:?}: {}", refused.err);
    }
    let page = s.lab("lab.html");
    let status = s.run(&["status", "--report", page.to_str().unwrap()]).expect(1);
    assert!(status.out.contains("enrolled"), "{}", status.out);
    assert!(std::fs::read_to_string(page).unwrap().contains("<h2>Enrolled</h2>"));
    // A client that has not renewed when its time is nearly over is a problem.
    let later = tamga_host::entropy::now().plus(80 * 86_400).to_string();
    let late = s.json(&["status", "--at", &later]).expect(1).json();
    let said = late["problems"]
        .as_array()
        .unwrap()
        .iter()
        .any(|p| p["summary"].as_str().unwrap().contains("account 1 has not renewed charts.saltmarsh.test"));
    assert!(said, "{late}");
}

#[test]
fn the_key_of_the_root_stays_closed_and_an_offline_one_says_what_to_run() {
    let s = lab();
    Service::start(&s, &[]).kill();
    // The second start needs no key of the root.
    let key = s.path("data/authorities/saltmarsh/private-key.pem");
    std::fs::rename(&key, s.path("kept")).unwrap();
    Service::start(&s, &[]).kill();
    std::fs::rename(s.path("kept"), &key).unwrap();
    let t = sandbox();
    t.run(&["authority", "create", "saltmarsh"]).expect(0);
    std::fs::create_dir_all(t.path("stick")).unwrap();
    t.run(&[
        "authority",
        "offline",
        "saltmarsh",
        "--unencrypted",
        "--into",
        t.path("stick").to_str().unwrap(),
        "--yes",
    ])
    .expect(0);
    let refused = t.run(&["enrollment", "serve", "--listen", "127.0.0.1:0", "--name", "localhost"]).expect(3);
    for command in ["authority request saltmarsh-enrollment", "authority sign", "authority receive"] {
        assert!(refused.err.contains(command), "{}", refused.err);
    }
}

#[test]
fn the_unit_has_what_was_typed_and_little_else() {
    let s = lab();
    let words = ["--listen", "0.0.0.0:443", "--name", "enroll.saltmarsh.test", "--allow", "saltmarsh.test,10.0.0.0/8"];
    let unit = s.run(&[&["enrollment", "unit", "systemd"][..], &words].concat()).expect(0).out;
    for line in [
        "enrollment serve --listen 0.0.0.0:443 --name enroll.saltmarsh.test --allow saltmarsh.test,10.0.0.0/8 --data-dir",
        "NoNewPrivileges=yes",
        "SystemCallFilter=@system-service",
        "MemoryMax=256M",
    ] {
        assert!(unit.contains(line), "{line}: {unit}");
    }
    assert!(s.run(&["enrollment", "unit", "systemd"]).expect(2).err.contains("--listen"));
}

#[test]
fn a_start_that_cannot_be_says_why() {
    let s = lab();
    let serve =
        |more: &[&str]| s.run(&[&["enrollment", "serve", "--listen", "127.0.0.1:0", "--name"][..], more].concat());
    assert!(serve(&["enroll.example.org"]).expect(3).err.contains("enroll.example.org"));
    assert!(serve(&["localhost", "--url", "http://x"]).expect(2).err.contains("https://"));
    assert!(serve(&["localhost", "--publish-url", "http://x"]).expect(2).err.contains("--publish-listen"));
    let publish = ["localhost", "--publish-listen", "127.0.0.1:0", "--publish-url", "https://x"];
    assert!(serve(&publish).expect(2).err.contains("http://HOST"));
    let service = Service::start(&s, &[]);
    let taken = format!("127.0.0.1:{}", service.port);
    let refused = s.run(&["enrollment", "serve", "--listen", &taken, "--name", "localhost"]).expect(4);
    assert!(refused.err.contains(&service.port.to_string()), "{}", refused.err);
    assert!(s.run(&["enrollment", "serve", "--name", "x.test", "--listen", "443"]).expect(2).err.contains("443"));
}

#[test]
fn a_damaged_ledger_keeps_accounts_and_what_they_got() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let listen = format!("127.0.0.1:{}", service.http);
    let client = Client::new(&s, &service);
    client.asks(&["charts.saltmarsh.test"], &["--challenge-listen", &listen]).expect(0);
    let (http, tls) = (service.http, service.tls);
    assert_eq!(service.stop(), 0);
    // One octet in the row of an event: the file is no longer what was recorded, and nearly all of it reads.
    let file = s.path("data/ledger.sqlite");
    {
        let db = rusqlite::Connection::open(&file).unwrap();
        db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())).unwrap();
    }
    let root = std::fs::read(super::root(&s)).unwrap();
    let der = tamga_core::pki::format::pem::certificates(&root).remove(0);
    let mut bytes = std::fs::read(&file).unwrap();
    let at = bytes.windows(20).position(|w| w == &der[40..60]).unwrap();
    bytes[at] ^= 1;
    std::fs::write(&file, bytes).unwrap();
    s.run(&["repair"]).expect(0);
    let kept = s.json(&["enrollment", "accounts"]).expect(0).json();
    assert_eq!(kept["accounts"][0]["certificates"], 1, "{kept}");
    assert_eq!(
        s.json(&["list", "charts.saltmarsh.test"]).expect(0).json()["certificates"].as_array().unwrap().len(),
        2
    );
    Service::start_at(&s, "127.0.0.1:0", http, tls, &[]).kill();
}
