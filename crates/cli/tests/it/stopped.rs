//! The program stopped dead after every single change to a file: nothing lost, torn or readable by others.

use crate::{lab, sandbox};
use std::path::Path;
use tamga_core::ca::authority::{KEY_FILE, read_key};
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::{sample, trace};

/// Every file with a private key in it is 0600, at whatever moment one looks.
fn keys_are_private(s: &Sandbox, when: &str) {
    for (path, mode) in s.files("lab").into_iter().chain(s.files("data")) {
        let text = std::fs::read(&path).unwrap_or_default();
        let key = text.windows(11).any(|w| w == b"PRIVATE KEY") || path.to_string_lossy().contains("private-key");
        assert!(!key || mode == 0o600, "{when}: {} is {mode:o}", path.display());
    }
}

fn pair_matches(folder: &Path, when: &str) {
    let key = read_key(&std::fs::read(folder.join(KEY_FILE)).unwrap(), "key").unwrap();
    let certificate = sample::certificate(&folder.join("certificate.pem"));
    assert_eq!(*key.public(), certificate.key, "{when}: torn pair in {}", folder.display());
}

/// Enumerates the points of a command, stops at each in a fresh sandbox, and looks at what the next run makes of it.
fn at_every_point(prepare: impl Fn() -> Sandbox, words: &[&str], look: impl Fn(&Sandbox, &str)) {
    let s = prepare();
    let Some(whole) = trace::run(s.command(words), None) else {
        eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
        return;
    };
    assert_eq!(whole.code, Some(0));
    look(&s, "not stopped");
    eprintln!("{} points of tamga {}:", whole.calls.len(), words.join(" "));
    assert!(whole.calls.len() > 12, "too few points to be true: {:?}", whole.calls);
    for (i, call) in whole.calls.iter().enumerate() {
        let when = format!("stopped after {} {} {}", i + 1, call.name, call.path);
        eprintln!("  {when}");
        let s = prepare();
        let cut = trace::run(s.command(words), Some(i + 1)).unwrap();
        assert!(cut.stopped || i + 1 == whole.calls.len(), "{when}: it was not stopped");
        keys_are_private(&s, &when);
        // The next run says what it finds and goes on.
        s.run(&["issue", "next.saltmarsh.test", "--self-signed", "--label", "next"]).expect(0);
        for (path, _) in s.files("lab").into_iter().chain(s.files("data/authorities")) {
            assert!(!path.to_string_lossy().contains(".tamga-"), "{when}: {} was left", path.display());
        }
        look(&s, &when);
    }
}

#[test]
fn issue() {
    at_every_point(lab, &["issue", "archive.saltmarsh.test"], |s, when| {
        let listed = s.json(&["list"]).expect(0).json();
        let rows: Vec<_> = listed["certificates"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|c| c["label"] == "archive.saltmarsh.test")
            .collect();
        let folder = s.lab("archive.saltmarsh.test");
        assert!(rows.len() <= 1, "{when}: issued twice");
        let live = rows.iter().any(|r| r["state"] == "valid");
        assert_eq!(live, folder.exists(), "{when}: ledger and folder disagree: {rows:?}");
        if live {
            pair_matches(&folder, when);
        } else {
            s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
        }
        pair_matches(&s.lab("charts"), when);
    });
}

#[test]
fn authority_create() {
    at_every_point(sandbox, &["authority", "create", "saltmarsh"], |s, when| {
        let listed = s.json(&["authority", "list"]).expect(0).json();
        let known = listed["authorities"].as_array().unwrap().iter().any(|a| a["label"] == "saltmarsh");
        let folder = s.path("data/authorities/saltmarsh");
        assert_eq!(known, folder.exists(), "{when}");
        if known {
            pair_matches(&folder, when);
        }
    });
}

/// A certificate is replaced in a directory that stands: the pair is the old one or the new one.
#[test]
fn setup_that_extends() {
    let prepare = || {
        let s = sandbox().without_clients();
        s.run(&["setup", "charts.saltmarsh.test", "--stores", "bundle", "--bundle", "roots.pem"]).expect(0);
        s
    };
    let words =
        ["setup", "charts.saltmarsh.test", "archive.saltmarsh.test", "--stores", "bundle", "--bundle", "roots.pem"];
    at_every_point(prepare, &words, |s, when| {
        let folder = s.lab("charts.saltmarsh.test");
        pair_matches(&folder, when);
        let here = sample::certificate(&folder.join("certificate.pem")).sha256();
        let listed = s.json(&["list"]).expect(0).json();
        let live: Vec<_> = listed["certificates"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|c| c["state"] == "valid" && c["label"] != "next")
            .collect();
        assert_eq!(live.len(), 1, "{when}");
        assert_eq!(
            live[0]["sha256"],
            here.as_str(),
            "{when}: the ledger names another certificate than the directory holds"
        );
        assert_eq!(s.run(&words).expect(0).code, 0);
        pair_matches(&folder, when);
    });
}

/// The ledger and the directory name the same certificate, whose key lies beside it.
fn agree(s: &Sandbox, label: &str, when: &str) {
    let folder = s.lab(label);
    pair_matches(&folder, when);
    let here = sample::certificate(&folder.join("certificate.pem")).sha256();
    let listed = s.json(&["list"]).expect(0).json();
    let rows = listed["certificates"].as_array().unwrap();
    let current: Vec<_> = rows
        .iter()
        .filter(|c| c["label"] == label && !["superseded", "abandoned"].contains(&c["state"].as_str().unwrap()))
        .collect();
    assert_eq!(current.len(), 1, "{when}: {rows:?}");
    assert_eq!(
        current[0]["sha256"],
        here.as_str(),
        "{when}: the ledger names another certificate than the directory holds"
    );
}

#[test]
fn renew() {
    at_every_point(lab, &["renew", "charts", "--add", "archive.saltmarsh.test"], |s, when| {
        agree(s, "charts", when);
        s.run(&["renew", "charts"]).expect(0);
        agree(s, "charts", when);
    });
}

#[test]
fn revoke() {
    let words = ["revoke", "charts", "--reason", "key-compromise", "--yes"];
    at_every_point(lab, &words, |s, when| {
        agree(s, "charts", when);
        s.run(&words).expect(0);
        let v = s.json(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0).json();
        assert_eq!(v["crl"]["entries"], 1, "{when}");
    });
}

#[test]
fn crl() {
    let prepare = || {
        let s = lab();
        s.run(&["revoke", "charts", "--reason", "key-compromise", "--yes"]).expect(0);
        s.run(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0);
        s
    };
    let number = |s: &Sandbox| s.json(&["show", "s.crl"]).expect(0).json()["objects"][0]["number"].as_u64();
    let words = ["authority", "crl", "saltmarsh", "--output", "s.crl"];
    at_every_point(prepare, &words, |s, when| {
        let before = number(s);
        let v = s.json(&words).expect(0).json();
        assert!(v["crl"]["number"].as_u64() > before && v["crl"]["entries"] == 1, "{when}: {v}");
    });
}

#[test]
fn offline() {
    let words = ["authority", "offline", "saltmarsh", "--into", "stick", "--unencrypted"];
    at_every_point(lab, &words, |s, when| {
        let (here, there) = (s.path("data/authorities/saltmarsh"), s.lab("stick"));
        let v = s.json(&["authority", "show", "saltmarsh"]).expect(0).json();
        if v["authorities"][0]["key"] == "offline" {
            assert!(!here.join(KEY_FILE).exists(), "{when}: the key is in both places");
            pair_matches(&there, when);
        } else {
            pair_matches(&here, when);
            s.run(&words).expect(0);
        }
        s.run(&["authority", "online", "stick"]).expect(0);
        pair_matches(&here, when);
    });
}

#[test]
fn permit() {
    let bundle = ["--bundle", "roots.pem"];
    let prepare = || {
        let s = lab();
        std::fs::write(s.lab("roots.pem"), "").unwrap();
        s.run(&[&["trust", "add", "--stores", "bundle"], &bundle[..]].concat()).expect(0);
        s
    };
    let words = [&["authority", "permit", "saltmarsh", "tides.example"], &bundle[..]].concat();
    at_every_point(prepare, &words, |s, when| {
        let folder = s.path("data/authorities/saltmarsh");
        pair_matches(&folder, when);
        let here = sample::certificate(&folder.join("certificate.pem")).sha256();
        let v = s.json(&["authority", "show", "saltmarsh"]).expect(0).json();
        assert_eq!(v["authorities"][0]["sha256"], here.as_str(), "{when}: ledger and file disagree");
        // Never without a root of this key: the leaf stays good for anyone who reads the bundle.
        s.run(&["check", "charts/certificate.pem", "--name", "localhost", "--anchor", "roots.pem"]).expect(0);
        s.run(&words).expect(0);
        s.run(&[&["trust", "add", "--stores", "bundle"], &bundle[..]].concat()).expect(0);
        s.run(&["issue", "gauge.tides.example"]).expect(0);
    });
}

#[test]
fn receive() {
    let prepare = || {
        let s = lab();
        s.run(&["request", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
        s.run(&["--data-dir", "other", "authority", "create", "harbour"]).expect(0);
        s.run(&["--data-dir", "other", "sign", "archive/request.pem", "--into", "back"]).expect(0);
        s
    };
    let words = ["receive", "archive", "--certificate", "back/certificate.pem"];
    at_every_point(prepare, &words, |s, when| {
        if s.lab("archive/certificate.pem").exists() {
            agree(s, "archive", when);
            assert!(!s.lab("archive/request.pem").exists(), "{when}: it still seems to wait");
            assert!(s.run(&words).expect(0).out.contains("nothing to do"), "{when}");
        } else {
            s.run(&words).expect(0);
            agree(s, "archive", when);
        }
    });
}

#[test]
fn sign_for_a_key_that_waits_here() {
    let prepare = || {
        let s = lab();
        s.run(&["request", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
        s
    };
    at_every_point(prepare, &["sign", "archive/request.pem"], |s, when| {
        if !s.lab("archive/certificate.pem").exists() {
            s.run(&["sign", "archive/request.pem"]).expect(0);
        }
        agree(s, "archive", when);
        assert!(!s.lab("archive/request.pem").exists(), "{when}: it still seems to wait");
    });
}

#[test]
fn a_directory_that_moves() {
    let words = ["move", "charts", "served"];
    at_every_point(lab, &words, |s, when| {
        s.run(&words).expect(0);
        pair_matches(&s.lab("served"), when);
        assert!(!s.lab("charts").exists(), "{when}: the old directory is left");
        s.run(&["renew", "charts"]).expect(0);
        pair_matches(&s.lab("served"), when);
    });
}

#[test]
fn the_key_is_private_from_its_creation() {
    let s = lab();
    let Some(t) = trace::run(s.command(&["issue", "archive.saltmarsh.test"]), None) else {
        eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
        return;
    };
    let created: Vec<_> = t.calls.iter().filter(|c| c.name == "create" && c.path.contains("private-key")).collect();
    assert_eq!(created.len(), 1, "{:?}", t.calls);
    assert_eq!(created[0].mode, Some(0o600));
    assert!(!t.calls.iter().any(|c| c.name.contains("chmod")), "a mode was changed later: {:?}", t.calls);
}
