//! What differs between operating systems, and nothing else: rights, modes, process groups, libraries, the system's own store.
//!
//! Each system has one file with the same functions. A mode or an owner that a system does not know is 0 there.

#[cfg(target_os = "linux")]
mod linux;
#[cfg(all(unix, not(target_os = "linux")))]
mod macos;
#[cfg(unix)]
mod unix;
#[cfg(unix)]
mod unix_dir;
#[cfg(unix)]
mod unix_walk;
#[cfg(unix)]
pub mod users;
#[cfg(windows)]
mod windows;
#[cfg(windows)]
mod windows_dir;
#[cfg(windows)]
mod windows_store;

#[cfg(target_os = "linux")]
pub use linux::*;
#[cfg(all(unix, not(target_os = "linux")))]
pub use macos::*;
#[cfg(unix)]
pub use unix::*;
#[cfg(unix)]
pub use unix_dir::{Dir, Ids, open_named, open_regular};
#[cfg(windows)]
pub use windows::*;
#[cfg(windows)]
pub use windows_dir::{Dir, Ids, open_named, open_regular};
#[cfg(windows)]
pub use windows_store::{change as change_store, list as list_store};

/// The name of a library of this system: `nss3` → `libnss3.so`, `nss3.dll`, `libnss3.dylib`.
pub fn library_name(name: &str) -> String {
    format!("{}{name}{}", std::env::consts::DLL_PREFIX, std::env::consts::DLL_SUFFIX)
}
