//! Windows: no modes; a file for one person alone carries a list that says so, from its first byte.

use std::fs::{File, Metadata, OpenOptions};
use std::io::{Error, Result};
use std::os::windows::ffi::OsStrExt;
use std::os::windows::io::FromRawHandle;
use std::os::windows::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};
use windows_sys::Win32::Foundation::{INVALID_HANDLE_VALUE, LocalFree};
use windows_sys::Win32::Security::Authorization::{
    ConvertStringSecurityDescriptorToSecurityDescriptorW, SDDL_REVISION_1,
};
use windows_sys::Win32::Security::{PSECURITY_DESCRIPTOR, SECURITY_ATTRIBUTES};
use windows_sys::Win32::Storage::FileSystem::{
    CREATE_NEW, CreateDirectoryW, CreateFileW, FILE_ATTRIBUTE_NORMAL, FILE_GENERIC_READ, FILE_GENERIC_WRITE,
};
use windows_sys::Win32::System::Console::{FlushConsoleInputBuffer, GetStdHandle, STD_INPUT_HANDLE};
use windows_sys::Win32::UI::Shell::IsUserAnAdmin;

pub use libloading::os::windows::{Library, Symbol};

/// All rights for the owner, the system and its administrators; nothing inherited, nobody else.
const OWNER_ALONE: &str = "D:P(A;;FA;;;OW)(A;;FA;;;SY)(A;;FA;;;BA)";
/// The program gets no console window of its own.
const CREATE_NO_WINDOW: u32 = 0x0800_0000;

/// Forgets what was typed at the console and not read yet: after a secret was asked for, its rest must not reach the shell.
pub fn forget_typed_ahead() {
    // SAFETY: takes and keeps nothing; a handle that is no console's gives an error, which is of no interest.
    let _ = unsafe { FlushConsoleInputBuffer(GetStdHandle(STD_INPUT_HANDLE)) };
}

/// True if this process acts with an administrator's rights.
pub fn is_root() -> bool {
    // SAFETY: takes and keeps nothing.
    unsafe { IsUserAnAdmin() != 0 }
}

/// Windows has no ids of this kind.
pub fn effective() -> (u32, u32) {
    (0, 0)
}

/// Windows has no ids of this kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Effective;

impl Effective {
    /// Rights are not put aside on Windows: a raised process is raised until its end.
    pub fn root() -> Effective {
        Effective
    }
}

/// Windows has no ids of this kind.
pub fn effective_rights() -> Effective {
    Effective
}

/// Rights are not put aside on Windows.
pub fn set_effective(_: &Effective) -> Result<()> {
    Ok(())
}

/// Rights are not put aside on Windows.
pub fn become_user(_: &Effective) -> Result<()> {
    Ok(())
}

/// Rights are not put aside on Windows.
pub fn with_root(_: &mut Command) {}

/// Rights are not put aside on Windows.
pub fn as_user(_: &mut Command, _: &Effective) {}

/// Access lists are not read: nothing is said of who may read a file there.
pub fn is_mounted_alone(_: &Path) -> bool {
    true
}

/// Windows writes no core files, and other processes of the user may always read ours.
pub fn keep_memory_private() {}

/// Standard input and output. What a loaded library prints goes to them too; an answer is known by its mark.
pub fn own_streams() -> std::io::Result<(std::io::Stdin, std::io::Stdout)> {
    Ok((std::io::stdin(), std::io::stdout()))
}

/// Handles are not inherited unless that is asked for.
pub fn close_on_exec() {}

/// Lists of Windows are not read: anyone who may read a key there is not judged.
pub fn access_list(_: &Path) -> Option<Vec<u8>> {
    None
}

/// True unless the path is marked as read-only; the list is judged by the system when it comes to it.
pub fn may_write(path: &Path) -> bool {
    std::fs::metadata(path).is_ok_and(|m| m.is_dir() || !m.permissions().readonly())
}

/// True for a path of another system: from the root, but of no drive. Such a thing is nowhere here.
pub fn is_foreign(path: &Path) -> bool {
    path.has_root() && !path.is_absolute()
}

/// Without the prefix by which the system marks a path as final.
pub fn plain(path: PathBuf) -> PathBuf {
    match path.to_str().and_then(|p| p.strip_prefix(r"\\?\")) {
        Some(rest) if rest.as_bytes().get(1) == Some(&b':') => PathBuf::from(rest),
        _ => path,
    }
}

/// True for a program.
pub fn may_run(path: &Path) -> bool {
    path.is_file()
}

/// Where a program of this name lies in a directory.
pub fn program_in(folder: &Path, name: &str) -> Option<PathBuf> {
    let whole = if Path::new(name).extension().is_some() { name.to_owned() } else { format!("{name}.exe") };
    Some(folder.join(whole)).filter(|p| may_run(p))
}

fn wide(path: &Path) -> Vec<u16> {
    path.as_os_str().encode_wide().chain([0]).collect()
}

/// Does something with the attributes of a thing for one person alone.
fn alone<T>(work: impl FnOnce(*const SECURITY_ATTRIBUTES) -> T) -> Result<T> {
    let text: Vec<u16> = OWNER_ALONE.encode_utf16().chain([0]).collect();
    let mut descriptor: PSECURITY_DESCRIPTOR = std::ptr::null_mut();
    // SAFETY: the text ends with 0; the descriptor that the system gives is freed below.
    let made = unsafe {
        let size = std::ptr::null_mut();
        ConvertStringSecurityDescriptorToSecurityDescriptorW(text.as_ptr(), SDDL_REVISION_1, &mut descriptor, size)
    };
    if made == 0 {
        return Err(Error::last_os_error());
    }
    let length = u32::try_from(size_of::<SECURITY_ATTRIBUTES>()).unwrap_or_default();
    let attributes = SECURITY_ATTRIBUTES { nLength: length, lpSecurityDescriptor: descriptor, bInheritHandle: 0 };
    let out = work(&attributes);
    // SAFETY: it came from the conversion above and is not used again.
    unsafe { LocalFree(descriptor) };
    Ok(out)
}

/// A new file; where the mode leaves others nothing, for its owner alone from the first byte.
pub fn new_file(path: &Path, mode: u32) -> Result<File> {
    if mode & 0o077 != 0 {
        return OpenOptions::new().write(true).create_new(true).open(path);
    }
    let name = wide(path);
    alone(|attributes| {
        // SAFETY: name and attributes live through the call; the handle is owned by the file from here on.
        unsafe {
            let access = FILE_GENERIC_READ | FILE_GENERIC_WRITE;
            let none = std::ptr::null_mut();
            let handle = CreateFileW(name.as_ptr(), access, 0, attributes, CREATE_NEW, FILE_ATTRIBUTE_NORMAL, none);
            if handle == INVALID_HANDLE_VALUE {
                return Err(Error::last_os_error());
            }
            Ok(File::from_raw_handle(handle))
        }
    })?
}

/// A new directory; where the mode leaves others nothing, for its owner alone.
pub fn new_folder(path: &Path, mode: u32, parents: bool) -> Result<()> {
    if parents && let Some(above) = path.parent() {
        std::fs::create_dir_all(above)?;
    }
    if mode & 0o077 != 0 {
        return std::fs::create_dir(path);
    }
    let name = wide(path);
    // SAFETY: name and attributes live through the call.
    match alone(|attributes| unsafe { CreateDirectoryW(name.as_ptr(), attributes) })? {
        0 => Err(Error::last_os_error()),
        _ => Ok(()),
    }
}

/// Windows has no modes: a secret's list was set when it was made.
pub fn mode(_: &Metadata) -> u32 {
    0
}

/// Windows has no such ids.
pub fn owner(_: &Metadata) -> (u32, u32) {
    (0, 0)
}

/// The program gets no window of its own.
pub fn own_group(command: &mut Command) {
    command.creation_flags(CREATE_NO_WINDOW);
}

/// Browsers end their children themselves there.
pub fn end_group(_: &Child) {}

/// Ends a program when we are interrupted. Ctrl-C reaches every program of a console by itself.
pub fn interrupt(_: u32, _: bool) {}

/// Runs the program in our place and ends as it ends; comes back only if it cannot be started.
pub fn turn_into(mut command: Command) -> Error {
    match command.status() {
        Ok(status) => std::process::exit(status.code().unwrap_or(1)),
        Err(e) => e,
    }
}

/// Loads a library, with those that lie beside it.
pub fn load(path: &Path) -> std::result::Result<Library, libloading::Error> {
    use libloading::os::windows::LOAD_WITH_ALTERED_SEARCH_PATH;
    let flags = if path.is_absolute() { LOAD_WITH_ALTERED_SEARCH_PATH } else { 0 };
    // SAFETY: loading runs the initialisers of a library that the browser loads as well.
    unsafe { Library::load_with_flags(path, flags) }
}

/// The directory of a person's own data.
pub fn data_home(home: &Path, env: &dyn Fn(&str) -> Option<String>) -> PathBuf {
    env("LOCALAPPDATA").map_or_else(|| home.join("AppData").join("Local"), PathBuf::from)
}

/// The name of this machine, as it calls itself.
pub fn host_name() -> String {
    std::env::var("COMPUTERNAME").unwrap_or_else(|_| "windows".into()).to_lowercase()
}

/// True if other accounts than the owner may read a file: said by its directory here, which is the user's own.
pub fn is_open_to_others(_: &std::fs::File) -> bool {
    false
}

/// The variable that names a person's home directory.
pub const HOME: &str = "USERPROFILE";
