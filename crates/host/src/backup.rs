//! A backup: the ledger and the authorities' directories in a tar archive inside an age file, encrypted by a passphrase.
//!
//! Both are formats of other people: without Tamga, any program that reads age and tar opens it.

use crate::error::{Error, Result};
use crate::fs;
use crate::ledger::{Events as _, FILES, Journal as _, Ledger, Revocations as _, Sqlite};
use age::secrecy::SecretString;
use std::io::{Read, Write};
use std::path::{Component, Path, PathBuf};
use std::str::FromStr;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

/// The entries of a data directory that a backup includes, besides the ledger.
const AUTHORITIES: &str = "authorities";

fn refused(what: &str, why: impl Into<String>, remedy: &str) -> Error {
    Error::Backup { what: what.to_owned(), why: why.into(), remedy: remedy.to_owned() }
}

fn secret(passphrase: &Passphrase) -> Result<SecretString> {
    let text = std::str::from_utf8(passphrase.octets()).map_err(|_| {
        refused("the backup is refused", "its passphrase is not UTF-8 text", "choose another passphrase")
    })?;
    Ok(SecretString::from(text.to_owned()))
}

/// Writes a backup of a data directory. The file is 0600 and whole, or not there. The caller holds the lock.
pub fn write(ledger: &dyn Ledger, data: &Path, file: &Path, passphrase: &Passphrase) -> Result<()> {
    let io = |doing: &'static str| Error::file(doing, file);
    let work = tempfile::Builder::new()
        .prefix(".backup-")
        .tempdir_in(data)
        .map_err(Error::file("making a directory in", data))?;
    let copy = work.path().join(FILES[0]);
    ledger.copy_to(&copy)?;
    let staged = fs::Staged::new(file, 0o600)?;
    let encryptor = age::Encryptor::with_user_passphrase(secret(passphrase)?);
    let sealed = encryptor.wrap_output(staged.file()).map_err(io("encrypting"))?;
    let mut tar = tar::Builder::new(sealed);
    tar.follow_symlinks(false);
    let fill = |tar: &mut tar::Builder<_>| -> std::io::Result<()> {
        tar.append_path_with_name(&copy, FILES[0])?;
        let authorities = data.join(AUTHORITIES);
        if authorities.is_dir() {
            tar.append_dir_all(AUTHORITIES, &authorities)?;
        }
        Ok(())
    };
    fill(&mut tar).map_err(io("writing"))?;
    let sealed = tar.into_inner().map_err(io("writing"))?;
    sealed.finish().and_then(|mut f| f.flush()).map_err(io("encrypting"))?;
    staged.put_in_place()
}

/// Unpacks a backup into a data directory that does not stand yet, all of it or nothing.
///
/// Errors: a data directory that is not empty; a wrong passphrase; a file that is not a backup of Tamga.
pub fn restore(file: &Path, data: &Path, passphrase: &Passphrase, now: Timestamp) -> Result<Sqlite> {
    const WHAT: &str = "the backup cannot be restored";
    if std::fs::read_dir(data).is_ok_and(|mut d| d.any(|e| e.is_ok_and(|e| e.file_name() != "lock"))) {
        return Err(refused(
            WHAT,
            format!("the data directory {} has something in it, and nothing is overwritten", data.shown()),
            "choose an empty one: --data-dir DIR; or leave the present one first: tamga leave",
        ));
    }
    let mut name = std::ffi::OsString::from(".");
    name.push(data.file_name().unwrap_or_default());
    name.push(format!(".restore-{}", std::process::id()));
    let staged = fs::parent(data).join(&name);
    fs::remove_tree(&staged)?;
    let done = unpack(file, &staged, passphrase).and_then(|()| {
        let ledger = Sqlite::open(&staged)?;
        // What was revoked after the backup was made is not in it.
        ledger.may_be_behind(&format!("it was restored on {} from {}", now.date(), file.shown()), None)?;
        // What was under way on the other machine is none of this one's business, and names its files.
        ledger.drop_journal()?;
        ledger.relocate(&staged, data)?;
        ledger.note(now, "restored", "", &file.shown())
    });
    if let Err(e) = done {
        let _ = fs::remove_tree(&staged);
        return Err(e);
    }
    fs::remove(&data.join("lock"))?;
    fs::remove_directory(data);
    let above = fs::Dir::open(fs::parent(data), fs::Allowed::Owner)?;
    let target = data.file_name().unwrap_or_default();
    above.rename(&name, target).map_err(Error::file("putting in place", data))?;
    above.sync().map_err(Error::file("making durable", data))?;
    Sqlite::open(data)
}

fn unpack(file: &Path, into: &Path, passphrase: &Passphrase) -> Result<()> {
    const WHAT: &str = "the backup cannot be opened";
    const REMEDY: &str = "give the file that tamga authority backup wrote";
    let io = |doing: &'static str| Error::file(doing, file);
    let input = crate::platform::open_regular(file).map(|(f, _)| f).map_err(io("reading"))?;
    let decryptor = age::Decryptor::new(std::io::BufReader::new(input))
        .map_err(|e| refused(WHAT, format!("it is no age file: {e}"), REMEDY))?;
    if !decryptor.is_scrypt() {
        return Err(refused(WHAT, "it is encrypted to a key, not by a passphrase", REMEDY));
    }
    let identity = age::scrypt::Identity::new(secret(passphrase)?);
    let opened = decryptor.decrypt(std::iter::once(&identity as &dyn age::Identity)).map_err(|e| match e {
        age::DecryptError::DecryptionFailed | age::DecryptError::NoMatchingKeys | age::DecryptError::InvalidMac => {
            refused(WHAT, "the passphrase is wrong", "try again with the passphrase that the backup was made with")
        }
        other => refused(WHAT, other.to_string(), REMEDY),
    })?;
    unpack_archive(opened, into)
}

/// Unpacks the decrypted archive of a backup: files and directories that have a place in a data directory, and nothing else.
///
/// Errors: it is cut short or changed, has something else in it, or more than a data directory can have.
pub fn unpack_archive(archive: impl Read, into: &Path) -> Result<()> {
    const WHAT: &str = "the backup cannot be opened";
    const REMEDY: &str = "give the file that tamga authority backup wrote";
    /// Files in an archive, and bytes of one: a ledger of a million certificates has 700 MB.
    const MOST_FILES: usize = 100_000;
    const MOST_BYTES: u64 = 4 << 30;
    fs::make_directory(into, 0o700)?;
    let mut archive = tar::Archive::new(archive);
    let entries = archive.entries().map_err(|e| refused(WHAT, format!("it holds no archive: {e}"), REMEDY))?;
    let mut seen = false;
    for (n, entry) in entries.enumerate() {
        if n >= MOST_FILES {
            return Err(refused(WHAT, "it has more files than any data directory", REMEDY));
        }
        let mut entry = entry.map_err(|e| refused(WHAT, format!("it is cut short or changed: {e}"), REMEDY))?;
        let path = entry.path().map(|p| p.into_owned()).unwrap_or_default();
        let kind = entry.header().entry_type();
        let Some(place) = inside(&path) else {
            return Err(refused(WHAT, format!("{} has no place in a data directory", path.shown()), REMEDY));
        };
        let place = into.join(place);
        if kind.is_dir() {
            fs::make_directory(&place, 0o700)?;
        } else if kind.is_file() {
            seen |= path == Path::new(FILES[0]);
            fs::make_directory(fs::parent(&place), 0o700)?;
            let mut bytes = zeroize::Zeroizing::new(Vec::new());
            (&mut entry)
                .take(MOST_BYTES)
                .read_to_end(&mut bytes)
                .map_err(|e| refused(WHAT, format!("it is cut short or changed: {e}"), REMEDY))?;
            let public =
                place.extension().is_some_and(|e| e == "pem") && !place.ends_with(tamga_core::ca::authority::KEY_FILE);
            fs::write_whole(&place, &bytes, if public { 0o644 } else { 0o600 })?;
        } else {
            return Err(refused(WHAT, format!("{} is neither file nor directory", path.shown()), REMEDY));
        }
    }
    if !seen {
        return Err(refused(WHAT, "there is no ledger in it", REMEDY));
    }
    Ok(())
}

/// The path inside a data directory; None for anything that leads elsewhere or has no business there.
fn inside(path: &Path) -> Option<PathBuf> {
    let parts: Vec<&str> = path
        .components()
        .map(|c| match c {
            Component::Normal(p) => p.to_str(),
            _ => None,
        })
        .collect::<Option<_>>()?;
    match parts.as_slice() {
        [one] if *one == FILES[0] || *one == AUTHORITIES => Some(path.to_owned()),
        [AUTHORITIES, label] | [AUTHORITIES, label, _] => {
            tamga_core::vocabulary::label::Label::from_str(label).ok().map(|_| path.to_owned())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_unpacked_elsewhere() {
        for good in ["ledger.sqlite", "authorities", "authorities/saltmarsh", "authorities/saltmarsh/private-key.pem"] {
            assert!(inside(Path::new(good)).is_some(), "{good}");
        }
        for bad in ["../x", "/etc/passwd", "authorities/../../x", "lock", "authorities/a/b/c", "authorities/.x/y", ""] {
            assert!(inside(Path::new(bad)).is_none(), "{bad}");
        }
    }
}
