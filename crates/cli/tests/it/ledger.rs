//! The ledger: many at once, older ones, damaged ones.

use crate::{Sandbox, lab, sandbox};
use tamga_core::ca::authority::read_key;
use tamga_host::ledger::{Ledger as _, Sqlite, schema};
use tamga_testkit::sample;

#[test]
fn fifty_at_once_give_fifty_whole_certificates() {
    let s = lab();
    let running: Vec<_> = (0..50)
        .map(|n| s.command(&["issue", &format!("gauge-{n}.saltmarsh.test"), "--quiet"]).spawn().unwrap())
        .collect();
    for mut child in running {
        assert!(child.wait().unwrap().success());
    }
    let listed = s.json(&["list"]).expect(0).json();
    let rows = listed["certificates"].as_array().unwrap();
    assert_eq!(rows.len(), 51);
    let mut serials: Vec<&str> = rows.iter().map(|r| r["serial"].as_str().unwrap()).collect();
    serials.sort_unstable();
    serials.dedup();
    assert_eq!(serials.len(), 51);
    for n in 0..50 {
        let folder = s.lab(&format!("gauge-{n}.saltmarsh.test"));
        let key = read_key(&std::fs::read(folder.join("private-key.pem")).unwrap(), "key").unwrap();
        let c = sample::certificate(&folder.join("certificate.pem"));
        assert_eq!(*key.public(), c.key);
        assert!(rows.iter().any(|r| r["sha256"] == c.sha256().as_str() && r["state"] == "valid"));
    }
    assert!(Sqlite::open(&s.path("data")).unwrap().damage().unwrap().is_none());
}

/// A ledger as the first version wrote it, with what stood in it.
#[test]
fn an_older_ledger_becomes_a_new_one() {
    let s = lab();
    let (root, leaf) = (
        sample::certificate(&s.path("data/authorities/saltmarsh/certificate.pem")),
        sample::certificate(&s.lab("charts/certificate.pem")),
    );
    for name in tamga_host::ledger::FILES {
        let _ = std::fs::remove_file(s.path("data").join(name));
    }
    let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
    db.execute_batch(schema::FIRST).unwrap();
    let at = "2026-11-24T08:00:00Z";
    let folder = s.path("data/authorities/saltmarsh").display().to_string();
    db.execute(
        "INSERT INTO authority VALUES ('saltmarsh', ?1, ?2, ?3, ?4)",
        rusqlite::params![root.sha256().as_str(), root.der(), folder, at],
    )
    .unwrap();
    db.execute(
        "INSERT INTO certificate VALUES (1, 'charts', ?1, ?2, ?3, 'saltmarsh', ?4, 'live', ?5)",
        rusqlite::params![leaf.serial, leaf.sha256().as_str(), leaf.der(), s.lab("charts").display().to_string(), at],
    )
    .unwrap();
    db.execute("INSERT INTO event (at, kind, about, detail) VALUES (?1, 'issued', 'charts', 'x')", [at]).unwrap();
    drop(db);
    let v = s.json(&["list"]).expect(0).json();
    assert_eq!(
        (v["certificates"][0]["label"].as_str(), v["certificates"][0]["state"].as_str()),
        (Some("charts"), Some("valid"))
    );
    s.run(&["renew", "charts"]).expect(0);
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let history = s.json(&["show", "charts", "--history"]).expect(0).json();
    assert_eq!(history["objects"][0]["history"].as_array().unwrap().len(), 2);
    // The version between: what the newest adds is added, and both ways lead to the same layout.
    let layout = |db: &rusqlite::Connection| -> Vec<String> {
        let mut q = db.prepare("SELECT name || sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY name").unwrap();
        q.query_map([], |r| r.get(0)).unwrap().collect::<Result<_, _>>().unwrap()
    };
    let columns = "ALTER TABLE certificate DROP COLUMN starts; ALTER TABLE certificate DROP COLUMN self_issued;
                   ALTER TABLE certificate DROP COLUMN names; ALTER TABLE certificate DROP COLUMN sha1;
                   DROP INDEX event_kind; DROP INDEX event_about;";
    let listed = |s: &Sandbox| s.json(&["list", "--at", at]).expect(0).json()["certificates"].clone();
    let rows = listed(&s);
    for (version, back) in [(2, "DROP INDEX certificate_alone;"), (3, ""), (4, ""), (5, ""), (6, "")] {
        let columns = match version {
            5 | 6 => "",
            4 => "ALTER TABLE certificate DROP COLUMN sha1; DROP INDEX event_kind; DROP INDEX event_about;",
            _ => columns,
        };
        let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
        let before = layout(&db);
        let enrollment: String = layout(&db)
            .iter()
            .filter(|l| l.contains("CREATE TABLE") && l.starts_with("enrollment_"))
            .map(|l| format!("DROP TABLE {};", l.split("CREATE").next().unwrap()))
            .collect();
        let sixth = "ALTER TABLE authority DROP COLUMN ocsp_url; DROP INDEX certificate_enrolled; DROP TABLE origin;";
        let older = if version < 6 { format!("{enrollment} {sixth} {columns} {back}") } else { String::new() };
        let seventh: String = ["authority", "certificate", "request", "journal", "event", "origin"]
            .map(|table| format!("ALTER TABLE {table} DROP COLUMN host;"))
            .concat();
        let indices = "DROP INDEX certificate_live; DROP INDEX certificate_number;
                       ALTER TABLE journal DROP COLUMN mark; ALTER TABLE event DROP COLUMN mark;";
        db.execute_batch(&format!("{indices} {seventh} {older} PRAGMA user_version = {version}")).unwrap();
        drop(db);
        assert_eq!(listed(&s), rows, "what a list says is read out of the certificates");
        let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
        assert_eq!(layout(&db), before, "version {version}");
    }
    // One of a version to come is left alone.
    let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
    db.pragma_update(None, "user_version", 99).unwrap();
    drop(db);
    assert_eq!(s.json(&["list"]).expect(4).json()["error"]["code"], "ledger-newer");
}

#[test]
fn a_damaged_ledger_is_said_and_put_together_again() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    s.run(&["revoke", "archive.saltmarsh.test", "--reason", "key-compromise", "--yes"]).expect(0);
    let before = s.json(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0).json();
    for name in tamga_host::ledger::FILES {
        let _ = std::fs::remove_file(s.path("data").join(name));
    }
    std::fs::write(
        s.path("data/ledger.sqlite"),
        b"this is no database, but it is long enough to be read as one".repeat(50),
    )
    .unwrap();
    let said = s.json(&["list"]).expect(4).json();
    assert_eq!(said["error"]["code"], "ledger-damaged");
    assert!(said["error"]["remedy"].as_str().unwrap().contains("tamga repair"));
    assert!(s.run(&["repair", "--dry-run"]).expect(0).out.contains("damaged"));
    let v = s.json(&["repair", "."]).expect(0).json();
    assert_eq!(v["authorities"][0], "saltmarsh");
    assert_eq!(v["certificates"].as_array().unwrap().len(), 2);
    assert!(std::path::Path::new(v["moved"].as_str().unwrap()).exists(), "the damaged one is kept");
    // What was revoked stays revoked, and the next list counts on.
    let listed = s.json(&["list", "--revoked"]).expect(0).json();
    assert_eq!(listed["certificates"][0]["label"], "archive.saltmarsh.test");
    let after = s.json(&["authority", "crl", "saltmarsh", "--output", "s.crl"]).expect(0).json();
    assert!(after["crl"]["number"].as_u64() > before["crl"]["number"].as_u64());
    assert_eq!(after["crl"]["entries"], 1);
    s.run(&["issue", "fresh.saltmarsh.test"]).expect(0);
    assert!(s.run(&["repair"]).expect(0).out.contains("nothing to repair"));
}

#[test]
fn a_ledger_with_one_bad_page_keeps_the_rest() {
    let s = lab();
    let lines: String = (0..200).map(|n| format!("gauge-{n}.saltmarsh.test\n")).collect();
    std::fs::write(s.lab("list.txt"), lines).unwrap();
    s.run(&["issue", "--list", "list.txt", "--into", "many"]).expect(0);
    {
        let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
        db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())).unwrap();
    }
    let mut bytes = std::fs::read(s.path("data/ledger.sqlite")).unwrap();
    // A whole page that holds something: one that is free could be lost unnoticed.
    let page = usize::from(u16::from_be_bytes([bytes[16], bytes[17]]));
    let held = b"gauge-100.saltmarsh.test";
    let found = bytes.windows(held.len()).enumerate().skip(bytes.len() / 3).find(|(_, w)| w == held);
    let at = found.unwrap().0 / page * page;
    bytes[at..at + page].fill(0xa5);
    std::fs::write(s.path("data/ledger.sqlite"), &bytes).unwrap();
    let v = s.json(&["repair"]).expect(0).json();
    assert!(v["moved"].is_string(), "{v}");
    assert!(v["salvaged"]["authorities"].as_u64().unwrap() + v["authorities"].as_array().unwrap().len() as u64 >= 1);
    assert!(v["salvaged"]["certificates"].as_u64().unwrap() > 20, "{v}");
    // What did not read is found by its files.
    s.run(&["repair", "many"]).expect(0);
    let listed = s.json(&["list"]).expect(0).json();
    assert!(listed["certificates"].as_array().unwrap().len() >= 200);
    s.run(&["issue", "fresh.saltmarsh.test"]).expect(0);
}

#[test]
fn a_certificate_that_was_changed_inside_a_whole_page_is_noticed() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    {
        let db = rusqlite::Connection::open(s.path("data/ledger.sqlite")).unwrap();
        let changed = "UPDATE certificate SET der = zeroblob(length(der)) WHERE label = 'charts'";
        assert_eq!(db.execute(changed, []).unwrap(), 1);
    }
    let v = s.json(&["repair"]).expect(0).json();
    assert!(v["moved"].is_string(), "{v}");
    assert_eq!(v["salvaged"]["certificates"], 1, "the other one: {v}");
    // It is found again by its files.
    let v = s.json(&["repair", "."]).expect(0).json();
    assert_eq!(v["certificates"], serde_json::json!(["charts"]), "{v}");
    s.run(&["show", "charts"]).expect(0);
}

#[test]
fn looking_makes_nothing() {
    let s = sandbox();
    for words in [&["list"][..], &["authority", "list"], &["renew"], &["repair"], &["trust", "status"]] {
        s.run(words).expect(0);
    }
    assert!(!s.path("data").exists());
}
