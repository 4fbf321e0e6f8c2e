//! One file: whole or absent, with its mode from the first byte.

use super::names::{Tag, staged_name};
use super::{Allowed, Dir, parent};
use crate::error::{Error, Result};
use crate::platform::Ids;
use std::ffi::OsStr;
use std::io::Write;
use std::path::{Path, PathBuf};
use tamga_core::plan::step::Document;

fn name_of(path: &Path) -> Result<&OsStr> {
    let nameless = || std::io::Error::new(std::io::ErrorKind::InvalidInput, "it names no file");
    path.file_name().ok_or_else(nameless).map_err(Error::file("writing", path))
}

/// A file that is written bit by bit and put in place at the end; gone if it never is. While it exists no other process stages
/// the same name: the second waits for the first.
pub struct Staged {
    dir: Dir,
    file: std::fs::File,
    path: PathBuf,
    done: bool,
}

impl Staged {
    /// Opens the staged file beside its target, with its mode from the first byte.
    ///
    /// Errors: it cannot be made, or another process has held it for 30 seconds.
    pub fn new(path: &Path, mode: u32) -> Result<Staged> {
        let dir = Dir::open(parent(path), Allowed::Owner)?;
        Staged::within(dir, path, mode)
    }

    pub(super) fn within(dir: Dir, path: &Path, mode: u32) -> Result<Staged> {
        let name = staged_name(name_of(path)?, Tag::New);
        let file = dir.stage(&name, mode).map_err(Error::file("writing", path))?;
        Ok(Staged { dir, file, path: path.to_owned(), done: false })
    }

    fn staged(&self) -> std::ffi::OsString {
        staged_name(self.path.file_name().unwrap_or_default(), Tag::New)
    }

    /// Refuses an open key where the file system does not keep its mode.
    fn keep_secret(&self) -> Result<()> {
        match Dir::mode_of(&self.file).map_err(Error::file("writing", &self.path))? {
            Some(mode) if mode & 0o077 != 0 => Err(Error::ModeLost { path: self.path.clone(), mode: mode & 0o777 }),
            _ => Ok(()),
        }
    }

    /// Where to write.
    pub fn file(&self) -> &std::fs::File {
        &self.file
    }

    fn write(&self, bytes: &[u8]) -> Result<()> {
        (&self.file).write_all(bytes).map_err(Error::file("writing", &self.path))
    }

    /// Makes it durable and visible.
    pub fn put_in_place(mut self) -> Result<()> {
        self.file.sync_all().map_err(Error::file("writing", &self.path))?;
        let target = name_of(&self.path)?;
        self.dir.rename(&self.staged(), target).map_err(Error::file("putting in place", &self.path))?;
        self.done = true;
        self.dir.sync().map_err(Error::file("making durable", &self.path))
    }
}

impl Drop for Staged {
    fn drop(&mut self) {
        if !self.done {
            let _ = self.dir.unlink(&self.staged());
        }
    }
}

/// Writes a file whole: a staged file in the same directory, fsync, rename, fsync of the directory.
pub fn write_whole(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let staged = Staged::new(path, mode)?;
    staged.write(bytes)?;
    staged.put_in_place()
}

/// Puts one document in place whole, replacing what is there.
pub fn replace(path: &Path, document: &Document) -> Result<()> {
    let staged = Staged::new(path, document.mode)?;
    if document.secret {
        staged.keep_secret()?;
    }
    staged.write(&document.bytes)?;
    staged.put_in_place()
}

/// Replaces the contents of a file that others own as well: its mode and owner stay, and a copy of what was there is kept in
/// `copy`. Whole where it can be renamed over; in place where it is a mount of its own.
pub fn rewrite(path: &Path, bytes: &[u8], copy: &Path) -> Result<()> {
    // What a link points to is changed, not the link.
    let (dir, name) = Dir::locate(path)?;
    let real = dir.path().join(&name);
    // Checked as every place is into which we write.
    let dir = {
        drop(dir);
        Dir::open(parent(&real), Allowed::Owner)?
    };
    let name = name.as_os_str();
    let (mut old, ids, mode) = dir.open_existing(name).map_err(Error::file("reading", path))?;
    let mut before = Vec::new();
    std::io::Read::read_to_end(&mut old, &mut before).map_err(Error::file("reading", path))?;
    write_whole(copy, &before, mode)?;
    let staged = Staged::within(dir, &real, mode & 0o700)?;
    staged.write(bytes)?;
    if give(&staged.file, ids, mode).is_ok() {
        staged.file.sync_all().map_err(Error::file("writing", &real))?;
        let renamed = staged.dir.rename(&staged.staged(), name);
        if renamed.is_ok() {
            let mut staged = staged;
            staged.done = true;
            return staged.dir.sync().map_err(Error::file("making durable", &real));
        }
        // Only a mount of its own is written over in place: that is the case of a container's hosts file.
        if !renamed.as_ref().is_err_and(|e| e.kind() == std::io::ErrorKind::ResourceBusy) {
            return renamed.map_err(Error::file("putting in place", &real));
        }
    } else if crate::platform::is_root() {
        return Err(Error::file("giving to its owner", &real)(std::io::ErrorKind::PermissionDenied.into()));
    }
    let failed = || Error::file("writing", &real);
    let mut file = staged.dir.open_for_writing(name).map_err(failed())?;
    file.write_all(bytes).map_err(failed())?;
    file.set_len(bytes.len() as u64).map_err(failed())?;
    file.sync_all().map_err(failed())
}

/// Gives an open file its owner and then its mode, so that nobody else reads it in between.
pub(super) fn give(file: &std::fs::File, ids: Ids, mode: u32) -> std::io::Result<()> {
    Dir::give(file, ids)?;
    Dir::set_mode(file, mode)
}

/// Writes a file into a throw-away directory of ours, for a program that is started there: whole, but not durable.
pub fn write_scratch(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let dir = Dir::open(parent(path), Allowed::Owner).map_err(std::io::Error::other)?;
    let name = path.file_name().unwrap_or_default();
    dir.unlink(name)?;
    dir.create(name, 0o600)?.write_all(bytes)
}

/// Removes what an interrupted replacement of a file left beside it.
pub fn unstage(path: &Path) -> Result<()> {
    let Some(name) = path.file_name() else { return Ok(()) };
    lenient(remove(&parent(path).join(staged_name(name, Tag::New))))
}

/// A directory that we may not enter holds nothing that we staged.
pub(super) fn lenient(done: Result<()>) -> Result<()> {
    match done {
        Err(Error::File { source, .. }) if source.kind() == std::io::ErrorKind::PermissionDenied => Ok(()),
        other => other,
    }
}

/// Removes a file or link; nothing if it does not exist.
pub fn remove(path: &Path) -> Result<()> {
    remove_among(path, Allowed::Owner)
}

/// The same, with who else may change the directory.
pub fn remove_among(path: &Path, allowed: Allowed) -> Result<()> {
    let Some(dir) = super::open_if_there(parent(path), allowed)? else { return Ok(()) };
    match dir.unlink(name_of(path)?).map_err(Error::file("removing", path))? {
        true => dir.sync().map_err(Error::file("making durable", path)),
        false => Ok(()),
    }
}

/// Removes a directory with all that is in it, links themselves and never what they lead to; nothing if it does not exist.
pub fn remove_tree(path: &Path) -> Result<()> {
    let Some(dir) = super::open_if_there(parent(path), Allowed::Owner)? else { return Ok(()) };
    dir.remove_tree(name_of(path)?).map_err(Error::file("removing", path))?;
    dir.sync().map_err(Error::file("making durable", path))
}

/// Removes an empty directory; false if something is in it or it does not exist.
pub fn remove_directory(path: &Path) -> bool {
    remove_directory_among(path, Allowed::Owner)
}

/// The same, with who else may change the directory that it is in.
pub fn remove_directory_among(path: &Path, allowed: Allowed) -> bool {
    let Some(name) = path.file_name() else { return false };
    Dir::open(parent(path), allowed).is_ok_and(|d| d.remove_directory(name).is_ok())
}
