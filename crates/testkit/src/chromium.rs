//! What Chromium's own certificate manager keeps in a profile.

use std::path::Path;

/// Writes its database below a home, with these certificates; `trust` is 2 for distrusted, 3 for trusted.
pub fn keep(home: &Path, certificates: &[&[u8]], trust: u8) {
    let folder = home.join(".config/chromium/Default");
    std::fs::create_dir_all(&folder).unwrap();
    let file = folder.join("ServerCertificate");
    let _ = std::fs::remove_file(&file);
    let db = rusqlite::Connection::open(&file).unwrap();
    db.execute_batch(
        "CREATE TABLE meta(key LONGVARCHAR NOT NULL UNIQUE PRIMARY KEY, value LONGVARCHAR);
         INSERT INTO meta VALUES('version', '1'), ('last_compatible_version', '1');
         CREATE TABLE certificates(sha256hash_hex TEXT PRIMARY KEY, der_cert BLOB NOT NULL, trust_settings BLOB NOT NULL);",
    )
    .unwrap();
    for der in certificates {
        let sha256 = tamga_core::pki::cert::Certificate::read(der, "kept").unwrap().sha256();
        let settings = vec![0x0a, 2, 8, trust];
        db.execute("INSERT INTO certificates VALUES(?1, ?2, ?3)", rusqlite::params![sha256.as_str(), der, settings])
            .unwrap();
    }
}
