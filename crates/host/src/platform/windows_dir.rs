//! A directory on Windows: access lists are inherited from it, and who may change it is the list's business. Paths are used as they are.

use super::windows::{new_file, new_folder};
use crate::error::{Error, Result};
use crate::fs::Allowed;
use std::ffi::OsStr;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use zeroize::Zeroizing;

/// Windows has no such ids: always 0.
pub type Ids = (u32, u32);

/// A directory.
pub struct Dir {
    path: PathBuf,
}

impl Dir {
    /// Opens a directory.
    pub fn open(path: &Path, _: Allowed) -> Result<Dir> {
        let meta = std::fs::metadata(path).map_err(Error::file("opening", path))?;
        if !meta.is_dir() {
            return Err(Error::file("opening", path)(io::ErrorKind::NotADirectory.into()));
        }
        Ok(Dir { path: path.to_owned() })
    }

    /// The same: there is nothing else to check.
    pub fn open_checked(path: &Path, allowed: Allowed) -> Result<Dir> {
        Dir::open(path, allowed)
    }

    /// Opens a directory, made with its missing parents.
    pub fn open_or_make(path: &Path, mode: u32, allowed: Allowed) -> Result<Dir> {
        if !path.is_dir() {
            new_folder(path, mode, true).map_err(Error::file("making the directory", path))?;
        }
        Dir::open(path, allowed)
    }

    /// Where it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Makes a directory in it.
    pub fn make(&self, name: &OsStr, mode: u32) -> io::Result<Dir> {
        let path = self.path.join(name);
        new_folder(&path, mode, false)?;
        Ok(Dir { path })
    }

    /// A new file, with its access list from the first byte.
    pub fn create(&self, name: &OsStr, mode: u32) -> io::Result<File> {
        new_file(&self.path.join(name), mode)
    }

    /// A new staged file; one that a killed process left is replaced.
    pub fn stage(&self, name: &OsStr, mode: u32) -> io::Result<File> {
        match self.create(name, mode) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                self.unlink(name)?;
                self.create(name, mode)
            }
            other => other,
        }
    }

    /// A file that is made if it is not there, never emptied; for its lock.
    pub fn open_lock(&self, name: &OsStr) -> io::Result<File> {
        std::fs::OpenOptions::new().write(true).create(true).truncate(false).open(self.path.join(name))
    }

    /// True if a file still has this name in it: an open one cannot be removed.
    pub fn is_still(&self, name: &OsStr, _: &File) -> bool {
        self.exists(name)
    }

    /// Where a path leads in the end: a directory, and a name in it.
    pub fn locate(path: &Path) -> Result<(Dir, std::ffi::OsString)> {
        let real = std::fs::canonicalize(path).map_err(Error::file("finding", path))?;
        let above = real.parent().unwrap_or(Path::new(".")).to_owned();
        Ok((Dir { path: above }, real.file_name().unwrap_or_default().to_owned()))
    }

    fn open_file(&self, name: &OsStr) -> io::Result<(File, u64)> {
        open_regular(&self.path.join(name))
    }

    /// A regular file in it.
    pub fn open_file_checked(&self, name: &OsStr) -> Result<(File, u64)> {
        self.open_file(name).map_err(Error::file("reading", &self.path.join(name)))
    }

    /// The contents of a regular file in it. Wiped when dropped: it may be a key.
    pub fn read(&self, name: &OsStr) -> io::Result<Zeroizing<Vec<u8>>> {
        let (mut file, length) = self.open_file(name)?;
        let mut bytes = Zeroizing::new(Vec::with_capacity(usize::try_from(length).unwrap_or(0) + 1));
        io::Read::read_to_end(&mut file, &mut bytes)?;
        Ok(bytes)
    }

    /// A regular file in it.
    pub fn open_existing(&self, name: &OsStr) -> io::Result<(File, Ids, u32)> {
        Ok((self.open_file(name)?.0, (0, 0), 0o644))
    }

    /// A regular file in it, to be written over in place.
    pub fn open_for_writing(&self, name: &OsStr) -> io::Result<File> {
        std::fs::OpenOptions::new().write(true).open(self.path.join(name))
    }

    /// True if anything has this name in it.
    pub fn exists(&self, name: &OsStr) -> bool {
        self.path.join(name).symlink_metadata().is_ok()
    }

    /// Renames within it.
    pub fn rename(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        std::fs::rename(self.path.join(from), self.path.join(to))
    }

    /// Renames into another directory of the same file system.
    pub fn rename_into(&self, from: &OsStr, other: &Dir, to: &OsStr) -> io::Result<()> {
        std::fs::rename(self.path.join(from), other.path.join(to))
    }

    /// A second name for a file.
    pub fn link(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        std::fs::hard_link(self.path.join(from), self.path.join(to))
    }

    /// A copy of a regular file.
    pub fn copy(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        std::fs::copy(self.path.join(from), self.path.join(to)).map(drop)
    }

    /// Removes a file or link; false if there is none.
    pub fn unlink(&self, name: &OsStr) -> io::Result<bool> {
        match std::fs::remove_file(self.path.join(name)) {
            Ok(()) => Ok(true),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(e) => Err(e),
        }
    }

    /// Removes an empty directory.
    pub fn remove_directory(&self, name: &OsStr) -> io::Result<()> {
        std::fs::remove_dir(self.path.join(name))
    }

    /// Removes a directory with all that is in it; nothing if there is none.
    pub fn remove_tree(&self, name: &OsStr) -> io::Result<()> {
        match std::fs::remove_dir_all(self.path.join(name)) {
            Err(e) if e.kind() != io::ErrorKind::NotFound => Err(e),
            _ => Ok(()),
        }
    }

    /// NTFS makes names durable with the rename itself.
    pub fn sync(&self) -> io::Result<()> {
        Ok(())
    }

    /// Windows has no such ids: the file stays whose it is.
    pub fn give(_: &File, _: Ids) -> io::Result<()> {
        Ok(())
    }

    /// Access lists are inherited from the directory.
    pub fn set_mode(_: &File, _: u32) -> io::Result<()> {
        Ok(())
    }

    /// Windows has no modes: a secret's list was set when it was made.
    pub fn mode_of(_: &File) -> io::Result<Option<u32>> {
        Ok(None)
    }
}

/// Opens a regular file; with its length.
pub fn open_regular(path: &Path) -> io::Result<(File, u64)> {
    let file = File::open(path)?;
    let meta = file.metadata()?;
    if meta.is_file() {
        Ok((file, meta.len()))
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file"))
    }
}

/// Opens what a person named.
pub fn open_named(path: &Path) -> io::Result<File> {
    File::open(path)
}
