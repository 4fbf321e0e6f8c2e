//! Files that belong together: staged, verified, renamed back to back; and how an interrupted change is finished or undone.
//!
//! A *publication* is a certificate's or authority's own directory. A *deployment* is where a server reads its files: what was
//! there is kept beside them until the server has taken the new ones.

use super::atomic::give;
use super::names::{Tag, parent, staged_name};
use super::{Allowed, Dir, sibling, sync_directory};
use crate::digest::sha256;
use crate::error::{Error, Result};
use crate::platform::Ids;
use std::ffi::OsStr;
use std::io::Write;
use std::path::{Path, PathBuf};
use tamga_core::plan::step::{Document, Publication};
use zeroize::Zeroizing;

/// A new file in a directory, with its mode from the first byte; written, not yet durable. An open key is refused before its
/// first byte where the file system does not keep the mode.
fn write_new(dir: &Dir, name: &OsStr, d: &Document, target: &Path) -> Result<std::fs::File> {
    let mut file = dir.create(name, d.mode).map_err(Error::file("writing", target))?;
    if d.secret {
        match Dir::mode_of(&file).map_err(Error::file("writing", target))? {
            Some(mode) if mode & 0o077 != 0 => {
                let _ = dir.unlink(name);
                return Err(Error::ModeLost { path: target.to_owned(), mode: mode & 0o777 });
            }
            _ => {}
        }
    }
    file.write_all(&d.bytes).map_err(Error::file("writing", target))?;
    Ok(file)
}

/// Several files: all written, then each made durable. One after the other, each would wait for a commit of its own.
fn write_all(dir: &Dir, documents: &[Document], folder: &Path, tag: Option<Tag<'_>>) -> Result<()> {
    let mut written = Vec::new();
    for d in documents {
        let name = tag.map_or_else(|| d.name.into(), |t| staged_name(d.name.as_ref(), t));
        let target = folder.join(d.name);
        written.push((write_new(dir, &name, d, &target)?, target));
    }
    written.iter().try_for_each(|(file, target)| file.sync_all().map_err(Error::file("writing", target)))
}

/// Publishes files that belong together. `tag` names this attempt; the journal knows it.
///
/// A new directory is staged whole beside its place and renamed once. In an existing directory, each file is staged beside its
/// target, and only when all are durable they are renamed back to back: so a missing first staged file beside an existing later
/// one means "go on", and everything else "go back" (see [`recover_publication`]).
pub fn publish(publication: &Publication, tag: &str) -> Result<()> {
    publish_unsynced(publication, tag)?;
    sync_directory(parent(&publication.folder))
}

/// The same, but for the name of a new directory, which the caller makes durable: of many in one directory only once.
pub fn publish_unsynced(publication: &Publication, tag: &str) -> Result<()> {
    let target = &publication.folder;
    let tag = Tag::Attempt(tag);
    if target.is_dir() {
        let dir = Dir::open(target, Allowed::Owner)?;
        write_all(&dir, &publication.documents, target, Some(tag))?;
        for d in &publication.documents {
            dir.rename(&staged_name(d.name.as_ref(), tag), d.name.as_ref())
                .map_err(Error::file("putting in place", &target.join(d.name)))?;
        }
        return dir.sync().map_err(Error::file("making durable", target));
    }
    let above = Dir::open_or_make(parent(target), 0o755, Allowed::Owner)?;
    let name = target.file_name().unwrap_or_default();
    let staged = staged_name(name, tag);
    let making = || Error::file("making the directory", target);
    let dir = above.make(&staged, publication.folder_mode).map_err(making())?;
    write_all(&dir, &publication.documents, target, None)?;
    dir.sync().map_err(making())?;
    above.rename(&staged, name).map_err(Error::file("putting in place", target))
}

/// How an interrupted publication was left, and what was done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recovered {
    /// Files were half in place; the rest followed.
    Finished,
    /// Nothing was in place; what was staged is gone.
    TakenBack,
}

/// Finishes or takes back an interrupted publication, from its staged files alone.
pub fn recover_publication(folder: &Path, names: &[String], tag: &str) -> Result<Recovered> {
    let tag = Tag::Attempt(tag);
    super::atomic::lenient(super::remove_tree(&sibling(folder, tag)))?;
    let dir = match super::open_if_there(folder, Allowed::Owner) {
        Ok(None) => return Ok(Recovered::TakenBack),
        Err(Error::File { source, .. }) if source.kind() == std::io::ErrorKind::PermissionDenied => {
            return Ok(Recovered::TakenBack);
        }
        Ok(Some(dir)) => dir,
        Err(e) => return Err(e),
    };
    let staged: Vec<_> = names.iter().map(|n| (staged_name(n.as_ref(), tag), n)).collect();
    let exists: Vec<bool> = staged.iter().map(|(s, _)| dir.exists(s)).collect();
    let renaming = exists.first() == Some(&false) && exists.iter().any(|s| *s);
    let waiting = staged.iter().zip(&exists).filter(|(_, exists)| **exists).map(|(s, _)| s);
    if renaming {
        for (stage, name) in waiting {
            let target = folder.join(name);
            dir.rename(stage, name.as_ref()).map_err(Error::file("putting in place", &target))?;
        }
    } else {
        // Last first: stopped here, the next run must not take it for a renaming.
        for (stage, name) in waiting.rev() {
            dir.unlink(stage).map_err(Error::file("removing", &folder.join(name)))?;
        }
    }
    dir.sync().map_err(Error::file("making durable", folder))?;
    Ok(if renaming { Recovered::Finished } else { Recovered::TakenBack })
}

/// One file that a server reads.
pub struct File {
    /// Where.
    pub path: PathBuf,
    /// Its contents.
    pub bytes: Zeroizing<Vec<u8>>,
    /// Its permission bits.
    pub mode: u32,
}

fn directory_of(path: &Path) -> Result<Dir> {
    Dir::open(parent(path), Allowed::Owner)
}

fn name_of(path: &Path) -> &OsStr {
    path.file_name().unwrap_or_default()
}

/// Deploys files, given to `ids` where set; what was there is kept beside them. The caller has begun the journal's row.
///
/// Errors: a file that cannot be written, or a directory that another account than theirs could replace; then all files are as before; directories
/// that were made stay.
pub fn deploy(files: &[File], ids: Option<Ids>) -> Result<()> {
    let allowed = ids.map_or(Allowed::Owner, |(uid, _)| Allowed::Account(uid));
    let before: Vec<(&Path, String, bool)> =
        files.iter().map(|f| (f.path.as_path(), sha256(&f.bytes), f.path.symlink_metadata().is_ok())).collect();
    deploy_among(files, ids, allowed).map_err(|e| {
        let undone = withdraw(before.iter().map(|(path, sha, existed)| (*path, sha.as_str(), *existed)), allowed);
        undone.err().unwrap_or(e)
    })
}

/// The same, with who else may change the directories.
///
/// Errors: as for [`deploy`], but what is staged or half in place is left for [`withdraw`].
pub fn deploy_among(files: &[File], ids: Option<Ids>, allowed: Allowed) -> Result<()> {
    // What an earlier deployment kept is not what stands now: it must not come back if this one fails.
    settle_among(files.iter().map(|f| f.path.as_path()), allowed)?;
    let mut dirs = Vec::with_capacity(files.len());
    for file in files {
        dirs.push(Dir::open_or_make(parent(&file.path), 0o755, allowed)?);
    }
    let placed: Vec<(&Dir, &File)> = dirs.iter().zip(files).collect();
    for (dir, f) in &placed {
        let (path, name) = (&f.path, staged_name(name_of(&f.path), Tag::New));
        // Nobody else reads it before it has its owner.
        let first = if ids.is_some() { 0o600 } else { f.mode };
        let mut file = dir.stage(&name, first).map_err(Error::file("writing", path))?;
        file.write_all(&f.bytes).map_err(Error::file("writing", path))?;
        if let Some(ids) = ids {
            give(&file, ids, f.mode).map_err(Error::file("giving to its owner", path))?;
        }
        file.sync_all().map_err(Error::file("writing", path))?;
        let back = dir.read(&name).map_err(Error::file("verifying", path))?;
        if *back != *f.bytes {
            let source = std::io::Error::other("it does not hold what was written");
            return Err(Error::File { doing: "verifying", path: path.clone(), source });
        }
    }
    for (dir, f) in &placed {
        let (name, old) = (name_of(&f.path), staged_name(name_of(&f.path), Tag::Old));
        let keeping = || Error::file("keeping what was at", &f.path);
        if dir.exists(name) && dir.link(name, &old).is_err() {
            dir.copy(name, &old).map_err(keeping())?;
        }
    }
    for (dir, f) in &placed {
        dir.rename(&staged_name(name_of(&f.path), Tag::New), name_of(&f.path))
            .map_err(Error::file("putting in place", &f.path))?;
    }
    placed.iter().try_for_each(|(dir, f)| dir.sync().map_err(Error::file("making durable", &f.path)))
}

/// The server has taken the new files: what was there before goes, and whatever was staged.
pub fn settle<'a>(paths: impl Iterator<Item = &'a Path>) -> Result<()> {
    settle_among(paths, Allowed::Owner)
}

/// The same, with who else may change the directories.
pub fn settle_among<'a>(paths: impl Iterator<Item = &'a Path>, allowed: Allowed) -> Result<()> {
    for path in paths {
        for tag in [Tag::New, Tag::Old] {
            super::remove_among(&sibling(path, tag), allowed)?;
        }
    }
    Ok(())
}

/// The server has not: what was there before comes back. True if there was anything.
pub fn roll_back<'a>(paths: impl Iterator<Item = &'a Path>) -> Result<bool> {
    let mut any = false;
    for path in paths {
        let Some(dir) = super::open_if_there(parent(path), Allowed::Owner)? else { continue };
        let old = staged_name(name_of(path), Tag::Old);
        if dir.exists(&old) {
            put_back(&dir, &old, path)?;
            dir.sync().map_err(Error::file("making durable", path))?;
            any = true;
        }
    }
    Ok(any)
}

/// What was kept stands again. Two names of one file stay two when one is renamed to the other: so the one that was kept is removed too.
fn put_back(dir: &Dir, old: &OsStr, path: &Path) -> Result<()> {
    dir.rename(old, name_of(path)).map_err(Error::file("putting back", path))?;
    dir.unlink(old).map(drop).map_err(Error::file("removing", path))
}

/// Everything as before a deployment, wherever it was stopped: what stood there comes back, and what is new goes, unless somebody has
/// changed it since. Each file with the SHA-256 of what was put there, and whether something stood there before.
///
/// Errors: a file that cannot be put back or removed.
pub fn withdraw<'a>(files: impl Iterator<Item = (&'a Path, &'a str, bool)>, allowed: Allowed) -> Result<()> {
    for (path, sha, existed) in files {
        // The directory may not have been made yet.
        if parent(path).symlink_metadata().is_err() {
            continue;
        }
        let dir = Dir::open(parent(path), allowed)?;
        let (name, old) = (name_of(path), staged_name(name_of(path), Tag::Old));
        if dir.exists(&old) {
            put_back(&dir, &old, path)?;
        } else if !existed && dir.read(name).is_ok_and(|b| sha256(&b) == sha) {
            dir.unlink(name).map_err(Error::file("removing", path))?;
        }
        dir.unlink(&staged_name(name, Tag::New)).map_err(Error::file("removing", path))?;
        dir.sync().map_err(Error::file("making durable", path))?;
    }
    Ok(())
}

/// How an interrupted deployment was left.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Leftover {
    /// All new files are in place.
    Whole,
    /// None of them is.
    Nothing,
}

/// Finishes or takes back an interrupted deployment, from what is there alone: once the first file is renamed it goes on.
pub fn recover_deployment(files: &[(&Path, &str)]) -> Result<Leftover> {
    let holds = |path: &Path, sha: &str| super::read_regular(path).is_ok_and(|b| sha256(&b) == sha);
    let is_new = |(path, sha): &(&Path, &str)| holds(path, sha);
    let waits = |(path, sha): &(&Path, &str)| holds(&sibling(path, Tag::New), sha);
    let rename = |path: &Path, tag: Tag<'_>, doing: &'static str| -> Result<()> {
        let dir = directory_of(path)?;
        let staged = staged_name(name_of(path), tag);
        dir.rename(&staged, name_of(path)).map_err(Error::file(doing, path))?;
        dir.unlink(&staged).map_err(Error::file("removing", path))?;
        dir.sync().map_err(Error::file("making durable", path))
    };
    if files.first().is_some_and(is_new) && files.iter().all(|f| is_new(f) || waits(f)) {
        for (path, _) in files.iter().filter(|f| !is_new(f)) {
            rename(path, Tag::New, "putting in place")?;
        }
        return Ok(Leftover::Whole);
    }
    // Stopped while the old ones came back: what is still new goes back too, or the two would not match.
    for (path, _) in files.iter().filter(|f| is_new(f) && sibling(f.0, Tag::Old).symlink_metadata().is_ok()) {
        rename(path, Tag::Old, "putting back")?;
    }
    settle(files.iter().map(|f| f.0))?;
    Ok(Leftover::Nothing)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, clippy::disallowed_methods, reason = "tests arrange files as they like")]

    use super::*;

    fn file(path: PathBuf, text: &str) -> File {
        File { path, bytes: Zeroizing::new(text.as_bytes().to_vec()), mode: 0o600 }
    }

    /// Two old files, two new ones in their place, as a server that does not take them finds them.
    fn changed(folder: &Path) -> Vec<(PathBuf, String)> {
        let (key, certificate) = (folder.join("key"), folder.join("certificate"));
        std::fs::write(&key, "old key").unwrap();
        std::fs::write(&certificate, "old certificate").unwrap();
        deploy(&[file(key.clone(), "new key"), file(certificate.clone(), "new certificate")], None).unwrap();
        vec![(key, sha256(b"new key")), (certificate, sha256(b"new certificate"))]
    }

    fn lent(files: &[(PathBuf, String)]) -> Vec<(&Path, &str)> {
        files.iter().map(|(path, sha)| (path.as_path(), sha.as_str())).collect()
    }

    fn texts(files: &[(PathBuf, String)]) -> Vec<String> {
        files.iter().map(|f| std::fs::read_to_string(&f.0).unwrap()).collect()
    }

    #[test]
    fn stopped_while_the_old_files_come_back_the_pair_matches() {
        let folder = tempfile::tempdir().unwrap();
        let files = changed(folder.path());
        // The first is back, and then it was stopped.
        std::fs::rename(sibling(&files[0].0, Tag::Old), &files[0].0).unwrap();
        assert_eq!(recover_deployment(&lent(&files)).unwrap(), Leftover::Nothing);
        assert_eq!(texts(&files), ["old key", "old certificate"]);
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 2, "nothing is left beside them");
    }

    #[test]
    fn stopped_between_two_renames_it_goes_on_and_the_old_files_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let files = changed(folder.path());
        std::fs::rename(&files[1].0, sibling(&files[1].0, Tag::New)).unwrap();
        std::fs::copy(sibling(&files[1].0, Tag::Old), &files[1].0).unwrap();
        assert_eq!(recover_deployment(&lent(&files)).unwrap(), Leftover::Whole);
        assert_eq!(texts(&files), ["new key", "new certificate"]);
        assert!(roll_back(files.iter().map(|f| f.0.as_path())).unwrap());
        assert_eq!(texts(&files), ["old key", "old certificate"]);
    }

    #[test]
    fn wherever_it_was_stopped_everything_is_as_before() {
        for stopped in 0..4 {
            let folder = tempfile::tempdir().unwrap();
            let all = changed(folder.path());
            let new = folder.path().join("new");
            deploy(&[file(new.clone(), "new")], None).unwrap();
            match stopped {
                // One is staged only, the others are in place.
                1 => std::fs::rename(&new, sibling(&new, Tag::New)).unwrap(),
                // One is back already.
                2 => std::fs::rename(sibling(&all[0].0, Tag::Old), &all[0].0).unwrap(),
                // Somebody has changed the new one since.
                3 => std::fs::write(&new, "somebody's").unwrap(),
                _ => {}
            }
            let all: Vec<(PathBuf, String, bool)> = all
                .into_iter()
                .map(|(path, sha)| (path, sha, true))
                .chain([(new.clone(), sha256(b"new"), false)])
                .collect();
            for _ in 0..2 {
                withdraw(
                    all.iter().map(|(path, sha, existed)| (path.as_path(), sha.as_str(), *existed)),
                    Allowed::Owner,
                )
                .unwrap();
                let texts: Vec<_> = all[..2].iter().map(|f| std::fs::read_to_string(&f.0).unwrap()).collect();
                assert_eq!(texts, ["old key", "old certificate"]);
                let left = std::fs::read_dir(folder.path()).unwrap().count();
                assert_eq!((new.exists(), left), if stopped == 3 { (true, 3) } else { (false, 2) });
            }
        }
    }

    #[test]
    fn two_writers_of_one_name_wait_for_each_other() {
        let folder = tempfile::tempdir().unwrap();
        let target = folder.path().join("list.pem");
        let texts: Vec<Vec<u8>> = (0..8_u8).map(|n| vec![b'a' + n; 200_000]).collect();
        std::thread::scope(|scope| {
            for text in &texts {
                let target = &target;
                scope.spawn(move || (0..10).for_each(|_| super::super::write_whole(target, text, 0o644).unwrap()));
            }
        });
        assert!(texts.contains(&std::fs::read(&target).unwrap()), "a mixture was put in place");
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
