//! Certificates, requests, lists and keys that other programs made, each with its committed expectation.

use crate::sandbox;
use serde_json::Value;
use std::path::PathBuf;
use tamga_testkit::sandbox::{COMPLETE, Sandbox};

/// Where the package puts its vectors; another place may be named.
fn folder() -> Option<PathBuf> {
    let named = std::env::var_os("TAMGA_VECTORS").map(PathBuf::from);
    let place = named.unwrap_or("/usr/lib/python3/dist-packages/cryptography_vectors".into());
    if place.is_dir() {
        return Some(place);
    }
    assert!(std::env::var_os(COMPLETE).is_none(), "the vectors must be installed here: {}", place.display());
    eprintln!("SKIPPED: python3-cryptography-vectors is not installed");
    None
}

struct Case {
    path: String,
    kind: String,
    command: String,
    expected: String,
    sha256: String,
    names: String,
    certificates: String,
    aliases: String,
}

fn cases() -> Vec<Case> {
    include_str!("../vectors.tsv")
        .lines()
        .filter(|l| !l.starts_with('#'))
        .map(|line| {
            let mut fields = line.split('\t').map(str::to_owned);
            let mut next = || fields.next().unwrap_or_default();
            Case {
                path: next(),
                kind: next(),
                command: next(),
                expected: next(),
                sha256: next(),
                names: next(),
                certificates: next(),
                aliases: next(),
            }
        })
        .collect()
}

/// A store opens with its passphrase alone, and every key, certificate and name in it is shown.
fn stored(s: &Sandbox, c: &Case, file: &str, when: &str) {
    let mut words = vec!["show", file];
    if c.names != "-" {
        std::fs::write(s.lab("pass"), "not the passphrase\n").unwrap();
        words.extend(["--passphrase-file", "pass"]);
        assert_eq!(s.json(&words).expect(3).json()["error"]["code"], "passphrase-wrong", "{when}");
        assert_eq!(s.json(&words[..2]).expect(3).json()["error"]["code"], "passphrase-needed", "{when}");
        std::fs::write(s.lab("pass"), format!("{}\n", c.names)).unwrap();
    }
    let shown = s.json(&words).expect(0).json();
    let objects = shown["objects"].as_array().unwrap();
    let of = |kind: &str, field: &str| -> Vec<String> {
        let all = objects.iter().filter(|o| o["kind"] == kind);
        all.map(|o| o[field].as_str().unwrap().to_owned()).collect()
    };
    let list = |text: &str| text.split('|').filter(|t| *t != "-").map(str::to_owned).collect::<Vec<_>>();
    let (mut got, mut wanted) = (of("certificate", "sha256"), list(&c.certificates));
    got.sort();
    wanted.sort();
    assert_eq!(got, wanted, "{when}");
    assert_eq!(of("private-key", "public_sha256"), list(&c.sha256), "{when}");
    for alias in list(&c.aliases) {
        assert!(objects[0]["aliases"].as_array().unwrap().contains(&alias.into()), "{when}: {}", objects[0]);
    }
}

#[test]
fn what_others_made_is_read_or_refused_as_expected() {
    let Some(folder) = folder() else { return };
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    let mut judged = (0, 0);
    for c in cases() {
        let file = folder.join(&c.path).display().to_string();
        let when = format!("{} ({})", c.path, c.kind);
        match (c.kind.as_str(), c.expected.as_str()) {
            ("key", _) => {
                std::fs::write(s.lab("pass"), format!("{}\n", c.names)).unwrap();
                let mut words = vec!["match", file.as_str()];
                if !c.names.is_empty() {
                    words.extend(["--passphrase-file", "pass"]);
                }
                // One file alone is never a pair; what is read of it is what counts.
                let ran = s.json(&words).expect(1);
                let found = c.expected == "good" && ran.out.contains(&c.sha256);
                let nothing = c.expected == "refused" && ran.json()["groups"].as_array().unwrap().is_empty();
                assert!(found || nothing, "{when}: {}", ran.out);
                if c.expected == "good" && !c.names.is_empty() {
                    std::fs::write(s.lab("pass"), "not the passphrase\n").unwrap();
                    assert!(!s.json(&words).expect(1).out.contains(&c.sha256), "{when}: any passphrase opens it");
                }
            }
            ("store", "good") => stored(&s, &c, &file, &when),
            (_, "good") => {
                let shown = s.json(&["show", &file]).expect(0).json()["objects"][0].clone();
                assert_eq!(shown["sha256"], c.sha256.as_str(), "{when}");
                if c.kind == "crl" {
                    let n: usize = c.names.parse().unwrap();
                    assert_eq!(shown["entries"].as_array().unwrap().len(), n, "{when}");
                } else if c.names != "-" {
                    let has: Vec<&str> = shown["names"].as_array().unwrap().iter().filter_map(Value::as_str).collect();
                    for name in c.names.split('|') {
                        assert!(has.contains(&name), "{when}: {name} is not among {has:?}");
                    }
                }
            }
            (_, code) => {
                let words: Vec<&str> = match c.command.as_str() {
                    "sign" => vec!["sign", &file, "x.saltmarsh.test"],
                    "trust" => vec!["trust", "add", &file, "--stores", "bundle", "--bundle", "roots.pem"],
                    _ => vec!["show", &file],
                };
                assert_eq!(s.json(&words).expect(3).json()["error"]["code"], code, "{when}");
            }
        }
        match c.expected.as_str() {
            "good" => judged.0 += 1,
            _ => judged.1 += 1,
        }
    }
    eprintln!("{} vectors read, {} refused", judged.0, judged.1);
    assert!(judged.0 > 180 && judged.1 > 40, "{judged:?}");
    assert!(std::fs::read(s.lab("roots.pem")).unwrap().is_empty(), "a bad root went into a store");
}
