//! An open directory on Unix: names are resolved against its descriptor, so that nothing which is replaced in the meantime leads
//! a change elsewhere. As root, every directory and link on the way is checked first (`unix_walk`).

use crate::error::{Error, Result};
use crate::fs::Allowed;
use crate::platform::unix_walk::{LINKS, failed, open_to_others, trusted, walk};
use crate::platform::users;
use rustix::fs::{self, AtFlags, Mode, OFlags};
use rustix::io::Errno;
use std::ffi::{OsStr, OsString};
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::time::Instant;
use zeroize::Zeroizing;

/// User id and group id.
pub type Ids = (u32, u32);

/// Directories below one that is removed, at most.
const DEPTH: usize = 64;

/// An open directory.
pub struct Dir {
    fd: OwnedFd,
    path: PathBuf,
}

fn directory_of(path: PathBuf, fd: &OwnedFd) -> Result<Dir> {
    // A step can be looked at but not made durable: opened once more, from itself.
    let fd = fs::openat(fd, ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
        .map_err(failed("opening", &path))?;
    Ok(Dir { fd, path })
}

impl Dir {
    /// Opens a directory. As root, refused where an account that is not allowed could replace anything on the way.
    pub fn open(path: &Path, allowed: Allowed) -> Result<Dir> {
        if rustix::process::geteuid().is_root() {
            return Dir::open_checked(path, allowed);
        }
        let fd = fs::open(path, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
            .map_err(failed("opening", path))?;
        Ok(Dir { fd, path: path.to_owned() })
    }

    /// The same, checked for whatever account we are.
    pub fn open_checked(path: &Path, allowed: Allowed) -> Result<Dir> {
        let way = walk(path)?;
        let mut ours = trusted(allowed);
        let last = way.last().ok_or(Error::NoHome)?;
        if allowed == Allowed::Owner {
            ours.push(last.owner);
        }
        // A directory may be its owner's, but a link of the owner's could lead into one of root's: only root's own count, and ours.
        let own = [0, rustix::process::geteuid().as_raw()];
        for stop in &way {
            if let Some(who) = stop.open_to(if stop.fd.is_none() { &own } else { &ours }) {
                return Err(Error::OpenToOthers { path: stop.path.clone(), who });
            }
        }
        let fd = last.fd.as_ref().ok_or_else(|| Error::file("opening", path)(io::ErrorKind::NotADirectory.into()))?;
        directory_of(path.to_owned(), fd)
    }

    /// Opens a directory, made with its missing parents.
    pub fn open_or_make(path: &Path, mode: u32, allowed: Allowed) -> Result<Dir> {
        match Dir::open(path, allowed) {
            Err(Error::File { source, .. }) if source.kind() == io::ErrorKind::NotFound => {}
            other => return other,
        }
        let above = path.parent().map(|p| if p.as_os_str().is_empty() { Path::new(".") } else { p });
        let (Some(above), Some(name)) = (above, path.file_name()) else {
            return Err(Error::file("opening", path)(io::ErrorKind::NotFound.into()));
        };
        let above = Dir::open_or_make(above, mode, allowed)?;
        match above.make(name, mode) {
            Err(e) if e.kind() == io::ErrorKind::AlreadyExists => Dir::open(path, allowed),
            other => other.map_err(Error::file("making the directory", path)),
        }
    }

    /// Where it was opened.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Makes a directory in it.
    pub fn make(&self, name: &OsStr, mode: u32) -> io::Result<Dir> {
        fs::mkdirat(&self.fd, name, Mode::from_bits_truncate(mode as _))?;
        let fd = fs::openat(&self.fd, name, READ_DIRECTORY, Mode::empty())?;
        Ok(Dir { fd, path: self.path.join(name) })
    }

    /// A new file, readable and writable, with its mode from the first byte. Never one that is there, and never through a link.
    pub fn create(&self, name: &OsStr, mode: u32) -> io::Result<File> {
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        Ok(File::from(fs::openat(&self.fd, name, flags, Mode::from_bits_truncate(mode as _))?))
    }

    /// A new staged file, held by a lock until it is closed. One that a killed process left is replaced; one that a living process
    /// writes is waited for.
    pub fn stage(&self, name: &OsStr, mode: u32) -> io::Result<File> {
        let begun = Instant::now();
        loop {
            match self.create(name, mode) {
                Ok(file) => {
                    // Taken for left behind before it was locked: then its name is gone, and we begin again.
                    if file.try_lock().is_ok() && self.is_still(name, &file) {
                        return Ok(file);
                    }
                }
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
                    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
                    match fs::openat(&self.fd, name, flags, Mode::empty()).map(File::from) {
                        Ok(other) if other.try_lock().is_err() => {
                            if begun.elapsed() > crate::fs::PATIENCE {
                                return Err(io::Error::other("another process has been writing it for 30 seconds"));
                            }
                            std::thread::sleep(std::time::Duration::from_millis(2));
                        }
                        Ok(other) if !self.is_still(name, &other) => {}
                        // Put in place or removed since: whatever has the name now is another writer's.
                        Err(rustix::io::Errno::NOENT) => {}
                        // A link or a stranger's file under our name is removed, never followed.
                        _ => drop(self.unlink(name)?),
                    }
                }
                Err(e) => return Err(e),
            }
            if begun.elapsed() > 2 * crate::fs::PATIENCE {
                return Err(io::Error::other("another process keeps putting files under its name"));
            }
        }
    }

    /// A file that is made if it is not there, never emptied and never through a link; for its lock.
    pub fn open_lock(&self, name: &OsStr) -> io::Result<File> {
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        Ok(File::from(fs::openat(&self.fd, name, flags, Mode::RUSR | Mode::WUSR)?))
    }

    /// True if a file still has this name in it.
    pub fn is_still(&self, name: &OsStr, file: &File) -> bool {
        let named = fs::statat(&self.fd, name, AtFlags::SYMLINK_NOFOLLOW);
        match (named, fs::fstat(file)) {
            (Ok(a), Ok(b)) => (a.st_dev, a.st_ino) == (b.st_dev, b.st_ino),
            _ => false,
        }
    }

    /// Where a path leads in the end: an open directory, and a name in it that is no link.
    ///
    /// As root, a link counts only if it is root's own: anyone else who planted it would choose the file that root reads or replaces.
    pub fn locate(path: &Path) -> Result<(Dir, OsString)> {
        let mut path = std::path::absolute(path).map_err(Error::file("finding", path))?;
        for _ in 0..LINKS {
            let name =
                path.file_name().ok_or_else(|| Error::file("finding", &path)(io::ErrorKind::InvalidInput.into()))?;
            let name = name.to_owned();
            let above = path.parent().unwrap_or(Path::new("/"));
            let dir = if rustix::process::geteuid().is_root() {
                Dir::followed(above)?
            } else {
                Dir::open(above, Allowed::Owner)?
            };
            let stat = match fs::statat(&dir.fd, name.as_os_str(), AtFlags::SYMLINK_NOFOLLOW) {
                Ok(stat) => stat,
                Err(Errno::NOENT) => return Ok((dir, name)),
                Err(e) => return Err(failed("looking at", &path)(e)),
            };
            if fs::FileType::from_raw_mode(stat.st_mode) != fs::FileType::Symlink {
                return Ok((dir, name));
            }
            if rustix::process::geteuid().is_root() && stat.st_uid != 0 {
                return Err(Error::OpenToOthers { path, who: users::name(stat.st_uid) });
            }
            let target = fs::readlinkat(&dir.fd, name.as_os_str(), Vec::new()).map_err(failed("looking at", &path))?;
            path = above.join(OsStr::from_bytes(target.as_bytes()));
        }
        Err(failed("finding", &path)(Errno::LOOP))
    }

    /// Opens a directory as root, refused where a link of another account's is on the way. The directories may be whose they are.
    fn followed(path: &Path) -> Result<Dir> {
        let way = walk(path)?;
        if let Some(link) = way.iter().find(|s| s.fd.is_none() && s.owner != 0) {
            return Err(Error::OpenToOthers { path: link.path.clone(), who: users::name(link.owner) });
        }
        let last = way.last().and_then(|s| s.fd.as_ref());
        let fd = last.ok_or_else(|| Error::file("opening", path)(io::ErrorKind::NotADirectory.into()))?;
        directory_of(path.to_owned(), fd)
    }

    /// A regular file in it, not through a link, with its length.
    fn open_file(&self, name: &OsStr) -> io::Result<(File, u64)> {
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = File::from(fs::openat(&self.fd, name, flags, Mode::empty())?);
        let meta = file.metadata()?;
        if meta.is_file() { Ok((file, meta.len())) } else { Err(not_regular()) }
    }

    /// The same, refused if another account than root, ours and the invoking user could change it.
    pub fn open_file_checked(&self, name: &OsStr) -> Result<(File, u64)> {
        let path = self.path.join(name);
        let (file, length) = self.open_file(name).map_err(Error::file("reading", &path))?;
        let stat = fs::fstat(&file).map_err(failed("reading", &path))?;
        let ours = trusted(Allowed::Ours);
        let fd = OwnedFd::from(file);
        let mode = stat.st_mode as u32 & 0o7777;
        let who = if ours.contains(&stat.st_uid) {
            open_to_others(&fd, stat.st_gid, mode, &ours)
        } else {
            Some(users::name(stat.st_uid))
        };
        match who {
            Some(who) => Err(Error::OpenToOthers { path, who }),
            None => Ok((File::from(fd), length)),
        }
    }

    /// The contents of a regular file in it. Wiped when dropped: it may be a key.
    pub fn read(&self, name: &OsStr) -> io::Result<Zeroizing<Vec<u8>>> {
        let (mut file, length) = self.open_file(name)?;
        let mut bytes = Zeroizing::new(Vec::with_capacity(usize::try_from(length).unwrap_or(0) + 1));
        io::Read::read_to_end(&mut file, &mut bytes)?;
        Ok(bytes)
    }

    /// A regular file in it, with its owner and mode.
    pub fn open_existing(&self, name: &OsStr) -> io::Result<(File, Ids, u32)> {
        let (file, _) = self.open_file(name)?;
        let stat = fs::fstat(&file)?;
        Ok((file, (stat.st_uid, stat.st_gid), stat.st_mode as u32 & 0o7777))
    }

    /// A regular file in it, to be written over in place.
    pub fn open_for_writing(&self, name: &OsStr) -> io::Result<File> {
        let flags = OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let file = File::from(fs::openat(&self.fd, name, flags, Mode::empty())?);
        if file.metadata()?.is_file() { Ok(file) } else { Err(not_regular()) }
    }

    /// True if anything has this name in it, a link too.
    pub fn exists(&self, name: &OsStr) -> bool {
        fs::statat(&self.fd, name, AtFlags::SYMLINK_NOFOLLOW).is_ok()
    }

    /// Renames within it.
    pub fn rename(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        Ok(fs::renameat(&self.fd, from, &self.fd, to)?)
    }

    /// Renames into another directory of the same file system.
    pub fn rename_into(&self, from: &OsStr, other: &Dir, to: &OsStr) -> io::Result<()> {
        Ok(fs::renameat(&self.fd, from, &other.fd, to)?)
    }

    /// A second name for a file; a link is linked itself.
    pub fn link(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        Ok(fs::linkat(&self.fd, from, &self.fd, to, AtFlags::empty())?)
    }

    /// A copy of a regular file, with its owner and mode.
    pub fn copy(&self, from: &OsStr, to: &OsStr) -> io::Result<()> {
        let (mut source, ids, mode) = self.open_existing(from)?;
        let mut copy = self.create(to, 0o600)?;
        io::copy(&mut source, &mut copy)?;
        let _ = Dir::give(&copy, ids);
        Dir::set_mode(&copy, mode)?;
        copy.sync_all()
    }

    /// Removes a file or link; false if there is none.
    pub fn unlink(&self, name: &OsStr) -> io::Result<bool> {
        match fs::unlinkat(&self.fd, name, AtFlags::empty()) {
            Ok(()) => Ok(true),
            Err(Errno::NOENT) => Ok(false),
            Err(e) => Err(e.into()),
        }
    }

    /// Removes an empty directory.
    pub fn remove_directory(&self, name: &OsStr) -> io::Result<()> {
        Ok(fs::unlinkat(&self.fd, name, AtFlags::REMOVEDIR)?)
    }

    /// Removes a directory with all that is in it, or a file; nothing if there is none.
    pub fn remove_tree(&self, name: &OsStr) -> io::Result<()> {
        self.remove_tree_below(name, 0)
    }

    fn remove_tree_below(&self, name: &OsStr, depth: usize) -> io::Result<()> {
        let fd = match fs::openat(&self.fd, name, READ_DIRECTORY, Mode::empty()) {
            Ok(fd) => fd,
            Err(Errno::NOENT) => return Ok(()),
            Err(Errno::NOTDIR | Errno::LOOP | Errno::MLINK) => return self.unlink(name).map(drop),
            Err(e) => return Err(e.into()),
        };
        if depth > DEPTH {
            return Err(io::Error::other("there are too many directories in it"));
        }
        let inside = Dir { fd, path: self.path.join(name) };
        for child in inside.names()? {
            inside.remove_tree_below(&child, depth + 1)?;
        }
        self.remove_directory(name)
    }

    fn names(&self) -> io::Result<Vec<OsString>> {
        let mut out = Vec::new();
        for entry in fs::Dir::read_from(&self.fd)? {
            let name = OsStr::from_bytes(entry?.file_name().to_bytes()).to_owned();
            if name != "." && name != ".." {
                out.push(name);
            }
        }
        Ok(out)
    }

    /// Makes its names durable.
    pub fn sync(&self) -> io::Result<()> {
        match fs::fsync(&self.fd) {
            // Some file systems know no such thing for directories.
            Err(Errno::INVAL) => Ok(()),
            other => Ok(other?),
        }
    }

    /// Gives an open file to an owner and group.
    pub fn give(file: &File, (uid, gid): Ids) -> io::Result<()> {
        let stat = fs::fstat(file)?;
        if (stat.st_uid, stat.st_gid) == (uid, gid) {
            return Ok(());
        }
        Ok(fs::fchown(file.as_fd(), Some(fs::Uid::from_raw(uid)), Some(fs::Gid::from_raw(gid)))?)
    }

    /// Sets an open file's permission bits.
    pub fn set_mode(file: &File, mode: u32) -> io::Result<()> {
        Ok(fs::fchmod(file.as_fd(), Mode::from_bits_truncate(mode as _))?)
    }

    /// The permission bits of an open file; None where the system has none.
    pub fn mode_of(file: &File) -> io::Result<Option<u32>> {
        Ok(Some(fs::fstat(file)?.st_mode as u32 & 0o7777))
    }
}

const READ_DIRECTORY: OFlags = OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

fn not_regular() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file")
}

/// Opens a regular file, through links, without waiting for anything; with its length. As root, through no link of another account's.
pub fn open_regular(path: &Path) -> io::Result<(File, u64)> {
    if rustix::process::geteuid().is_root() {
        let (dir, name) = Dir::locate(path).map_err(|e| match e {
            Error::File { source, .. } => source,
            other => io::Error::other(other),
        })?;
        return dir.open_file(&name);
    }
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = File::from(fs::open(path, flags, Mode::empty())?);
    let meta = file.metadata()?;
    if meta.is_file() { Ok((file, meta.len())) } else { Err(not_regular()) }
}

/// Opens what a person named: a regular file or a pipe. A device, a socket or a directory is refused.
pub fn open_named(path: &Path) -> io::Result<File> {
    use std::os::unix::fs::FileTypeExt;
    let refuse = |kind: std::fs::FileType| -> io::Result<()> {
        let what = match kind {
            k if k.is_char_device() || k.is_block_device() => "it is a device, not a file",
            k if k.is_socket() => "it is a socket, not a file",
            k if k.is_dir() => "it is a directory, not a file",
            _ => return Ok(()),
        };
        Err(io::Error::new(io::ErrorKind::InvalidInput, what))
    };
    // Before it is opened, since opening a device may already do something; and after, since it may have been replaced.
    refuse(std::fs::metadata(path)?.file_type())?;
    let flags = OFlags::RDONLY | OFlags::NOCTTY | OFlags::CLOEXEC;
    // A pipe is waited for, whatever signal comes meanwhile that is not there to end us.
    let file = File::from(rustix::io::retry_on_intr(|| fs::open(path, flags, Mode::empty()))?);
    refuse(file.metadata()?.file_type())?;
    Ok(file)
}
