//! Authorities through their whole life.

use crate::{lab, sandbox};
use serde_json::Value;
use tamga_core::error::Error;
use tamga_core::pki::format::private_key;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::{judge, sample, terminal};

fn authority(s: &Sandbox, label: &str) -> Value {
    s.json(&["authority", "show", label]).expect(0).json()["authorities"][0].clone()
}

fn now() -> u64 {
    tamga_host::entropy::now().unix().unsigned_abs()
}

fn chain(s: &Sandbox, folder: &str) -> (Vec<Vec<u8>>, Vec<u8>) {
    let read = |name: &str| std::fs::read(s.lab(&format!("{folder}/{name}"))).unwrap();
    let root = tamga_core::pki::format::pem::certificates(&read("root.pem")).remove(0);
    (tamga_core::pki::format::pem::certificates(&read("certificate.pem")), root)
}

#[test]
fn intermediates_of_any_depth_give_whole_chains_that_webpki_takes() {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let mut above = "saltmarsh".to_owned();
    for n in 1..=4 {
        let label = format!("level-{n}");
        s.run(&["authority", "create", &label, "--issuer", &above]).expect(0);
        above = label;
    }
    s.run(&["issue", "charts.saltmarsh.test", "--issuer", "level-4", "--label", "charts"]).expect(0);
    let (served, root) = chain(&s, "charts");
    assert_eq!(served.len(), 5);
    judge::webpki(&served, &root, "charts.saltmarsh.test", now()).unwrap();
    assert!(judge::webpki(&served[..1], &root, "charts.saltmarsh.test", now()).is_err(), "the chain is needed");
    let v =
        s.json(&["check", "charts", "--name", "charts.saltmarsh.test", "--anchor", "charts/root.pem"]).expect(0).json();
    assert_eq!(v["targets"][0]["paths"][0].as_array().unwrap().len(), 6);
    assert_eq!(authority(&s, "level-4")["issuer"], "level-3");
    // What goes into stores for an intermediate is its root, under the root's label.
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    let v = s.json(&["trust", "add", "level-4", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0).json();
    assert_eq!(v["stores"][0]["root"]["label"], "saltmarsh");
}

#[test]
fn limits_are_inherited_narrowed_and_never_widened() {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh", "--path-length", "1"]).expect(0);
    s.run(&["authority", "create", "web", "--issuer", "saltmarsh", "--permit", "charts.saltmarsh.test"]).expect(0);
    assert_eq!(authority(&s, "web")["path_length"], 0);
    let refused = s.json(&["authority", "create", "deeper", "--issuer", "web"]).expect(3).json();
    assert_eq!(refused["error"]["code"], "path-too-long");
    let refused =
        s.json(&["authority", "create", "wide", "--issuer", "saltmarsh", "--permit", "saltmarsh.org"]).expect(3).json();
    assert_eq!(refused["error"]["code"], "constraint-violated");
    assert!(s.run(&["issue", "archive.saltmarsh.test", "--issuer", "web"]).expect(3).err.contains("permit web"));
    s.run(&["issue", "charts.saltmarsh.test", "--issuer", "web"]).expect(0);
    // A leaf never outlives what is above its authority.
    s.run(&["authority", "create", "short", "--valid-for", "10d"]).expect(0);
    s.run(&["authority", "create", "under", "--issuer", "short"]).expect(0);
    let v = s.json(&["issue", "x.test", "--issuer", "under"]).expect(0).json();
    assert_eq!(v["findings"][0]["code"], "outlives-issuer");
    assert_eq!(v["certificates"][0]["not_after"], authority(&s, "short")["not_after"]);
}

#[test]
fn permit_reissues_the_root_with_the_same_key_and_replaces_it() {
    let s = lab();
    std::fs::write(s.lab("roots.pem"), "# other\n").unwrap();
    let bundle = ["--stores", "bundle", "--bundle", "roots.pem"];
    s.run(&[&["trust", "add"], &bundle[..]].concat()).expect(0);
    s.run(&["issue", "gauge.tides.example"]).expect(3);
    let before = sample::certificate(&s.path("data/authorities/saltmarsh/certificate.pem"));
    let words = ["authority", "permit", "saltmarsh", "tides.example", "203.0.113.0/24", "--bundle", "roots.pem"];
    assert_eq!(s.json(&[&words[..], &["--dry-run"]].concat()).expect(0).json()["dry_run"], true);
    let v = s.json(&words).expect(0).json();
    let changes: Vec<&str> = v["stores"].as_array().unwrap().iter().map(|r| r["change"].as_str().unwrap()).collect();
    assert_eq!(changes, ["added", "removed"]);
    let after = sample::certificate(&s.path("data/authorities/saltmarsh/certificate.pem"));
    assert_eq!(
        (&after.key, &after.subject, &after.key_identifier),
        (&before.key, &before.subject, &before.key_identifier)
    );
    assert_ne!(after.serial, before.serial);
    let text = std::fs::read_to_string(s.lab("roots.pem")).unwrap();
    assert_eq!(text.matches("BEGIN CERTIFICATE").count(), 1);
    assert!(text.starts_with("# other\n") && text.contains(after.sha256().short()));
    // What it signed before is still good under the new root; new names can be issued.
    let (served, _) = chain(&s, "charts");
    judge::webpki(&served, after.der(), "charts.saltmarsh.test", now()).unwrap();
    s.run(&["issue", "gauge.tides.example", "203.0.113.9"]).expect(0);
    assert!(s.run(&words).expect(0).out.contains("nothing changed"));
    // The earlier root is still known as ours, wherever it may turn up.
    std::fs::write(s.lab("old.pem"), tamga_core::pki::format::pem::write("CERTIFICATE", before.der()).as_bytes())
        .unwrap();
    let v = s.json(&["trust", "status", "--stores", "bundle", "--bundle", "old.pem"]).json();
    assert!(v["leftovers"].as_array().unwrap().is_empty());
}

#[test]
fn keys_are_encrypted_opened_changed_and_freed() {
    let s = sandbox();
    for (name, text) in [("one", "spring tide at midnight\n"), ("two", "neap tide at midnight\n"), ("empty", "\n")] {
        std::fs::write(s.lab(name), text).unwrap();
    }
    s.run(&["authority", "create", "saltmarsh", "--new-passphrase-file", "empty"]).expect(3);
    s.run(&["authority", "create", "saltmarsh", "--encrypt-key"]).expect(3);
    s.run(&["authority", "create", "saltmarsh", "--new-passphrase-file", "one"]).expect(0);
    let key = s.path("data/authorities/saltmarsh/private-key.pem");
    let text = std::fs::read_to_string(&key).unwrap();
    assert!(text.contains("ENCRYPTED PRIVATE KEY"));
    assert!(matches!(private_key::read(text.as_bytes(), "k").unwrap().open(None), Err(Error::PassphraseNeeded { .. })));
    let asked = s.json(&["issue", "x.test"]).expect(3).json();
    assert_eq!(asked["error"]["code"], "passphrase-needed");
    assert!(asked["error"]["remedy"].as_str().unwrap().contains("--passphrase-file"));
    assert_eq!(
        s.json(&["issue", "x.test", "--passphrase-file", "two"]).expect(3).json()["error"]["code"],
        "passphrase-wrong"
    );
    s.run(&["issue", "x.test", "--passphrase-file", "one"]).expect(0);
    let mut c = s.command(&["issue", "y.test", "--passphrase-env", "TIDE"]);
    c.env("TIDE", "spring tide at midnight");
    assert!(c.status().unwrap().success());
    s.run(&["authority", "passphrase", "saltmarsh", "--passphrase-file", "one", "--new-passphrase-file", "two"])
        .expect(0);
    s.run(&["issue", "z.test", "--passphrase-file", "one"]).expect(3);
    s.run(&["issue", "z.test", "--passphrase-file", "two"]).expect(0);
    s.run(&["authority", "passphrase", "saltmarsh", "--passphrase-file", "two", "--remove", "--yes"]).expect(0);
    s.run(&["issue", "free.test"]).expect(0);
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(&key).unwrap().permissions().mode() & 0o777, 0o600);
    let kinds: Vec<String> = s.json(&["show", "saltmarsh", "--history"]).expect(0).json()["objects"][0]["history"]
        .as_array()
        .unwrap()
        .iter()
        .map(|e| e["kind"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(kinds, ["authority-created", "passphrase-changed", "passphrase-removed"]);
}

#[test]
fn a_person_is_asked_twice_without_an_echo() {
    let s = sandbox();
    let words = ["authority", "create", "saltmarsh", "--encrypt-key"];
    let differ = [("new passphrase", "spring tide at midnight\n"), ("once more", "neap tide at midnight\n")];
    let ran = terminal::run(s.command(&words), &differ);
    assert!(ran.code == 3 && ran.seen.contains("not the same"), "{}", ran.seen);
    let same = [("new passphrase", "spring tide at midnight\n"), ("once more", "spring tide at midnight\n")];
    let ran = terminal::run(s.command(&words), &same);
    assert!(ran.code == 0 && !ran.seen.contains("spring"), "{}", ran.seen);
    let ran = terminal::run(
        s.command(&["issue", "x.test"]),
        &[("passphrase of the key of saltmarsh", "spring tide at midnight\n")],
    );
    assert!(ran.code == 0 && !ran.seen.contains("spring"), "{}", ran.seen);
}

#[test]
fn a_key_leaves_and_comes_back() {
    let s = lab();
    std::fs::write(s.lab("pass"), "spring tide at midnight\n").unwrap();
    let secret = ["--new-passphrase-file", "pass"];
    s.run(&["authority", "offline", "saltmarsh", "--into", "stick"]).expect(3);
    let v = s.json(&[&["authority", "offline", "saltmarsh", "--into", "stick"], &secret[..]].concat()).expect(0).json();
    assert_eq!(v["authorities"][0]["key"], "offline");
    assert!(!s.path("data/authorities/saltmarsh/private-key.pem").exists());
    assert!(std::fs::read_to_string(s.lab("stick/private-key.pem")).unwrap().contains("ENCRYPTED"));
    for words in
        [&["issue", "x.test"][..], &["renew", "charts"], &["authority", "crl", "saltmarsh", "--output", "s.crl"]]
    {
        let ran = s.run(words).expect(3);
        assert!(ran.err.contains("stick") && ran.err.contains("authority online"), "{}", ran.err);
    }
    assert!(s.run(&["authority", "list"]).expect(0).out.contains("offline in"));
    assert!(s.run(&["revoke", "charts", "--reason", "superseded", "--yes"]).expect(0).out.contains("authority online"));
    s.run(&["authority", "online", "stick"]).expect(3);
    s.run(&["authority", "online", "stick", "--passphrase-file", "pass"]).expect(0);
    s.run(&["issue", "x.test", "--passphrase-file", "pass"]).expect(0);
    // Another authority's key does not take the place of this one.
    s.run(&["authority", "create", "harbour"]).expect(0);
    s.run(&["authority", "offline", "harbour", "--into", "stick", "--unencrypted"]).expect(3);
    s.run(&["authority", "offline", "harbour", "--into", "card", "--unencrypted"]).expect(0);
    s.run(&["authority", "online", "card"]).expect(0);
}

#[test]
fn lists_count_up_and_keep_what_they_revoked() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test", "--crl-url", "http://pki.saltmarsh.test/s.crl"]).expect(0);
    let leaf = sample::certificate(&s.lab("archive.saltmarsh.test/certificate.pem"));
    assert_eq!(leaf.crl_urls, ["http://pki.saltmarsh.test/s.crl"]);
    s.run(&["revoke", "archive.saltmarsh.test", "--reason", "keyCompromise", "--yes"]).expect(0);
    assert!(s.run(&["show", "archive.saltmarsh.test"]).expect(0).out.contains("not published yet"));
    let sign =
        |file: &str| s.json(&["authority", "crl", "saltmarsh", "--output", file]).expect(0).json()["crl"].clone();
    let (first, second) = (sign("one.crl"), sign("two.pem"));
    assert!(second["number"].as_u64() > first["number"].as_u64());
    assert_eq!((first["entries"].as_u64(), second["entries"].as_u64()), (Some(1), Some(1)));
    assert!(s.run(&["show", "archive.saltmarsh.test"]).expect(0).out.contains("in a signed list"));
    assert_eq!(std::fs::read(s.lab("one.crl")).unwrap()[0], 0x30, ".crl is DER");
    let shown = s.json(&["show", "two.pem"]).expect(0).json()["objects"][0].clone();
    assert_eq!(
        (shown["kind"].as_str(), shown["entries"][0]["serial"].as_str()),
        (Some("crl"), Some(leaf.serial.as_str()))
    );
    assert_eq!(shown["entries"][0]["reason"], "key-compromise");
    // Twice changes nothing; another label's serial is not found.
    assert!(
        s.run(&["revoke", "archive.saltmarsh.test", "--reason", "superseded", "--yes"])
            .expect(0)
            .out
            .contains("already")
    );
    s.run(&["revoke", "archive.saltmarsh.test", "--reason", "superseded", "--yes", "--serial", "00ff"]).expect(3);
    s.run(&["revoke", "archive.saltmarsh.test", "--reason", "because"]).expect(2);
    s.run(&["revoke", "nobody", "--reason", "superseded", "--yes"]).expect(3);
}

#[test]
fn a_restored_ledger_signs_no_list_that_forgets() {
    let s = lab();
    std::fs::write(s.lab("pass"), "spring tide at midnight\n").unwrap();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let (new, old) = (["--new-passphrase-file", "pass"], ["--passphrase-file", "pass"]);
    s.run(&[&["authority", "backup", "--output", "lab.age"], &new[..]].concat()).expect(0);
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(s.lab("lab.age")).unwrap().permissions().mode() & 0o777, 0o600);
    // Revoked and published after the backup.
    s.run(&["revoke", "archive.saltmarsh.test", "--reason", "key-compromise", "--yes"]).expect(0);
    let before = s.json(&["authority", "crl", "saltmarsh", "--output", "published.crl"]).expect(0).json();
    let elsewhere = |words: &[&str]| s.json(&[&["--data-dir", "new"], words].concat());
    std::fs::write(s.lab("wrong"), "neap tide at midnight\n").unwrap();
    elsewhere(&["authority", "restore", "lab.age", "--passphrase-file", "wrong"]).expect(3);
    assert!(!s.lab("new").exists(), "nothing is left of a restore that failed");
    s.run(&[&["authority", "restore", "lab.age"], &old[..]].concat()).expect(3);
    elsewhere(&[&["authority", "restore", "lab.age"], &old[..]].concat()).expect(0);
    for (path, mode) in s.files("lab/new") {
        assert!(!path.ends_with("private-key.pem") || mode == 0o600, "{}", path.display());
    }
    let refused = elsewhere(&["authority", "crl", "saltmarsh", "--output", "next.crl"]).expect(3).json();
    assert_eq!(refused["error"]["code"], "list-may-be-behind");
    let words = ["authority", "crl", "saltmarsh", "--output", "next.crl", "--previous", "published.crl"];
    let after = elsewhere(&words).expect(0).json();
    assert_eq!(after["crl"]["entries"], 1);
    assert!(after["crl"]["number"].as_u64() > before["crl"]["number"].as_u64());
    elsewhere(&["issue", "fresh.saltmarsh.test"]).expect(0);
}

#[test]
fn a_ca_made_elsewhere_is_checked_before_it_is_taken_in() {
    let s = lab();
    let take = |label: &str, certificate: &str, key: &str, more: &[&str]| {
        s.json(&[&["authority", "import", label, "--certificate", certificate, "--key-file", key], more].concat())
    };
    // No CA; another key; something that is no certificate.
    let refused = take("x", "charts/certificate.pem", "charts/private-key.pem", &[]).expect(3).json();
    assert_eq!(refused["error"]["code"], "intermediate-not-a-ca");
    let root = s.path("data/authorities/saltmarsh/certificate.pem").display().to_string();
    assert_eq!(take("x", &root, "charts/private-key.pem", &[]).expect(3).json()["error"]["code"], "key-mismatch");
    take("x", "charts/private-key.pem", "charts/private-key.pem", &[]).expect(3);
    // One of another data directory, its key encrypted: taken in, noted, used.
    std::fs::write(s.lab("pass"), "spring tide at midnight\n").unwrap();
    let words =
        ["--data-dir", "old", "authority", "create", "harbour", "--permit-any", "--new-passphrase-file", "pass"];
    s.run(&words).expect(0);
    let (c, k) = ("old/authorities/harbour/certificate.pem", "old/authorities/harbour/private-key.pem");
    take("harbour", c, k, &[]).expect(3);
    let v = take("harbour", c, k, &["--passphrase-file", "pass"]).expect(0).json();
    assert_eq!(v["findings"][0]["code"], "unconstrained");
    take("again", c, k, &["--passphrase-file", "pass"]).expect(3);
    let v =
        s.json(&["issue", "www.saltmarsh.org", "--issuer", "harbour", "--passphrase-file", "pass"]).expect(0).json();
    assert_eq!(v["findings"][0]["code"], "public-name");
    // One that has expired is refused unless its records are wanted.
    s.run(&["--data-dir", "gone", "authority", "create", "ebb", "--valid-for", "1m"]).expect(0);
    let (certificate, _) = ("gone/authorities/ebb/certificate.pem", 0);
    assert_eq!(sample::certificate(&s.lab(certificate)).subject_words(), "CN=ebb root (Tamga, tests only)");
}

#[test]
fn a_successor_is_crossed_with_its_predecessor() {
    let s = lab();
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    s.run(&["trust", "add", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
    let old = sample::certificate(&s.path("data/authorities/saltmarsh/certificate.pem"));
    let words = ["authority", "rollover", "saltmarsh", "next", "--bundle", "roots.pem"];
    let v = s.json(&words).expect(0).json();
    assert_eq!(v["stores"][0]["change"], "added");
    let new = sample::certificate(&s.path("data/authorities/next/certificate.pem"));
    assert_eq!(std::fs::read_to_string(s.lab("roots.pem")).unwrap().matches("BEGIN CERTIFICATE").count(), 2);
    s.run(&["issue", "archive.saltmarsh.test", "--issuer", "next"]).expect(0);
    let (served, root) = chain(&s, "archive.saltmarsh.test");
    assert_eq!(root, new.der());
    // Anyone who trusts only one of the two roots accepts what the other signed.
    for trusted in [&old, &new] {
        judge::webpki(&served, trusted.der(), "archive.saltmarsh.test", now()).unwrap();
    }
    s.run(&["renew", "charts"]).expect(0);
    let (served, _) = chain(&s, "charts");
    for trusted in [&old, &new] {
        judge::webpki(&served, trusted.der(), "charts.saltmarsh.test", now()).unwrap();
    }
    s.run(&["authority", "rollover", "saltmarsh", "next"]).expect(3);
}

#[test]
fn a_retired_authority_leaves_the_stores_and_signs_no_more() {
    let s = lab();
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    s.run(&["trust", "add", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
    s.run(&["revoke", "charts", "--reason", "cessation-of-operation", "--yes"]).expect(0);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let words =
        ["authority", "retire", "saltmarsh", "--yes", "--discard-key", "--output", "last.crl", "--bundle", "roots.pem"];
    let v = s.json(&words).expect(0).json();
    assert_eq!((v["list"]["entries"].as_u64(), v["live"][0].as_str()), (Some(1), Some("archive.saltmarsh.test")));
    assert_eq!(v["stores"][0]["change"], "removed");
    assert!(std::fs::read(s.lab("roots.pem")).unwrap().is_empty());
    assert!(!s.path("data/authorities/saltmarsh/private-key.pem").exists());
    assert!(s.run(&["issue", "x.test", "--issuer", "saltmarsh"]).expect(2).err.contains("retired"));
    assert_eq!(authority(&s, "saltmarsh")["retired"], true);
    s.run(&["issue", "x.test"]).expect(3);
    assert_eq!(s.json(&["list"]).expect(0).json()["certificates"].as_array().unwrap().len(), 2, "records stay");
}

#[test]
fn an_intermediate_is_made_between_two_machines() {
    let s = sandbox();
    // Of the two data directories only the one whose machine works is there at all.
    let at = |machine: &str, words: &[&str], code: i32| {
        let (other, away) = (if machine == "online" { "isolated" } else { "online" }, s.path("away"));
        let there = s.lab(other).exists();
        if there {
            std::fs::rename(s.lab(other), &away).unwrap();
        }
        let said = s.json(&[&["--data-dir", machine], words].concat()).expect(code).json();
        if there {
            std::fs::rename(&away, s.lab(other)).unwrap();
        }
        said
    };
    at("isolated", &["authority", "create", "saltmarsh"], 0);
    std::fs::copy(s.lab("isolated/authorities/saltmarsh/certificate.pem"), s.lab("other.pem")).unwrap();
    at("online", &["authority", "request", "web", "--permit", "charts.saltmarsh.test", "--output", "web.pem"], 0);
    assert_eq!(at("online", &["authority", "list"], 0)["authorities"][0]["state"], "waiting");
    at("online", &["issue", "charts.saltmarsh.test"], 3);
    // Shown before it is signed.
    let shown = s.run(&["--data-dir", "isolated", "authority", "sign", "web.pem", "--dry-run"]).expect(0).out;
    for part in ["web intermediate", "charts.saltmarsh.test", "path length", "under"] {
        assert!(shown.contains(part), "{part}: {shown}");
    }
    let signed = at("isolated", &["authority", "sign", "web.pem", "--path-length", "0", "--into", "signed"], 0);
    assert_eq!(signed["authorities"][0]["key"], "elsewhere");
    at("isolated", &["issue", "charts.saltmarsh.test", "--issuer", "web"], 3);
    // A certificate of another key is not revoked.
    at("online", &["authority", "receive", "web", "--certificate", "other.pem"], 3);
    let got = at("online", &["authority", "receive", "web", "--certificate", "signed/certificate.pem"], 0);
    assert_eq!(
        (got["authorities"][0]["path_length"].as_u64(), got["authorities"][0]["key"].as_str()),
        (Some(0), Some("here"))
    );
    assert!(!s.lab("online/authorities/web/request.pem").exists());
    at("online", &["issue", "charts.saltmarsh.test"], 0);
    at("online", &["issue", "archive.saltmarsh.test"], 3);
    let (served, root) = chain(&s, "charts.saltmarsh.test");
    assert_eq!(served.len(), 2);
    judge::webpki(&served, &root, "charts.saltmarsh.test", now()).unwrap();
    // A handshake under the intermediate.
    let identity = sample::Identity {
        certificate: sample::certificate(&s.lab("charts.saltmarsh.test/certificate.pem")),
        key: tamga_core::ca::authority::read_key(
            &std::fs::read(s.lab("charts.saltmarsh.test/private-key.pem")).unwrap(),
            "k",
        )
        .unwrap(),
    };
    let between = tamga_core::pki::cert::Certificate::read(&served[1], "intermediate").unwrap();
    let site = sample::serve(&identity, &[&between]);
    let target = format!("https://charts.saltmarsh.test:{}", site.port);
    let resolve = "charts.saltmarsh.test=127.0.0.1";
    let root = "charts.saltmarsh.test/root.pem";
    at("online", &["check", &target, "--resolve", resolve, "--anchor", root], 0);
    // The online machine has never had the root's key, nor anything else of the isolated one.
    let key = std::fs::read(s.lab("isolated/authorities/saltmarsh/private-key.pem")).unwrap();
    for (path, _) in s.files("lab/online") {
        assert_ne!(std::fs::read(&path).unwrap_or_default(), key, "{}", path.display());
    }
}
