//! Where the files of a machine are: on this one's disk, or, for tests and programs that embed Tamga, in memory.

use super::{File, Leftover, Lock, Recovered};
use crate::error::{Error, Result};
use crate::platform::{self, Ids};
use std::io;
use std::path::{Path, PathBuf};
use tamga_core::plan::step::{Document, Publication};
use zeroize::Zeroizing;

/// The bytes of a file. They are wiped when dropped: it may hold a key.
pub type Bytes = Zeroizing<Vec<u8>>;

/// What something in a directory is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A regular file.
    File,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A device, a socket, a pipe.
    Other,
}

/// What is known of something in a directory without reading it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Status {
    /// What it is.
    pub kind: Kind,
    /// Its length in bytes.
    pub length: u64,
    /// Its permission bits; 0 where the system has none.
    pub mode: u32,
    /// The account whose it is; 0 where the system has no such ids.
    pub owner: u32,
}

impl Status {
    fn of(meta: &std::fs::Metadata) -> Status {
        let kind = match meta.file_type() {
            t if t.is_file() => Kind::File,
            t if t.is_dir() => Kind::Directory,
            t if t.is_symlink() => Kind::Link,
            _ => Kind::Other,
        };
        Status { kind, length: meta.len(), mode: platform::mode(meta), owner: platform::owner(meta).0 }
    }
}

/// The files of a machine, as use cases read and change them.
///
/// Every change is whole when the call returns, or has not happened. What stays on this machine's own disk wherever the rest is: a
/// backup, a server that is set up, a browser's profile, and whatever a program reads or writes.
///
/// Errors, where nothing else is said: the file cannot be read, written or removed.
pub trait Disk: std::fmt::Debug + Send + Sync {
    /// What is at a path, links followed.
    fn status(&self, path: &Path) -> io::Result<Status>;
    /// What is at a path: of a link, the link.
    fn entry(&self, path: &Path) -> io::Result<Status>;
    /// The names in a directory, sorted.
    fn list(&self, directory: &Path) -> io::Result<Vec<std::ffi::OsString>>;
    /// Where a symbolic link points, as written in it.
    fn link(&self, path: &Path) -> io::Result<PathBuf>;
    /// A path from the root with its links followed to their end.
    fn resolved(&self, path: &Path) -> io::Result<PathBuf>;
    /// True if we may change files in this directory.
    fn may_write(&self, directory: &Path) -> bool;
    /// True for a program that may be run.
    fn may_run(&self, path: &Path) -> bool;
    /// Where a program of this name is in a directory.
    fn program_in(&self, directory: &Path, name: &str) -> Option<PathBuf>;
    /// Refuses a directory that another account than root, ours and the invoking user could change.
    fn refuse_if_open(&self, directory: &Path) -> Result<()>;

    /// Reads what a person named: a regular file, a pipe until its end, or standard input as `-`.
    fn read_named(&self, path: &Path) -> Result<Bytes>;
    /// Reads a regular file that was found by looking, without waiting for anything.
    fn read(&self, path: &Path) -> io::Result<Bytes>;
    /// Reads a regular file that is about to be replaced, as root never through a link.
    fn read_to_replace(&self, path: &Path) -> io::Result<Bytes>;
    /// Reads a file that decides what we do: refused if another account could replace it, or any directory on the way to it.
    fn read_trusted(&self, path: &Path) -> Result<Bytes>;

    /// Writes a file whole.
    fn write_whole(&self, path: &Path, bytes: &[u8], mode: u32) -> Result<()>;
    /// Puts one document in place whole, replacing what is there.
    fn replace(&self, path: &Path, document: &Document) -> Result<()>;
    /// Replaces the contents of a file that others own as well: its mode and owner stay, and what was there is kept in `copy`.
    fn rewrite(&self, path: &Path, bytes: &[u8], copy: &Path) -> Result<()>;
    /// Removes what an interrupted replacement of a file left beside it.
    fn unstage(&self, path: &Path) -> Result<()>;
    /// Removes a file or link; nothing if it does not exist.
    fn remove(&self, path: &Path) -> Result<()>;
    /// Removes a directory with all that is in it; nothing if it does not exist.
    fn remove_tree(&self, path: &Path) -> Result<()>;
    /// Removes an empty directory; false if something is in it or it does not exist.
    fn remove_directory(&self, path: &Path) -> bool;
    /// Makes a directory and its parents with a mode; nothing if it exists.
    fn make_directory(&self, path: &Path, mode: u32) -> Result<()>;
    /// Moves a directory to where there is nothing, or an empty directory, in one step.
    fn move_directory(&self, from: &Path, to: &Path) -> Result<()>;

    /// Publishes files that belong together: see [`super::publish`].
    ///
    /// Errors: also that the disk is full in between; what is staged then is for [`Disk::recover_publication`].
    fn publish(&self, publication: &Publication, tag: &str) -> Result<()>;
    /// The same, but for the name of a new directory, which [`Disk::sync_directory`] makes durable.
    fn publish_unsynced(&self, publication: &Publication, tag: &str) -> Result<()>;
    /// Makes the names in a directory durable.
    fn sync_directory(&self, path: &Path) -> Result<()>;
    /// Finishes or takes back an interrupted publication.
    fn recover_publication(&self, directory: &Path, names: &[String], tag: &str) -> Result<Recovered>;

    /// Deploys files where a server reads them; what was there is kept beside them.
    fn deploy(&self, files: &[File], ids: Option<Ids>) -> Result<()>;
    /// The server has taken the new files: what was kept goes.
    fn settle(&self, paths: &[&Path]) -> Result<()>;
    /// The server has not: what was there before comes back. True if there was anything.
    fn roll_back(&self, paths: &[&Path]) -> Result<bool>;
    /// Finishes or takes back an interrupted deployment: each file with the SHA-256 that it is to have.
    fn recover_deployment(&self, files: &[(&Path, &str)]) -> Result<Leftover>;

    /// Locks a data directory for a change; waits up to 30 seconds.
    fn lock(&self, data: &Path) -> Result<Lock>;
    /// Locks a data directory for a run of `apply`; waits up to five minutes.
    fn lock_apply(&self, data: &Path) -> Result<Lock>;
    /// True if a living process is in a run of `apply`.
    fn is_applying(&self, data: &Path) -> bool;

    /// True if something is there, links followed.
    fn exists(&self, path: &Path) -> bool {
        self.status(path).is_ok()
    }

    /// True for a regular file, links followed.
    fn is_file(&self, path: &Path) -> bool {
        self.status(path).is_ok_and(|s| s.kind == Kind::File)
    }

    /// True for a directory, links followed.
    fn is_directory(&self, path: &Path) -> bool {
        self.status(path).is_ok_and(|s| s.kind == Kind::Directory)
    }

    /// True if the name is taken, if only by a link that leads nowhere.
    fn is_taken(&self, path: &Path) -> bool {
        self.entry(path).is_ok()
    }

    /// True if a person named standard input, or something that is there.
    fn is_named(&self, path: &Path) -> bool {
        path == Path::new(super::STDIN) || self.exists(path)
    }

    /// What a person named, as text.
    ///
    /// Errors: also if it is not UTF-8.
    fn read_named_text(&self, path: &Path) -> Result<String> {
        super::text_of(&self.read_named(path)?, path)
    }

    /// Refuses a directory that another account could change or replace; one that is still to be made, if its nearest parent is such.
    fn refuse_if_replaceable(&self, path: &Path) -> Result<()> {
        let whole = std::path::absolute(path).map_err(Error::file("finding", path))?;
        for directory in whole.ancestors() {
            match self.refuse_if_open(directory) {
                Err(Error::File { source, .. }) if source.kind() == io::ErrorKind::NotFound => {}
                other => return other,
            }
        }
        Ok(())
    }
}

/// This machine's own disk.
#[derive(Clone, Copy, Debug)]
pub struct Local;

impl Disk for Local {
    fn status(&self, path: &Path) -> io::Result<Status> {
        std::fs::metadata(path).map(|m| Status::of(&m))
    }

    fn entry(&self, path: &Path) -> io::Result<Status> {
        path.symlink_metadata().map(|m| Status::of(&m))
    }

    fn list(&self, directory: &Path) -> io::Result<Vec<std::ffi::OsString>> {
        let mut names: Vec<_> = std::fs::read_dir(directory)?.flatten().map(|e| e.file_name()).collect();
        names.sort();
        Ok(names)
    }

    fn link(&self, path: &Path) -> io::Result<PathBuf> {
        std::fs::read_link(path)
    }

    fn resolved(&self, path: &Path) -> io::Result<PathBuf> {
        std::fs::canonicalize(path).map(platform::plain)
    }

    fn may_write(&self, directory: &Path) -> bool {
        platform::may_write(directory)
    }

    fn may_run(&self, path: &Path) -> bool {
        platform::may_run(path)
    }

    fn program_in(&self, directory: &Path, name: &str) -> Option<PathBuf> {
        platform::program_in(directory, name)
    }

    fn refuse_if_open(&self, directory: &Path) -> Result<()> {
        super::Dir::open_checked(directory, super::Allowed::Ours).map(drop)
    }

    fn read_named(&self, path: &Path) -> Result<Bytes> {
        super::read_named(path)
    }

    fn read(&self, path: &Path) -> io::Result<Bytes> {
        super::read_regular(path)
    }

    fn read_to_replace(&self, path: &Path) -> io::Result<Bytes> {
        super::read_to_replace(path)
    }

    fn read_trusted(&self, path: &Path) -> Result<Bytes> {
        super::read_trusted(path)
    }

    fn write_whole(&self, path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
        super::write_whole(path, bytes, mode)
    }

    fn replace(&self, path: &Path, document: &Document) -> Result<()> {
        super::replace(path, document)
    }

    fn rewrite(&self, path: &Path, bytes: &[u8], copy: &Path) -> Result<()> {
        super::rewrite(path, bytes, copy)
    }

    fn unstage(&self, path: &Path) -> Result<()> {
        super::unstage(path)
    }

    fn remove(&self, path: &Path) -> Result<()> {
        super::remove(path)
    }

    fn remove_tree(&self, path: &Path) -> Result<()> {
        super::remove_tree(path)
    }

    fn remove_directory(&self, path: &Path) -> bool {
        super::remove_directory(path)
    }

    fn make_directory(&self, path: &Path, mode: u32) -> Result<()> {
        super::make_directory(path, mode)
    }

    fn move_directory(&self, from: &Path, to: &Path) -> Result<()> {
        super::move_directory(from, to)
    }

    fn publish(&self, publication: &Publication, tag: &str) -> Result<()> {
        super::publish(publication, tag)
    }

    fn publish_unsynced(&self, publication: &Publication, tag: &str) -> Result<()> {
        super::publish_unsynced(publication, tag)
    }

    fn sync_directory(&self, path: &Path) -> Result<()> {
        super::sync_directory(path)
    }

    fn recover_publication(&self, directory: &Path, names: &[String], tag: &str) -> Result<Recovered> {
        super::recover_publication(directory, names, tag)
    }

    fn deploy(&self, files: &[File], ids: Option<Ids>) -> Result<()> {
        super::deploy(files, ids)
    }

    fn settle(&self, paths: &[&Path]) -> Result<()> {
        super::settle(paths.iter().copied())
    }

    fn roll_back(&self, paths: &[&Path]) -> Result<bool> {
        super::roll_back(paths.iter().copied())
    }

    fn recover_deployment(&self, files: &[(&Path, &str)]) -> Result<Leftover> {
        super::recover_deployment(files)
    }

    fn lock(&self, data: &Path) -> Result<Lock> {
        super::lock(data)
    }

    fn lock_apply(&self, data: &Path) -> Result<Lock> {
        super::lock_apply(data)
    }

    fn is_applying(&self, data: &Path) -> bool {
        super::is_applying(data)
    }
}
