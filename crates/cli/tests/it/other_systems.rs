//! The stores of macOS and, from within WSL, of Windows, against stand-ins of those systems' own commands.

use crate::lab;
use std::path::Path;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::stand_ins;

const BOTH: [&str; 2] = ["--stores", "macos-user,macos-machine"];

fn files(folder: &Path) -> Vec<(String, Vec<u8>)> {
    let mut out: Vec<(String, Vec<u8>)> = walk(folder);
    out.retain(|(name, _)| !name.ends_with("/calls") && !name.ends_with("/statements"));
    out.sort();
    out
}

fn walk(folder: &Path) -> Vec<(String, Vec<u8>)> {
    let mut out = Vec::new();
    for e in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        match e.path() {
            p if p.is_dir() => out.extend(walk(&p)),
            p => out.push((p.display().to_string(), std::fs::read(&p).unwrap())),
        }
    }
    out
}

/// `trust VERB` in these stores: each store's id, state and change.
fn rows(s: &Sandbox, verb: &str, stores: [&str; 2], code: i32) -> Vec<(String, String, String)> {
    let found = s.json(&[&["trust", verb, "saltmarsh"], &stores[..]].concat()).expect(code).json();
    let word = |v: &serde_json::Value| v.as_str().unwrap_or_default().to_owned();
    let rows = found["stores"].as_array().unwrap_or_else(|| panic!("{found}"));
    rows.iter().map(|r| (word(&r["store"]), word(&r["state"]), word(&r["change"]))).collect()
}

fn row(store: &str, state: &str, change: &str) -> (String, String, String) {
    (store.to_owned(), state.to_owned(), change.to_owned())
}

#[test]
fn keychains_take_and_give_back() {
    let s = lab();
    let state = stand_ins::security(&s);
    s.run(&["--data-dir", "other", "authority", "create", "harbour"]).expect(0);
    s.run(&["--data-dir", "other", "trust", "add", "--stores", "macos-user"]).expect(0);
    let before = files(&state);
    assert_eq!(before.len(), 2, "the foreign root and its settings");
    let both = |state: &str, change: &str| vec![row("macos-user", state, change), row("macos-machine", state, change)];
    assert_eq!(rows(&s, "status", BOTH, 1), both("absent", "none"));
    assert_eq!(rows(&s, "add", BOTH, 0), both("present", "added"));
    assert_eq!(rows(&s, "add", BOTH, 0), both("present", "none"));
    assert_eq!(rows(&s, "status", BOTH, 0), both("present", "none"));
    let calls = std::fs::read_to_string(state.join("calls")).unwrap();
    assert!(calls.contains("add-trusted-cert -d -r trustRoot") && calls.contains("System.keychain"), "{calls}");
    // Each half alone is nothing: without settings the certificate does not count, and the next add sets them.
    for f in std::fs::read_dir(state.join("settings-admin")).unwrap().flatten() {
        std::fs::remove_file(f.path()).unwrap();
    }
    let found = s.json(&["trust", "status", "--stores", "macos-machine"]).expect(1).json();
    assert_eq!(found["stores"][0]["state"], "absent");
    assert!(found["stores"][0]["why"].as_str().unwrap().contains("no trust settings"), "{found}");
    assert_eq!(rows(&s, "add", BOTH, 0)[1], row("macos-machine", "present", "added"));
    assert_eq!(rows(&s, "remove", BOTH, 0), both("absent", "removed"));
    assert_eq!(files(&state), before);
}

#[test]
fn a_no_in_the_dialog_of_macos_leaves_nothing_behind() {
    let s = lab();
    let state = stand_ins::security(&s);
    let no = "SecTrustSettingsSetTrustSettings: The authorization was canceled by the user.";
    std::fs::write(state.join("fail-add-trusted-cert"), no).unwrap();
    let ran = s.run(&["trust", "add", "--stores", "macos-user"]).expect(4);
    assert!(ran.out.contains("canceled by the user"), "{}", ran.out);
    assert_eq!(files(&state).len(), 1, "only the file that makes it fail");
    std::fs::remove_file(state.join("fail-add-trusted-cert")).unwrap();
    s.run(&["trust", "add", "--stores", "macos-user"]).expect(0);
    // Somebody said in the keychain program that it is never to be trusted.
    for f in std::fs::read_dir(state.join("settings-user")).unwrap().flatten() {
        std::fs::write(f.path(), "3").unwrap();
    }
    assert_eq!(rows(&s, "status", ["--stores", "macos-user"], 1)[0].1, "distrusted");
    std::fs::write(state.join("fail-trust-settings-export"), "the keychain is locked").unwrap();
    let ran = s.run(&["trust", "add", "--stores", "macos-user"]).expect(4);
    assert!(ran.out.contains("the keychain is locked") && ran.out.contains("do:"), "{}", ran.out);
}

#[test]
fn leave_takes_roots_out_of_keychains() {
    let s = lab();
    let state = stand_ins::security(&s);
    s.run(&["trust", "add", "--stores", "macos-user,macos-machine"]).expect(0);
    s.run(&["leave", "--yes"]).expect(0);
    assert_eq!(files(&state), []);
}

#[test]
fn the_windows_beside_wsl_is_reached_through_its_powershell() {
    let mut s = lab();
    let state = stand_ins::powershell(&mut s);
    let user = ["--stores", "windows-user"];
    assert_eq!(rows(&s, "add", user, 0), [row("windows-user", "present", "added")]);
    let stored = files(&state.join("CurrentUser-Root"));
    let text = String::from_utf8(stored[0].1.clone()).unwrap();
    assert!(text.lines().nth(1).unwrap().starts_with("tamga-saltmarsh-"), "no mark: {text}");
    assert_eq!(rows(&s, "add", user, 0), [row("windows-user", "present", "none")]);
    // The machine's store needs an administrator.
    let ran = s.run(&["trust", "add", "--stores", "windows-machine"]).expect(4);
    assert!(ran.out.contains("Run as administrator"), "{}", ran.out);
    std::fs::write(state.join("administrator"), "").unwrap();
    assert_eq!(rows(&s, "add", ["--stores", "windows-machine"], 0)[0].2, "added");
    // What stands among the untrusted ones does not count, and adding cannot change that.
    std::fs::create_dir_all(state.join("CurrentUser-Disallowed")).unwrap();
    std::fs::write(state.join("CurrentUser-Disallowed/a"), &stored[0].1).unwrap();
    assert_eq!(rows(&s, "status", user, 1)[0].1, "distrusted");
    let ran = s.run(&["trust", "add", "--stores", "windows-user"]).expect(4);
    assert!(ran.out.contains("certmgr.msc"), "{}", ran.out);
    std::fs::remove_file(state.join("CurrentUser-Disallowed/a")).unwrap();
    let both = ["--stores", "windows-user,windows-machine"];
    assert!(rows(&s, "remove", both, 0).iter().all(|r| r.2 == "removed"));
    assert_eq!(files(&state.join("CurrentUser-Root")), []);
    // A no in Windows' dialog.
    std::fs::write(state.join("fail-add"), "The operation was canceled by the user.").unwrap();
    let ran = s.run(&["trust", "add", "--stores", "windows-user"]).expect(4);
    assert!(ran.out.contains("canceled by the user"), "{}", ran.out);
}

#[test]
fn something_else_under_that_name_is_no_store() {
    let mut s = lab();
    stand_ins::powershell(&mut s);
    s.stand_in("powershell.exe", "#!/bin/sh\ncat > /dev/null\nprintf 'Welcome\\033[31m!\\n'\n");
    let ran = s.run(&["trust", "add", "--stores", "windows-user"]).expect(4);
    assert!(ran.out.contains("answered something else") && !ran.out.contains('\u{1b}'), "{}", ran.out);
}

#[test]
fn a_store_of_another_system_is_named_as_such() {
    let s = lab();
    let found = s.json(&["trust", "add", "--stores", "macos-user,windows-machine"]).expect(4).json();
    for (at, store) in ["macos-user", "windows-machine"].iter().enumerate() {
        assert_eq!(
            (found["stores"][at]["store"].as_str(), found["stores"][at]["state"].as_str()),
            (Some(*store), Some("unavailable"))
        );
    }
}

#[test]
fn a_keychain_takes_an_identity_and_no_argument_shows_what_opens_it() {
    let s = lab();
    let state = stand_ins::security(&s);
    s.run(&["issue", "gauge-7.saltmarsh.test", "--purpose", "client", "--label", "gauge"]).expect(0);
    let before = files(&state);
    let words = |verb: &'static str| ["identity", verb, "gauge", "--stores", "macos-user"];
    let found = |verb: &'static str, code: i32| {
        let v = s.json(&words(verb)).expect(code).json();
        let word = |name: &str| v["stores"][0][name].as_str().unwrap_or_default().to_owned();
        (word("state"), word("change"))
    };
    let of = |state: &str, change: &str| (state.to_owned(), change.to_owned());
    assert_eq!(found("status", 0), of("absent", "none"));
    assert_eq!(found("add", 0), of("present", "added"));
    assert_eq!(found("add", 0), of("present", "none"));
    let calls = std::fs::read_to_string(state.join("calls")).unwrap();
    assert!(calls.lines().any(|l| l.trim() == "-i") && !calls.contains("-P"), "{calls}");
    // The key went missing: recognised, and fixed by the same command.
    for f in std::fs::read_dir(state.join("keys")).unwrap().flatten() {
        std::fs::remove_file(f.path()).unwrap();
    }
    assert_eq!(found("status", 1), of("absent", "none"));
    assert!(s.run(&words("status")).out.contains("its private key is not there"));
    assert_eq!(found("add", 0), of("present", "added"));
    assert_eq!(found("remove", 0), of("absent", "removed"));
    assert_eq!(files(&state), before);
    s.run(&words("add")).expect(0);
    s.run(&["leave", "--yes"]).expect(0);
    assert_eq!(files(&state), before);
}
