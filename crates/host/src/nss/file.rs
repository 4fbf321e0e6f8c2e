//! What is trusted in a database, from its file `cert9.db`: one table, an object a row, an attribute of PKCS#11 a column, numbers in four
//! octets. Trust is written in two ways (measured with NSS 3.87 and 3.125): an object of class CKO_NSS_TRUST, which every version reads,
//! and one of class CKO_TRUST (PKCS#11 3.2), which only newer ones know and prefer. Where the second kind is there and the library's
//! version is not known, only the library can say what it makes of it.

use rusqlite::types::Value;
use rusqlite::{Connection, MAIN_DB};
use sha1::{Digest, Sha1};
use std::collections::HashMap;
use std::path::Path;
use tamga_core::plan::nss::{Library, NssEntry};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;

/// A larger database is the library's to read.
const MOST: usize = 64 << 20;

const CERTIFICATE: u32 = 1;
const NSS_TRUST: u32 = 0xce53_4353;
const TRUST: u32 = 0x0b;

/// The entries with their SSL trust; None where the library must be asked.
pub(super) fn read(folder: &Path, library: &Library) -> Option<Vec<NssEntry>> {
    let journal = |ending: &str| std::fs::metadata(folder.join(ending)).is_ok_and(|m| m.len() > 0);
    // A change is under way, or was broken off: the library waits, or repairs.
    if journal("cert9.db-journal") || journal("cert9.db-wal") {
        return None;
    }
    let bytes = crate::fs::read_regular(&folder.join("cert9.db")).ok()?;
    if bytes.len() > MOST {
        return None;
    }
    entries(&bytes, library)
}

fn entries(bytes: &[u8], library: &Library) -> Option<Vec<NssEntry>> {
    let mut db = Connection::open_in_memory().ok()?;
    db.deserialize_read_exact(MAIN_DB, bytes, bytes.len(), true).ok()?;
    let older = rows(&db, NSS_TRUST, ["ace536358", "ace5363b4"])?;
    let newer = rows(&db, TRUST, ["a62c", "a635"]).unwrap_or_default();
    if !newer.is_empty() && *library == Library::System {
        return None;
    }
    let by_sha1: HashMap<Vec<u8>, u32> = older.into_iter().map(|[trust, hash]| (hash, of_older(&trust))).collect();
    let by_sha256: HashMap<Vec<u8>, u32> = newer.into_iter().map(|[trust, hash]| (hash, of_newer(&trust))).collect();
    let certificates = rows(&db, CERTIFICATE, ["a11", "a3"])?;
    let entry = |[der, nickname]: [Vec<u8>; 2]| {
        let sha256 = octets(&Sha256Fingerprint::of(&der));
        let ssl = by_sha256.get(&sha256).or_else(|| by_sha1.get(Sha1::digest(&der).as_slice())).copied();
        NssEntry { nickname: String::from_utf8_lossy(&nickname).into_owned(), ssl: ssl.unwrap_or_default(), der }
    };
    Some(certificates.into_iter().map(entry).collect())
}

/// Two attributes of every object of a class; None if the table is another one.
fn rows(db: &Connection, class: u32, [first, second]: [&str; 2]) -> Option<Vec<[Vec<u8>; 2]>> {
    let asked = format!("SELECT {first}, {second} FROM nssPublic WHERE a0 = ?1 ORDER BY rowid");
    let mut query = db.prepare(&asked).ok()?;
    let octets = |value: Value| match value {
        Value::Blob(octets) => octets,
        _ => Vec::new(),
    };
    let row = |r: &rusqlite::Row<'_>| Ok([octets(r.get(0)?), octets(r.get(1)?)]);
    query.query_map([class.to_be_bytes().as_slice()], row).ok()?.collect::<rusqlite::Result<_>>().ok()
}

fn number(octets: &[u8]) -> u32 {
    octets.try_into().map_or(0, u32::from_be_bytes)
}

/// CKT_NSS_… as NSS turns it into its SSL trust bits.
fn of_older(trust: &[u8]) -> u32 {
    match number(trust) {
        0xce53_4351 => 3,
        0xce53_4352 => 24,
        0xce53_435a => 1,
        0xce53_435b => 8,
        _ => 0,
    }
}

/// CKT_… of PKCS#11 3.2 §4.8: trusted, trust anchor, not trusted.
fn of_newer(trust: &[u8]) -> u32 {
    match number(trust) {
        1 => 3,
        2 => 24,
        3 => 1,
        _ => 0,
    }
}

fn octets(hex: &Sha256Fingerprint) -> Vec<u8> {
    let digit = |b: u8| if b.is_ascii_digit() { b - b'0' } else { b - b'a' + 10 };
    hex.as_str().as_bytes().chunks_exact(2).map(|pair| digit(pair[0]) << 4 | digit(pair[1])).collect()
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;

    /// An object: its class, and two attributes by their columns.
    type Object = (u32, [(&'static str, Vec<u8>); 2]);

    /// A database with these.
    fn database(objects: &[Object]) -> Vec<u8> {
        let mut db = Connection::open_in_memory().unwrap();
        db.execute_batch(
            "CREATE TABLE nssPublic (id PRIMARY KEY UNIQUE, a0, a3, a11, a62c, a635, ace536358, ace5363b4)",
        )
        .unwrap();
        for (id, (class, [(first, a), (second, b)])) in objects.iter().enumerate() {
            let insert = format!("INSERT INTO nssPublic (id, a0, {first}, {second}) VALUES (?1, ?2, ?3, ?4)");
            db.execute(&insert, rusqlite::params![id as i64, class.to_be_bytes().as_slice(), a, b]).unwrap();
        }
        db.serialize(MAIN_DB).unwrap().to_vec()
    }

    fn older(der: &[u8], trust: u32) -> Object {
        let hash = Sha1::digest(der).to_vec();
        (NSS_TRUST, [("ace536358", trust.to_be_bytes().to_vec()), ("ace5363b4", hash)])
    }

    fn newer(der: &[u8], trust: u32) -> Object {
        let hash = octets(&Sha256Fingerprint::of(der));
        (TRUST, [("a62c", trust.to_be_bytes().to_vec()), ("a635", hash)])
    }

    fn certificate(der: &[u8]) -> Object {
        (CERTIFICATE, [("a11", der.to_vec()), ("a3", b"tamga".to_vec())])
    }

    #[test]
    fn older_trust_is_read_for_every_library() {
        let all = [
            certificate(b"root"),
            older(b"root", 0xce53_4352),
            certificate(b"distrusted"),
            older(b"distrusted", 0xce53_435a),
            certificate(b"plain"),
            older(b"other", 0xce53_4352),
        ];
        for library in [Library::System, Library::In("/usr/lib/firefox-esr".into())] {
            let found = entries(&database(&all), &library).unwrap();
            let trusted: Vec<bool> = found.iter().map(NssEntry::is_trusted).collect();
            let distrusted: Vec<bool> = found.iter().map(NssEntry::is_distrusted).collect();
            assert_eq!((trusted, distrusted), (vec![true, false, false], vec![false, true, false]));
            assert_eq!(found[0].nickname, "tamga");
        }
    }

    #[test]
    fn newer_trust_is_preferred_by_firefox_and_left_to_the_library_for_chromium() {
        let all = [certificate(b"root"), older(b"root", 0xce53_4352), newer(b"root", 3)];
        assert_eq!(entries(&database(&all), &Library::System), None);
        let found = entries(&database(&all), &Library::In("/usr/lib/firefox-esr".into())).unwrap();
        assert!(found[0].is_distrusted() && !found[0].is_trusted());
    }

    #[test]
    fn what_is_no_such_database_is_left_to_the_library() {
        assert_eq!(entries(b"", &Library::System), None);
        assert_eq!(entries(&[0x53; 4096], &Library::System), None);
        let mut other = Connection::open_in_memory().unwrap();
        other.execute_batch("CREATE TABLE t (a)").unwrap();
        assert_eq!(entries(&other.serialize(MAIN_DB).unwrap(), &Library::System), None);
    }
}
