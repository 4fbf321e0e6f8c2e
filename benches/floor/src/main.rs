//! The least that issuing can cost: a P-256 key, one signature, one durable SQLite commit, and the same four files
//! with the same fsyncs, in a program that does nothing else, with the libraries that Tamga uses.
//!
//! `floor DATABASE FOLDER`: one. `floor DATABASE FOLDER ring`: the key and the signature come from hand-written assembler,
//! which wipes no key. `floor DATABASE FOLDER COUNT`: a loop with the durability of `tamga issue --list`: one commit for
//! every 64, every file and folder synced, on every core. `floor handshakes PORT ROOT COUNT JOBS`: bare TLS handshakes. `floor enroll …`: see that file.

mod enroll;
mod handshakes;

use p256::ecdsa::signature::Signer;
use p256::elliptic_curve::Generate;
use p256::pkcs8::EncodePrivateKey;
use std::fs::{DirBuilder, File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

type Anything<T> = Result<T, Box<dyn std::error::Error>>;

/// A key as PKCS#8, and a signature with it.
fn ours() -> Anything<(Vec<u8>, Vec<u8>)> {
    let key = p256::SecretKey::generate();
    let pkcs8 = key.to_pkcs8_der()?.as_bytes().to_vec();
    let signature: p256::ecdsa::DerSignature = p256::ecdsa::SigningKey::from(key).sign(&[7; 500]);
    Ok((pkcs8, signature.as_bytes().to_vec()))
}

fn assembler() -> Anything<(Vec<u8>, Vec<u8>)> {
    use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING as P256, EcdsaKeyPair};
    let random = ring::rand::SystemRandom::new();
    let pkcs8 = EcdsaKeyPair::generate_pkcs8(&P256, &random).map_err(|_| "key")?;
    let pair = EcdsaKeyPair::from_pkcs8(&P256, pkcs8.as_ref(), &random).map_err(|_| "key")?;
    let signature = pair.sign(&random, &[7; 500]).map_err(|_| "sign")?;
    Ok((pkcs8.as_ref().to_vec(), signature.as_ref().to_vec()))
}

fn main() -> Anything<()> {
    let args: Vec<String> = std::env::args().collect();
    if args[1] == "handshakes" {
        handshakes::run(args[2].parse()?, &args[3], args[4].parse()?, args[5].parse()?);
        return Ok(());
    }
    if args[1] == "enroll" {
        return enroll::run(&args[2..]);
    }
    let (database, folder) = (&args[1], Path::new(&args[2]));
    let db = rusqlite::Connection::open(database)?;
    db.pragma_update(None, "journal_mode", "WAL")?;
    db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
    db.execute_batch("CREATE TABLE IF NOT EXISTS c (id INTEGER PRIMARY KEY, der BLOB)")?;
    if let Some(count) = args.get(3).and_then(|n| n.parse().ok()) {
        return many(&db, folder, count);
    }
    let (pkcs8, signature) = if args.len() > 3 { assembler()? } else { ours()? };
    let certificate = [&[0x30; 600][..], &signature].concat();
    db.execute("INSERT INTO c (der) VALUES (?1)", [&certificate])?;
    files(folder, &pkcs8, &certificate)?;
    File::open(folder.parent().ok_or("parent")?)?.sync_all()?;
    Ok(())
}

fn many(db: &rusqlite::Connection, parent: &Path, count: usize) -> Anything<()> {
    DirBuilder::new().create(parent)?;
    let cores = std::thread::available_parallelism()?.get();
    for chunk in (0..count).collect::<Vec<_>>().chunks(64) {
        let share = chunk.len().div_ceil(cores);
        let made: Vec<(usize, Vec<u8>, Vec<u8>)> = std::thread::scope(|s| {
            let threads: Vec<_> = chunk
                .chunks(share)
                .map(|part| {
                    s.spawn(|| part.iter().filter_map(|i| ours().ok().map(|(k, c)| (*i, k, c))).collect::<Vec<_>>())
                })
                .collect();
            threads.into_iter().flat_map(|t| t.join().unwrap_or_default()).collect()
        });
        let tx = db.unchecked_transaction()?;
        for (_, _, signature) in &made {
            let certificate = [&[0x30; 600][..], signature].concat();
            tx.prepare_cached("INSERT INTO c (der) VALUES (?1)")?.execute([&certificate])?;
        }
        tx.commit()?;
        std::thread::scope(|s| {
            for part in made.chunks(share) {
                s.spawn(move || {
                    for (i, pkcs8, signature) in part {
                        let certificate = [&[0x30; 600][..], signature].concat();
                        files(&parent.join(i.to_string()), pkcs8, &certificate).unwrap_or_default();
                    }
                });
            }
        });
        File::open(parent)?.sync_all()?;
    }
    Ok(())
}

fn files(folder: &Path, pkcs8: &[u8], certificate: &[u8]) -> Anything<()> {
    let staged = folder.with_extension("staged");
    DirBuilder::new().create(&staged)?;
    for (name, bytes, mode) in [
        (".gitignore", &b"/private-key.pem\n"[..], 0o644),
        ("root.pem", certificate, 0o644),
        ("private-key.pem", pkcs8, 0o600),
        ("certificate.pem", certificate, 0o644),
    ] {
        let mut f = OpenOptions::new().write(true).create_new(true).mode(mode).open(staged.join(name))?;
        f.write_all(bytes)?;
        f.sync_all()?;
    }
    File::open(&staged)?.sync_all()?;
    std::fs::rename(&staged, folder)?;
    Ok(())
}
