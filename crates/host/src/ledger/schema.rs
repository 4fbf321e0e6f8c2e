//! The tables, and how older ledgers become new ones.

use super::enrollment;
use super::sql::SqlResult;
use rusqlite::Connection;

/// The present layout.
pub const VERSION: i64 = 7;

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

/// Version 7: which machine's files and keys a row is about, since several machines may share a ledger; empty for the one whose own it is.
/// Of a label one certificate is live, and no authority gives a serial number twice. `mark` is this machine's on rows of a shared ledger by which
/// it changes files: others may write there too.
const SEVENTH: &str = "
ALTER TABLE authority ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE certificate ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE request ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE journal ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE event ADD COLUMN host TEXT NOT NULL DEFAULT '';
ALTER TABLE event ADD COLUMN mark TEXT NOT NULL DEFAULT '';
ALTER TABLE origin ADD COLUMN host TEXT NOT NULL DEFAULT '';
CREATE UNIQUE INDEX certificate_live ON certificate (label) WHERE state = 'live';
";

/// Of several live ones of a label, which earlier layouts did not exclude, the newest stays.
const ONE_LIVE: &str = "
UPDATE certificate SET state = 'superseded' WHERE state = 'live' AND id <
  (SELECT max(n.id) FROM certificate n WHERE n.label = certificate.label AND n.state = 'live');
";

/// What only a server has: see `sql/postgres`.
const SERVER: &str = "
CREATE TABLE schema_version (version INTEGER PRIMARY KEY) STRICT;
CREATE TABLE ledger_host (name TEXT PRIMARY KEY, identity TEXT NOT NULL) STRICT;
CREATE TABLE commit_mark (id BLOB PRIMARY KEY, at INTEGER NOT NULL) STRICT;
CREATE INDEX commit_mark_at ON commit_mark (at);
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
pub(super) fn migrate(db: &Connection) -> SqlResult<bool> {
    let version = |db: &Connection| db.pragma_query_value(None, "user_version", |r| r.get::<_, i64>(0));
    if version(db)? == VERSION {
        return Ok(true);
    }
    db.execute_batch("BEGIN IMMEDIATE")?;
    // Another process may have been faster.
    let done = match version(db)? {
        VERSION => Ok(true),
        0 => created(db).map(|()| true),
        from @ 1..VERSION => (from..VERSION).try_for_each(|from| step(db, from)).map(|()| true),
        _ => Ok(false),
    };
    match done {
        Ok(true) => Ok(db.execute_batch(&format!("PRAGMA user_version = {VERSION}; COMMIT")).map(|()| true)?),
        other => {
            db.execute_batch("ROLLBACK")?;
            other
        }
    }
}

/// The tables of the present layout.
fn created(db: &Connection) -> SqlResult<()> {
    Ok(db.execute_batch(&format!("{}{}", newest(), serials(0)))?)
}

/// Brings a ledger of one layout to the next.
fn step(db: &Connection, from: i64) -> SqlResult<()> {
    match from {
        1 => from_first(db)?,
        2 => db.execute_batch(ALONE)?,
        3 => db.execute_batch(SUMMARY)?,
        4 => {
            db.execute_batch(FIFTH)?;
            super::certificates::summarize(db)?;
        }
        5 => db.execute_batch(&format!("{SIXTH}{}", enrollment::TABLES))?,
        6 => {
            // Numbers that stand twice already are left as they are; no later one is given twice.
            let twice = "SELECT max(b.id) FROM certificate a JOIN certificate b ON b.authority = a.authority AND b.serial = a.serial AND b.id > a.id";
            let after: Option<i64> = db.query_row(twice, [], |r| r.get(0))?;
            db.execute_batch(&format!("{ONE_LIVE}{SEVENTH}{}", serials(after.unwrap_or(0))))?;
        }
        _ => {}
    }
    Ok(())
}

/// The tables of the present layout but for [`serials`].
fn newest() -> String {
    [TABLES, ALONE, SUMMARY, RECORDS, FIFTH, SIXTH, enrollment::TABLES, SEVENTH].concat()
}

/// The index that keeps an authority from giving a serial number twice, from a row on.
fn serials(after: i64) -> String {
    format!(
        "CREATE UNIQUE INDEX certificate_number ON certificate (authority, serial) WHERE authority IS NOT NULL AND id > {after};"
    )
}

/// The tables of the present layout as PostgreSQL has them. Text is ordered by its octets, as in SQLite.
pub(super) fn postgres() -> String {
    [SERVER, &newest(), &serials(0)]
        .concat()
        .replace(" STRICT, WITHOUT ROWID", "")
        .replace(" STRICT", "")
        .replace("id INTEGER PRIMARY KEY", "id bigint GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY")
        .replace(" INTEGER", " bigint")
        .replace(" BLOB", " bytea")
        .replace(" TEXT", " text COLLATE \"C\"")
}

/// The roles of a database that keeps a ledger, each with no more rights than it needs. A test carries them out.
pub const GRANTS: &str = r#"-- For the administrator of the database, once, after the first tamga ledger move as the role that owns the tables.
-- tamga_owner makes the tables, and changes them with a new version of Tamga.
CREATE ROLE tamga_owner NOLOGIN;
GRANT CREATE, USAGE ON SCHEMA public TO tamga_owner;
-- tamga_writer issues, renews and revokes.
CREATE ROLE tamga_writer NOLOGIN;
GRANT USAGE ON SCHEMA public TO tamga_writer;
GRANT SELECT ON ALL TABLES IN SCHEMA public TO tamga_writer;
GRANT INSERT ON ALL TABLES IN SCHEMA public TO tamga_writer;
GRANT UPDATE ON authority, certificate, revocation, origin, enrollment_account, enrollment_invitation, enrollment_order,
  enrollment_authorization, enrollment_challenge TO tamga_writer;
GRANT DELETE ON authority, authority_certificate, certificate, certificate_name, request, journal, commit_mark, enrollment_nonce,
  enrollment_order, enrollment_order_authorization, enrollment_authorization, enrollment_challenge TO tamga_writer;
GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO tamga_writer;
-- tamga_reader looks: status, list, show, ledger check.
CREATE ROLE tamga_reader NOLOGIN;
GRANT USAGE ON SCHEMA public TO tamga_reader;
GRANT SELECT ON ALL TABLES IN SCHEMA public TO tamga_reader;
-- Then for each person or machine, such as: GRANT tamga_writer TO "lab-operator";
"#;

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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    /// Earlier layouts allowed two certificates in force under one label, and one serial number twice.
    #[test]
    fn what_earlier_layouts_allowed_is_brought_over_and_not_added_to() {
        let db = Connection::open_in_memory().unwrap();
        db.execute_batch(&[TABLES, ALONE, SUMMARY, RECORDS, FIFTH, SIXTH, enrollment::TABLES].concat()).unwrap();
        let add = |n: i64, serial: &str| {
            db.execute(
                "INSERT INTO certificate (id, label, serial, sha256, der, authority, folder, state, ends, issued_at)
                 VALUES (?1, ?2, ?3, ?1, x'', 'saltmarsh', '/lab', 'live', 0, '')",
                rusqlite::params![n, if n < 3 { "charts".to_owned() } else { format!("tides-{n}") }, serial],
            )
        };
        for (n, serial) in [(1, "0a"), (2, "0b"), (3, "0b")] {
            add(n, serial).unwrap();
        }
        db.execute_batch("PRAGMA user_version = 6").unwrap();
        assert!(migrate(&db).unwrap());
        let live: Vec<i64> = {
            let mut q = db.prepare("SELECT id FROM certificate WHERE state = 'live' ORDER BY id").unwrap();
            q.query_map([], |r| r.get(0)).unwrap().collect::<rusqlite::Result<_>>().unwrap()
        };
        assert_eq!(live, [2, 3], "the newest of a label stays");
        add(4, "0c").unwrap();
        add(5, "0c").unwrap_err();
    }
}
