//! What Linux and macOS have in common.

use std::fs::{File, Metadata, OpenOptions};
use std::io::Result;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};

pub use libloading::os::unix::{Library, Symbol};

/// True if this process acts with root's rights.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The effective user and group.
pub fn effective() -> (u32, u32) {
    (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw())
}

/// True if files in this folder may be changed, or this file.
pub fn may_write(path: &Path) -> bool {
    rustix::fs::access(path, rustix::fs::Access::WRITE_OK).is_ok()
}

/// True for a path of another system: there is none that cannot be here.
pub fn is_foreign(_: &Path) -> bool {
    false
}

/// A path as it is.
pub fn plain(path: PathBuf) -> PathBuf {
    path
}

/// True for a program that may be run.
pub fn may_run(path: &Path) -> bool {
    rustix::fs::access(path, rustix::fs::Access::EXEC_OK).is_ok() && path.is_file()
}

/// Where a program of this name lies in a folder.
pub fn program_in(folder: &Path, name: &str) -> Option<PathBuf> {
    Some(folder.join(name)).filter(|p| may_run(p))
}

/// A new file with its mode from the first byte.
pub fn new_file(path: &Path, mode: u32) -> Result<File> {
    OpenOptions::new().write(true).create_new(true).mode(mode).open(path)
}

/// A file that is made if it is not there, never emptied; for its lock.
pub fn lock_file(path: &Path) -> Result<File> {
    OpenOptions::new().write(true).create(true).truncate(false).mode(0o600).open(path)
}

/// A new folder with its mode; with its parents where `parents`.
pub fn new_folder(path: &Path, mode: u32, parents: bool) -> Result<()> {
    std::fs::DirBuilder::new().recursive(parents).mode(mode).create(path)
}

/// The permission bits.
pub fn mode(meta: &Metadata) -> u32 {
    meta.permissions().mode() & 0o7777
}

/// Owner and group.
pub fn owner(meta: &Metadata) -> (u32, u32) {
    (meta.uid(), meta.gid())
}

/// Gives a file to an owner and group.
pub fn give(path: &Path, (uid, gid): (u32, u32)) -> Result<()> {
    std::os::unix::fs::chown(path, Some(uid), Some(gid))
}

/// Sets permission bits.
pub fn set_mode(path: &Path, mode: u32) -> Result<()> {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode))
}

/// Makes the names in a folder durable.
pub fn sync_folder(folder: &Path) -> Result<()> {
    File::open(folder)?.sync_all()
}

/// The program and all that it starts form a group of their own.
pub fn own_group(command: &mut Command) {
    command.process_group(0);
}

/// Ends what a program in a group of its own has started.
pub fn end_group(child: &Child) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw) {
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
    }
}

/// Becomes the program; comes back only if that fails.
pub fn turn_into(mut command: Command) -> std::io::Error {
    command.exec()
}

/// Loads a library whose names later ones may use.
pub fn load(path: &Path) -> std::result::Result<Library, libloading::Error> {
    use libloading::os::unix::{RTLD_GLOBAL, RTLD_NOW};
    // SAFETY: loading runs the initialisers of a library that the browser loads as well.
    unsafe { Library::open(Some(path), RTLD_NOW | RTLD_GLOBAL) }
}

/// The folder of a person's own data: `XDG_DATA_HOME`, else what the system has for it.
pub fn data_home(home: &Path, env: &dyn Fn(&str) -> Option<String>) -> PathBuf {
    match env("XDG_DATA_HOME") {
        Some(named) => named.into(),
        None if cfg!(target_os = "macos") => home.join("Library/Application Support"),
        None => home.join(".local/share"),
    }
}

/// The variable that names a person's home folder.
pub const HOME: &str = "HOME";
