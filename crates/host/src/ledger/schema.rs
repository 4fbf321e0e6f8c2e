//! The tables, and how older ledgers become new ones.

use super::enrollment;
use rusqlite::Connection;

/// The present layout.
pub const VERSION: i64 = 6;

/// Version 1, as it was first released: kept so that the migration can be tested.
pub const FIRST: &str = "
CREATE TABLE authority (label TEXT PRIMARY KEY, sha256 TEXT NOT NULL UNIQUE, der BLOB NOT NULL, folder TEXT NOT NULL,
  made_at TEXT NOT NULL) STRICT;
CREATE TABLE certificate (id INTEGER PRIMARY KEY, label TEXT NOT NULL, serial TEXT NOT NULL UNIQUE, sha256 TEXT NOT NULL,
  der BLOB NOT NULL, authority TEXT, folder TEXT NOT NULL, state TEXT NOT NULL, issued_at TEXT NOT NULL) STRICT;
CREATE INDEX certificate_label ON certificate (label);
CREATE TABLE event (id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, about TEXT NOT NULL,
  detail TEXT NOT NULL) STRICT;
CREATE TABLE journal (id INTEGER PRIMARY KEY, at TEXT NOT NULL, work TEXT NOT NULL) STRICT;
PRAGMA user_version = 1;
";

const TABLES: &str = "
CREATE TABLE authority (label TEXT PRIMARY KEY, folder TEXT NOT NULL, issuer TEXT, key_place TEXT NOT NULL, key_path TEXT,
  purposes TEXT NOT NULL, crl_url TEXT, issuer_url TEXT, retired INTEGER NOT NULL DEFAULT 0,
  list_number INTEGER NOT NULL DEFAULT 0, list_behind TEXT, made_at TEXT NOT NULL) STRICT;
CREATE TABLE authority_certificate (id INTEGER PRIMARY KEY, label TEXT NOT NULL, role TEXT NOT NULL,
  sha256 TEXT NOT NULL, der BLOB NOT NULL, at TEXT NOT NULL) STRICT;
CREATE INDEX authority_certificate_label ON authority_certificate (label);
CREATE TABLE certificate (id INTEGER PRIMARY KEY, label TEXT NOT NULL, serial TEXT NOT NULL, sha256 TEXT NOT NULL UNIQUE,
  der BLOB NOT NULL, authority TEXT, folder TEXT NOT NULL, state TEXT NOT NULL, ends INTEGER NOT NULL,
  issued_at TEXT NOT NULL) STRICT;
CREATE INDEX certificate_label ON certificate (label);
CREATE INDEX certificate_serial ON certificate (serial);
CREATE INDEX certificate_ends ON certificate (ends);
CREATE TABLE certificate_name (name TEXT NOT NULL, certificate INTEGER NOT NULL, PRIMARY KEY (name, certificate))
  STRICT, WITHOUT ROWID;
CREATE TABLE revocation (authority TEXT NOT NULL, serial TEXT NOT NULL, at TEXT NOT NULL, reason TEXT NOT NULL,
  published INTEGER NOT NULL DEFAULT 0, PRIMARY KEY (authority, serial)) STRICT, WITHOUT ROWID;
CREATE TABLE request (label TEXT PRIMARY KEY, kind TEXT NOT NULL, der BLOB NOT NULL, folder TEXT NOT NULL,
  settings TEXT NOT NULL, made_at TEXT NOT NULL) STRICT;
";

/// Version 3: the few self-signed ones among many are found without reading them all.
const ALONE: &str = "CREATE INDEX certificate_alone ON certificate (state) WHERE authority IS NULL;";

/// Version 4: columns for what a list shows of a certificate, so that a list parses none. `names` is a JSON array.
const SUMMARY: &str = "
ALTER TABLE certificate ADD COLUMN starts INTEGER NOT NULL DEFAULT 0;
ALTER TABLE certificate ADD COLUMN self_issued INTEGER NOT NULL DEFAULT 0;
ALTER TABLE certificate ADD COLUMN names TEXT NOT NULL DEFAULT '[]';
";

/// Version 5: the SHA-1 by which Windows finds a certificate; events are found without reading them all.
const FIFTH: &str = "
ALTER TABLE certificate ADD COLUMN sha1 TEXT NOT NULL DEFAULT '';
CREATE INDEX event_kind ON event (kind);
CREATE INDEX event_about ON event (about);
";

/// Version 6: where a certificate's status can be asked for; what the enrollment service keeps; where a certificate came from that a service
/// issued. `settings` is JSON.
const SIXTH: &str = "
ALTER TABLE authority ADD COLUMN ocsp_url TEXT;
CREATE INDEX certificate_enrolled ON certificate (ends) WHERE folder = '' AND state = 'live';
CREATE TABLE origin (label TEXT PRIMARY KEY, settings TEXT NOT NULL) STRICT;
";

const RECORDS: &str = "
CREATE TABLE event (id INTEGER PRIMARY KEY, at TEXT NOT NULL, kind TEXT NOT NULL, about TEXT NOT NULL,
  detail TEXT NOT NULL) STRICT;
CREATE TABLE journal (id INTEGER PRIMARY KEY, at TEXT NOT NULL, work TEXT NOT NULL) STRICT;
";

/// Version 1 held one certificate an authority, no names and no ends: both are read out of the certificates.
const FROM_FIRST: &str = "
ALTER TABLE authority RENAME TO authority_1;
ALTER TABLE certificate RENAME TO certificate_1;
DROP INDEX certificate_label;
";
const FROM_FIRST_END: &str = "
INSERT INTO authority (label, folder, key_place, purposes, made_at)
  SELECT label, folder, 'here', 'server,client', made_at FROM authority_1;
INSERT INTO authority_certificate (label, role, sha256, der, at)
  SELECT label, 'own', sha256, der, made_at FROM authority_1;
DROP TABLE authority_1;
DROP TABLE certificate_1;
";

/// Brings a ledger to the present version. `Ok(false)`: it is of a newer one.
pub(super) fn migrate(db: &Connection) -> rusqlite::Result<bool> {
    let version = |db: &Connection| db.pragma_query_value(None, "user_version", |r| r.get::<_, i64>(0));
    if version(db)? == VERSION {
        return Ok(true);
    }
    db.execute_batch("BEGIN IMMEDIATE")?;
    // Another process may have been faster.
    let done = match version(db)? {
        VERSION => Ok(true),
        0 => db
            .execute_batch(&format!("{TABLES}{ALONE}{SUMMARY}{RECORDS}{FIFTH}{SIXTH}{}", enrollment::TABLES))
            .map(|()| true),
        from @ 1..=5 => {
            let older = match from {
                1 => from_first(db).and_then(|()| db.execute_batch(ALONE)),
                2 => db.execute_batch(ALONE),
                _ => Ok(()),
            };
            older
                .and_then(|()| if from < 4 { db.execute_batch(SUMMARY) } else { Ok(()) })
                .and_then(|()| if from < 5 { db.execute_batch(FIFTH) } else { Ok(()) })
                .and_then(|()| if from < 5 { super::certificates::summarize(db) } else { Ok(()) })
                .and_then(|()| db.execute_batch(&format!("{SIXTH}{}", enrollment::TABLES)))
                .map(|()| true)
        }
        _ => Ok(false),
    };
    match done {
        Ok(true) => db.execute_batch(&format!("PRAGMA user_version = {VERSION}; COMMIT")).map(|()| true),
        other => {
            db.execute_batch("ROLLBACK")?;
            other
        }
    }
}

fn from_first(db: &Connection) -> rusqlite::Result<()> {
    use tamga_core::pki::cert::Certificate;
    db.execute_batch(FROM_FIRST)?;
    db.execute_batch(TABLES)?;
    let mut old = db.prepare(
        "SELECT id, label, serial, sha256, der, authority, folder, state, issued_at FROM certificate_1 ORDER BY id",
    )?;
    let mut rows = old.query([])?;
    while let Some(r) = rows.next()? {
        let (id, der): (i64, Vec<u8>) = (r.get(0)?, r.get(4)?);
        let Ok(c) = Certificate::read(&der, "a certificate of the ledger") else { continue };
        db.execute(
            "INSERT INTO certificate (id, label, serial, sha256, der, authority, folder, state, ends, issued_at)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)",
            rusqlite::params![
                id,
                r.get::<_, String>(1)?,
                r.get::<_, String>(2)?,
                r.get::<_, String>(3)?,
                der,
                r.get::<_, Option<String>>(5)?,
                r.get::<_, String>(6)?,
                r.get::<_, String>(7)?,
                c.not_after.unix(),
                r.get::<_, String>(8)?
            ],
        )?;
    }
    drop(rows);
    drop(old);
    db.execute_batch(FROM_FIRST_END)
}
