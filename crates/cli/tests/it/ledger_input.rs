//! The ledger and backups are input too: whatever they contain, Tamga touches no file that is not its own, and nothing in them runs.

use crate::lab;
use rusqlite::Connection;
use serde_json::json;
use std::path::Path;
use std::time::Duration;
use tamga_testkit::sandbox::Sandbox;

fn ledger(s: &Sandbox) -> Connection {
    Connection::open(s.path("data/ledger.sqlite")).unwrap()
}

fn row(s: &Sandbox, work: &serde_json::Value) {
    let sql = "INSERT INTO journal (at, work) VALUES ('2026-11-28T00:00:00Z', ?1)";
    ledger(s).execute(sql, [work.to_string()]).unwrap();
}

/// A directory and files of somebody else's, and whether all of it is still there.
fn victim(s: &Sandbox) -> impl Fn(&str) + use<> {
    let folder = s.path("victim");
    std::fs::create_dir(&folder).unwrap();
    let names = ["precious", "private-key.pem", "request.pem", ".precious.tamga-12345678"];
    for name in names {
        std::fs::write(folder.join(name), "precious\n").unwrap();
    }
    move |when: &str| {
        for name in names {
            let text = std::fs::read_to_string(folder.join(name)).unwrap_or_default();
            assert_eq!(text, "precious\n", "{when}: {name}");
        }
    }
}

#[test]
fn a_row_of_the_journal_touches_no_file_but_its_own() {
    let s = lab();
    let whole = victim(&s);
    let at = |name: &str| s.path("victim").join(name).display().to_string();
    let publish = |what: &str, folder: &Path, names: &[&str], tag: &str| json!({"kind": "publish", "what": what, "label": "charts", "sha256": "00", "folder": folder, "names": names, "tag": tag, "answers": true});
    // The ledger was edited as well: it says that the key is elsewhere.
    ledger(&s).execute("UPDATE authority SET key_place = 'offline', key_path = '/x'", []).unwrap();
    let rows = [
        json!({"kind": "key_leaves", "label": "saltmarsh", "file": at("private-key.pem"), "into": null}),
        json!({"kind": "key_leaves", "label": "saltmarsh", "file": at("private-key.pem"), "into": at("")}),
        json!({"kind": "key_leaves", "label": "../../victim", "file": at("private-key.pem"), "into": null}),
        publish("certificate", &s.path("victim"), &["precious"], "12345678"),
        publish("request", &s.path("victim"), &["precious"], "12345678"),
        publish("authority", &s.path("victim"), &["precious"], "12345678"),
        publish("certificate", &s.lab("charts"), &["../../victim/precious"], "12345678"),
        publish("certificate", &s.lab("charts"), &["certificate.pem"], "/../../victim"),
        json!({"kind": "replace", "said": "x", "files": ["victim/precious", "/x/../../victim"]}),
        json!({"kind": "trust", "goal": "add", "label": "../x", "sha256": "", "store": "", "place": "", "files": [at("precious")]}),
        json!({"kind": "something else"}),
        json!("no object"),
    ];
    for work in &rows {
        row(&s, work);
        let ran = s.run(&["repair"]).expect(0);
        assert!(ran.out.contains("was refused and dropped"), "{work}: {}{}", ran.out, ran.err);
        whole(&work.to_string());
        let left: i64 = ledger(&s).query_row("SELECT count(*) FROM journal", [], |r| r.get(0)).unwrap();
        assert_eq!(left, 0, "{work} stays");
    }
    // Rows that are well-formed touch nothing but what is staged beside their targets.
    for work in [
        json!({"kind": "replace", "said": "x", "files": [at("precious")]}),
        json!({"kind": "place", "label": "charts", "certificate": "00", "files": [[at("precious"), "00"]]}),
        json!({"kind": "trust", "goal": "add", "label": "charts", "sha256": "", "store": "", "place": "", "files": [at("precious")]}),
    ] {
        row(&s, &work);
        s.run(&["repair"]).expect(0);
        whole(&work.to_string());
    }
    s.run(&["list"]).expect(0);
}

/// An authority's directory follows from its label: a ledger that says otherwise leads nowhere else.
#[test]
fn a_ledger_cannot_move_an_authoritys_directory() {
    let s = lab();
    let whole = victim(&s);
    ledger(&s).execute("UPDATE authority SET folder = ?1", [s.path("victim").display().to_string()]).unwrap();
    s.run(&["authority", "retire", "saltmarsh", "--yes"]);
    whole("retire");
    s.run(&["leave", "--yes"]);
    whole("leave");
}

#[test]
fn nothing_in_a_ledger_runs() {
    let s = lab();
    let db = ledger(&s);
    db.execute_batch(
        "CREATE TABLE seen (what TEXT);
         CREATE TRIGGER spy AFTER INSERT ON event BEGIN INSERT INTO seen VALUES (new.kind); DELETE FROM certificate; END;",
    )
    .unwrap();
    drop(db);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let count = |table: &str| -> i64 {
        ledger(&s).query_row(&format!("SELECT count(*) FROM {table}"), [], |r| r.get(0)).unwrap()
    };
    assert_eq!(count("seen"), 0, "a trigger ran");
    assert!(count("certificate") >= 2);
}

#[test]
fn a_restored_backup_brings_no_unfinished_work() {
    let s = lab();
    let whole = victim(&s);
    std::fs::write(s.lab("pass"), "a passphrase for the backup\n").unwrap();
    row(&s, &json!({"kind": "replace", "said": "the other machine's work", "files": [s.path("victim/precious")]}));
    // A copy of the ledger as it is: the row is in it.
    std::fs::copy(s.path("data/ledger.sqlite"), s.path("with-row")).unwrap();
    s.run(&["authority", "backup", "--output", "lab.backup", "--new-passphrase-file", "pass"]).expect(0);
    s.run(&["--data-dir", "other", "authority", "restore", "lab.backup", "--passphrase-file", "pass"]).expect(0);
    let left: i64 = Connection::open(s.lab("other/ledger.sqlite"))
        .unwrap()
        .query_row("SELECT count(*) FROM journal", [], |r| r.get(0))
        .unwrap();
    assert_eq!(left, 0);
    let ran = s.run(&["--data-dir", "other", "repair"]).expect(0);
    assert!(!ran.out.contains("the other machine's work"), "{}", ran.out);
    whole("restore");
}

#[test]
fn leave_waits_for_a_process_at_work() {
    let s = lab();
    let lock = std::fs::OpenOptions::new().write(true).open(s.path("data/lock")).unwrap();
    lock.lock().unwrap();
    let mut child = s.command(&["leave", "--yes"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(800));
    assert!(child.try_wait().unwrap().is_none(), "it did not wait");
    assert!(s.path("data/ledger.sqlite").exists() && s.path("data/authorities/saltmarsh/private-key.pem").exists());
    lock.unlock().unwrap();
    assert!(child.wait().unwrap().success());
    assert!(!s.path("data").exists());
    // A command that waited behind it finds no half of a data directory: it starts with a new one.
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
}

/// Many processes at once, one of which undoes everything: each either did its work whole, or says why not.
#[test]
fn leave_beside_other_commands_tears_nothing() {
    let s = lab();
    let mut all: Vec<std::process::Child> = (0..6)
        .map(|n| {
            let name = format!("gauge-{n}.saltmarsh.test");
            let mut c = s.command(&["issue", &name]);
            if n == 3 {
                c = s.command(&["leave", "--yes"]);
            }
            c.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for child in &mut all {
        let code = child.wait().unwrap().code();
        assert!(matches!(code, Some(0 | 2 | 3 | 5)), "{code:?}");
    }
    s.run(&["repair"]).expect(0);
    s.run(&["status"]);
}
