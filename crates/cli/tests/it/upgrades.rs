//! What programs of earlier layouts wrote is opened, restored and used: the files in tests/data/ledgers were made by those programs themselves
//! (tests/data/ledgers/README.md), not by this one.

use crate::{Sandbox, sandbox};
use std::path::{Path, PathBuf};

fn data() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/ledgers")
}

/// What a list says of each certificate, in the order of the labels.
fn listed(s: &Sandbox) -> Vec<(String, String, Vec<String>)> {
    let v = s.json(&["list", "--at", "2026-12-01T00:00:00Z", "--sort", "label"]).expect(0).json();
    let text = |v: &serde_json::Value| v.as_str().unwrap().to_owned();
    let names = |c: &serde_json::Value| c["names"].as_array().unwrap().iter().map(text).collect();
    let all = v["certificates"].as_array().unwrap().iter();
    all.map(|c| (text(&c["label"]), text(&c["state"]), names(c))).collect()
}

#[test]
fn ledgers_of_every_earlier_layout_are_opened_and_brought_up() {
    for layout in 1..=5 {
        let s = sandbox();
        std::fs::create_dir_all(s.path("data")).unwrap();
        let file = s.path("data/ledger.sqlite");
        std::fs::copy(data().join(format!("layout-{layout}.sqlite")), &file).unwrap();
        let about = || s.json(&["--version", "--verbose"]).expect(0).json()["ledger"]["layout"].as_i64();
        assert_eq!(about(), Some(layout), "looking changes nothing");
        let all = listed(&s);
        let labels: Vec<&str> = all.iter().map(|(label, ..)| label.as_str()).collect();
        assert!(labels.contains(&"charts.saltmarsh.test") && labels.contains(&"archive.saltmarsh.test"), "{labels:?}");
        let charts = all.iter().find(|(label, ..)| label == "charts.saltmarsh.test").unwrap();
        assert_eq!((charts.1.as_str(), charts.2.len()), ("valid", 3), "{layout}: {charts:?}");
        assert_eq!(about(), Some(tamga_host::ledger::LAYOUT));
        // Its history came along, and what needs the files says that they are missing, and nothing worse.
        let v = s.json(&["show", "archive.saltmarsh.test", "--history"]).expect(0).json();
        assert!(v["objects"][0]["history"].as_array().unwrap().len() >= 2 || layout == 1, "{layout}: {v}");
        s.run(&["status"]).expect(1);
        s.run(&["issue", "tides-2.saltmarsh.test", "--issuer", "saltmarsh"]).expect(3);
        assert_eq!(listed(&s), all, "{layout}");
    }
}

#[test]
fn backups_of_earlier_versions_are_restored_and_go_on() {
    for layout in 2..=5 {
        let s = sandbox();
        std::fs::write(s.lab("secret"), "a passphrase of the saltmarsh lab\n").unwrap();
        let file = data().join(format!("layout-{layout}.age"));
        let restore = ["authority", "restore", file.to_str().unwrap(), "--passphrase-file", "secret"];
        s.run(&restore).expect(0);
        let before = listed(&s);
        assert!(before.len() >= 3, "{before:?}");
        // The authority signs, also under its intermediate; the chain is whole.
        s.run(&["issue", "gauge-8.saltmarsh.test", "--issuer", "saltmarsh"]).expect(0);
        s.run(&[
            "check",
            "gauge-8.saltmarsh.test",
            "--anchor",
            "gauge-8.saltmarsh.test/root.pem",
            "--clients",
            "standard",
        ])
        .expect(0);
        s.run(&["issue", "gauge-9.saltmarsh.test", "--issuer", "web"]).expect(0);
        s.run(&[
            "check",
            "gauge-9.saltmarsh.test",
            "--anchor",
            "gauge-9.saltmarsh.test/root.pem",
            "--clients",
            "standard",
        ])
        .expect(0);
        // Nobody knows what was revoked since: a list is signed only after the latest one was seen.
        let list = ["authority", "crl", "saltmarsh", "--output", "new.crl"];
        assert_eq!(s.json(&list).expect(3).json()["error"]["code"], "list-may-be-behind", "{layout}");
        let previous = data().join(format!("layout-{layout}.crl"));
        let number = |file: &Path| {
            let v = s.json(&["show", file.to_str().unwrap()]).expect(0).json();
            v["objects"][0]["number"].as_u64().unwrap_or_else(|| panic!("{v}"))
        };
        s.run(&[&list[..], &["--previous", previous.to_str().unwrap()]].concat()).expect(0);
        assert!(number(&s.lab("new.crl")) > number(&previous), "{layout}");
        assert_eq!(listed(&s).len(), before.len() + 2);
    }
}

#[test]
fn a_lab_file_of_the_first_version_is_understood() {
    let s = sandbox();
    std::fs::copy(data().join("tamga.toml"), s.lab("tamga.toml")).unwrap();
    let planned = s.json(&["apply", "--dry-run"]).expect(0).json();
    let done = s.json(&["apply", "--yes"]).expect(0).json();
    assert_eq!(planned["changes"].as_array().map(Vec::len), done["changes"].as_array().map(Vec::len));
    assert!(listed(&s).len() >= 4);
    assert!(s.json(&["apply", "--yes"]).expect(0).json()["changes"].as_array().unwrap().is_empty());
}
