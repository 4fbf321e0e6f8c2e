//! What Linux and macOS have in common.

use std::fs::Metadata;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};

pub use libloading::os::unix::{Library, Symbol};

/// Standard input and output as files that only this process has: what code that is loaded later reads or prints leads
/// nowhere.
pub fn own_streams() -> std::io::Result<(std::fs::File, std::fs::File)> {
    let own = |fd: std::os::fd::BorrowedFd<'_>| rustix::io::fcntl_dupfd_cloexec(fd, 3).map(std::fs::File::from);
    let (input, output) = (own(rustix::stdio::stdin())?, own(rustix::stdio::stdout())?);
    let nowhere = rustix::fs::open("/dev/null", rustix::fs::OFlags::RDWR, rustix::fs::Mode::empty())?;
    rustix::stdio::dup2_stdin(&nowhere)?;
    rustix::stdio::dup2_stdout(&nowhere)?;
    rustix::stdio::dup2_stderr(&nowhere)?;
    Ok((input, output))
}

/// The effective ids with which a thread (Linux) or the process (macOS) acts, and its supplementary groups.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effective {
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Supplementary groups, sorted; always empty on macOS, which keeps its own list for each user.
    pub groups: Vec<u32>,
}

impl Effective {
    /// Root, with no group but its own.
    pub fn root() -> Effective {
        Effective { uid: 0, gid: 0, groups: if cfg!(target_os = "linux") { vec![0] } else { Vec::new() } }
    }
}

/// Forgets what was typed at the terminal and not read yet: after a secret was asked for, its rest must not reach the shell.
pub fn forget_typed_ahead() {
    let _ = rustix::termios::tcflush(rustix::stdio::stdin(), rustix::termios::QueueSelector::IFlush);
}

/// True if this process acts with root's rights.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The effective user and group.
pub fn effective() -> (u32, u32) {
    (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw())
}

/// True if files in this directory may be changed, or this file.
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

/// Where a program of this name lies in a directory.
pub fn program_in(folder: &Path, name: &str) -> Option<PathBuf> {
    Some(folder.join(name)).filter(|p| may_run(p))
}

/// The permission bits.
pub fn mode(meta: &Metadata) -> u32 {
    meta.permissions().mode() & 0o7777
}

/// Owner and group.
pub fn owner(meta: &Metadata) -> (u32, u32) {
    (meta.uid(), meta.gid())
}

/// The program and all that it starts form a group of their own.
pub fn own_group(command: &mut Command) {
    command.process_group(0);
}

/// Ends a program when we are interrupted: its whole group at once, or itself in its own way.
pub fn interrupt(id: u32, leads_group: bool) {
    let Some(id) = i32::try_from(id).ok().and_then(rustix::process::Pid::from_raw) else { return };
    let _ = match leads_group {
        true => rustix::process::kill_process_group(id, rustix::process::Signal::KILL),
        false => rustix::process::kill_process(id, rustix::process::Signal::TERM),
    };
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

/// The directory of a person's own data: `XDG_DATA_HOME`, else what the system has for it.
pub fn data_home(home: &Path, env: &dyn Fn(&str) -> Option<String>) -> PathBuf {
    match env("XDG_DATA_HOME") {
        Some(named) => named.into(),
        None if cfg!(target_os = "macos") => home.join("Library/Application Support"),
        None => home.join(".local/share"),
    }
}

/// The name of this machine, as it calls itself.
pub fn host_name() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

/// True if other accounts than the owner may read a file.
pub fn is_open_to_others(file: &std::fs::File) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    file.metadata().is_ok_and(|m| m.mode() & 0o077 != 0)
}

/// The variable that names a person's home directory.
pub const HOME: &str = "HOME";

/// True for a file that is a mount of its own, or lies right in a directory that is one, but for the great ones of every system.
pub fn is_mounted_alone(file: &Path) -> bool {
    let device = |path: &Path| std::fs::metadata(path).map(|m| m.dev()).ok();
    let Some(directory) = file.parent() else { return false };
    let shared = ["/", "/tmp", "/home", "/var", "/var/tmp", "/usr", "/opt", "/srv", "/boot", "/run", "/dev/shm"];
    let apart = |a: &Path, b: &Path| matches!((device(a), device(b)), (Some(a), Some(b)) if a != b);
    apart(file, directory)
        || !shared.iter().any(|s| directory == Path::new(s)) && directory.parent().is_some_and(|p| apart(directory, p))
}

/// Keeps this process's memory to itself: no core file, and no reading by other processes of the same user.
///
/// Where the system refuses, the secrets are as safe as the account that runs us.
pub fn keep_memory_private() {
    use rustix::process::{Resource, Rlimit, setrlimit};
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    #[cfg(target_os = "linux")]
    let _ = rustix::process::set_dumpable_behavior(rustix::process::DumpableBehavior::NotDumpable);
}

/// Marks every descriptor that we were started with, besides the three standard ones, to be closed in the programs that we start:
/// a pipe with a passphrase is for us alone.
pub fn close_on_exec() {
    use rustix::io::{FdFlags, fcntl_setfd};
    let own = if cfg!(target_os = "linux") { "/proc/self/fd" } else { "/dev/fd" };
    let numbers: Vec<i32> = std::fs::read_dir(own)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|e| e.file_name().to_str()?.parse().ok())
        .filter(|n| *n > 2)
        .collect();
    for n in numbers {
        // SAFETY: the number was open a moment ago; for one that is not, the call only fails.
        let fd = unsafe { std::os::fd::BorrowedFd::borrow_raw(n) };
        let _ = fcntl_setfd(fd, FdFlags::CLOEXEC);
    }
}
