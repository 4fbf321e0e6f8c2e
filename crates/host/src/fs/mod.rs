//! The one way to change files: open directories, names inside them, and files that are whole or absent.
//!
//! Every change goes through a directory's descriptor ([`Dir`]), never through a path that somebody could have replaced in the
//! meantime. `clippy.toml` forbids the path-based calls everywhere else.

mod atomic;
mod disk;
mod file_set;
mod lock;
mod names;
mod read;

pub use crate::platform::Dir;
pub use atomic::{
    Staged, remove, remove_among, remove_directory, remove_directory_among, remove_tree, replace, rewrite, unstage,
    write_scratch, write_whole,
};
pub use disk::{Bytes, Disk, Kind, Local, Status};
pub use file_set::{
    File, Leftover, Recovered, deploy, deploy_among, publish, publish_unsynced, recover_deployment,
    recover_publication, roll_back, settle, settle_among, withdraw,
};
#[cfg(unix)]
pub(crate) use lock::PATIENCE;
pub use lock::{APPLY, CHANGE, Lock, is_applying, lock, lock_apply};
pub use names::{Tag, parent, sibling};
use read::text_of;
pub use read::{NAMED_LIMIT, STDIN, forget_stdin, name_of, read_named, read_regular, read_to_replace, read_trusted};

use crate::error::{Error, Result};
use std::path::Path;

/// Which accounts may be able to change what a path leads to, while we act as root.
///
/// Root and the invoking user always may. Without root privileges nothing is checked but where [`Allowed::Ours`] is asked for
/// by [`read_trusted`]: a user's own directories are the user's business.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Allowed {
    /// The owner of the directory itself too: what is written there is only as safe as its owner wants it.
    Owner,
    /// Nobody else: what is read there decides what root does.
    Ours,
    /// This account too: the files are to be its own.
    Account(u32),
}

/// Makes a directory and its parents with a mode; nothing if it exists.
pub fn make_directory(path: &Path, mode: u32) -> Result<()> {
    Dir::open_or_make(path, mode, Allowed::Owner).map(drop)
}

/// Moves a directory to where there is nothing, or an empty directory, in one step.
///
/// Errors: the new place is on another file system; something is in it.
pub fn move_directory(from: &Path, to: &Path) -> Result<()> {
    let source = Dir::open(parent(from), Allowed::Owner)?;
    let (old, new) = (from.file_name().unwrap_or_default(), to.file_name().unwrap_or_default());
    // Before anything is made for it.
    if !from.is_dir() {
        return Err(Error::file("moving", from)(std::io::ErrorKind::NotADirectory.into()));
    }
    let target = Dir::open_or_make(parent(to), 0o755, Allowed::Owner)?;
    source.rename_into(old, &target, new).map_err(Error::file("moving the directory to", to))?;
    target.sync().map_err(Error::file("making durable", to))?;
    source.sync().map_err(Error::file("making durable", from))
}

/// Makes the names in a directory durable; nothing if it does not exist.
pub fn sync_directory(path: &Path) -> Result<()> {
    match open_if_there(path, Allowed::Owner)? {
        None => Ok(()),
        Some(dir) => dir.sync().map_err(Error::file("making durable", path)),
    }
}

/// A directory, unless there is none, or something else in its place: then nothing of ours can be in it.
fn open_if_there(path: &Path, allowed: Allowed) -> Result<Option<Dir>> {
    match Dir::open(path, allowed) {
        Err(Error::File { source, .. })
            if matches!(source.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) =>
        {
            Ok(None)
        }
        other => other.map(Some),
    }
}
