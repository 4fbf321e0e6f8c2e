//! The least that issuing can cost: a P-256 key, one signature, one durable SQLite commit, and the same four files
//! with the same fsyncs, in a program that does nothing else. `floor DATABASE FOLDER`

use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING as P256, EcdsaKeyPair};
use std::fs::{DirBuilder, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let args: Vec<String> = std::env::args().collect();
    let (database, folder) = (&args[1], Path::new(&args[2]));
    let random = SystemRandom::new();
    let pkcs8 = EcdsaKeyPair::generate_pkcs8(&P256, &random).map_err(|_| "key")?;
    let pair = EcdsaKeyPair::from_pkcs8(&P256, pkcs8.as_ref(), &random).map_err(|_| "key")?;
    let certificate = [&[0x30; 600][..], pair.sign(&random, &[7; 500]).map_err(|_| "sign")?.as_ref()].concat();

    let db = rusqlite::Connection::open(database)?;
    db.pragma_update(None, "journal_mode", "WAL")?;
    db.pragma_update(None, "synchronous", "FULL")?;
    db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
    db.execute_batch("CREATE TABLE IF NOT EXISTS c (id INTEGER PRIMARY KEY, der BLOB)")?;
    db.execute("INSERT INTO c (der) VALUES (?1)", [&certificate])?;

    let staged = folder.with_extension("staged");
    DirBuilder::new().create(&staged)?;
    for (name, bytes, mode) in [
        (".gitignore", &b"/private-key.pem\n"[..], 0o644),
        ("root.pem", &certificate, 0o644),
        ("private-key.pem", pkcs8.as_ref(), 0o600),
        ("certificate.pem", &certificate, 0o644),
    ] {
        let mut f = OpenOptions::new().write(true).create_new(true).mode(mode).open(staged.join(name))?;
        f.write_all(bytes)?;
        f.sync_all()?;
    }
    File::open(&staged)?.sync_all()?;
    std::fs::rename(&staged, folder)?;
    File::open(folder.parent().ok_or("parent")?)?.sync_all()?;
    Ok(())
}
