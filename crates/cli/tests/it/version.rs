//! The version in full, and what an older or a newer version makes of a ledger.

use crate::{lab, sandbox};

#[test]
fn the_version_in_full_says_where_the_state_is_and_changes_nothing() {
    let s = sandbox();
    let short = s.run(&["--version"]).expect(0).out;
    assert_eq!(short.trim(), format!("tamga {}", env!("CARGO_PKG_VERSION")));
    let v = s.json(&["--version", "--verbose"]).expect(0).json();
    assert_eq!((v["command"].as_str(), v["version"].as_str()), (Some("version"), Some(env!("CARGO_PKG_VERSION"))));
    assert_eq!(v["data_folder"], s.path("data").to_str().unwrap());
    assert!(v["ledger"]["layout"].is_null() && v["browser_databases"] == true);
    assert!(!s.path("data").exists(), "looking made something");
    let text = s.run(&["-V", "-v"]).expect(0).out;
    for word in ["commit", "build", "reaches", "data", "none yet"] {
        assert!(text.contains(word), "{text}");
    }
}

#[test]
fn a_ledger_of_a_later_version_is_left_alone_and_said() {
    let s = lab();
    let file = s.path("data/ledger.sqlite");
    let db = rusqlite::Connection::open(&file).unwrap();
    db.pragma_update(None, "user_version", 99).unwrap();
    db.execute_batch("PRAGMA wal_checkpoint(TRUNCATE)").unwrap();
    drop(db);
    let before = std::fs::read(&file).unwrap();
    let v = s.json(&["--version", "--verbose"]).expect(0).json();
    assert_eq!((v["ledger"]["layout"].as_i64(), v["ledger"]["readable"].as_bool()), (Some(99), Some(false)));
    for command in
        [&["list"][..], &["issue", "tides.saltmarsh.test"], &["renew", "charts"], &["status"], &["leave", "--yes"]]
    {
        let said = s.json(command).expect(4).json();
        assert_eq!(said["error"]["code"], "ledger-newer", "{command:?}");
    }
    assert!(std::fs::read(&file).unwrap() == before, "it was changed");
    assert!(!s.lab("tides.saltmarsh.test").exists() && s.lab("charts/private-key.pem").exists());
}

/// Who reports a fault may have a ledger that is one.
#[test]
fn a_ledger_that_does_not_read_is_said_and_hides_nothing_else() {
    let s = lab();
    let file = s.path("data/ledger.sqlite");
    for name in tamga_host::ledger::FILES {
        let _ = std::fs::remove_file(s.path("data").join(name));
    }
    std::fs::write(&file, "not a ledger").unwrap();
    let v = s.json(&["--version", "--verbose"]).expect(0).json();
    assert_eq!((v["ok"].as_bool(), v["version"].as_str()), (Some(true), Some(env!("CARGO_PKG_VERSION"))));
    assert!(v["ledger"]["layout"].is_null() && v["ledger"]["readable"] == false, "{v}");
    assert!(v["ledger"]["fault"].as_str().unwrap().contains("not a database"), "{v}");
    assert!(s.run(&["--version", "--verbose"]).expect(0).words().contains("is damaged"));
    assert_eq!(std::fs::read_to_string(file).unwrap(), "not a ledger");
}

#[test]
fn what_cannot_be_found_out_is_an_object_too() {
    let s = sandbox();
    let mut c = s.command(&["--version", "--verbose", "--format", "json"]);
    let ran: tamga_testkit::sandbox::Ran = c.env_remove("HOME").env_remove("TAMGA_DATA_DIR").output().unwrap().into();
    assert_eq!(ran.code, 4, "{}", ran.out);
    let v: serde_json::Value = serde_json::from_str(&ran.out).unwrap();
    assert_eq!((v["command"].as_str(), v["ok"].as_bool()), (Some("version"), Some(false)));
    assert!(v["error"]["remedy"].is_string() && ran.err.is_empty(), "{v} {}", ran.err);
}
