//! Temporary directories, and programs at work in them: both are gone when Tamga ends, also when it is interrupted.

use crate::platform;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Child;
use std::sync::{Mutex, MutexGuard, Once};
use std::time::Duration;

/// What an interrupted run must not leave behind.
struct Held {
    directories: Vec<PathBuf>,
    /// Programs by their process id; true if one leads a group of its own.
    programs: BTreeMap<u32, bool>,
}

static HELD: Mutex<Held> = Mutex::new(Held { directories: Vec::new(), programs: BTreeMap::new() });

fn held() -> MutexGuard<'static, Held> {
    HELD.lock().unwrap_or_else(|e| e.into_inner())
}

/// A temporary directory for this user alone; it goes with the value, or with the program.
pub struct Scratch(tempfile::TempDir);

impl Scratch {
    /// Its path.
    pub fn path(&self) -> &Path {
        self.0.path()
    }

    /// Removes it now.
    ///
    /// Errors: something in it cannot be removed.
    pub fn close(self) -> std::io::Result<()> {
        let path = self.path().to_owned();
        forget(&path);
        crate::fs::remove_tree(&path).map_err(std::io::Error::other)
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        forget(self.path());
    }
}

fn forget(path: &Path) {
    held().directories.retain(|d| d != path);
}

/// A new temporary directory whose name begins like this.
///
/// Errors: the place for temporary files cannot be written.
pub fn directory(prefix: &str) -> std::io::Result<Scratch> {
    static WATCHED: Once = Once::new();
    WATCHED.call_once(watch);
    let directory = tempfile::Builder::new().prefix(prefix).tempdir()?;
    held().directories.push(directory.path().to_owned());
    Ok(Scratch(directory))
}

/// A program that was started; it is ended if Tamga is interrupted while this lives.
pub struct Started(u32);

impl Drop for Started {
    fn drop(&mut self) {
        held().programs.remove(&self.0);
    }
}

/// Takes note of a program, which perhaps leads a group of its own.
pub fn started(child: &Child, leads_group: bool) -> Started {
    held().programs.insert(child.id(), leads_group);
    Started(child.id())
}

/// How long programs that were asked to end may take for it.
const FAREWELL: Duration = Duration::from_millis(500);

/// From now on Ctrl-C, and the signal by which service managers stop a program, clean up before they end it.
fn watch() {
    std::thread::spawn(|| {
        let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else { return };
        let code = runtime.block_on(interrupted());
        let mut held = held();
        for (program, leads_group) in std::mem::take(&mut held.programs) {
            platform::interrupt(program, leads_group);
        }
        std::thread::sleep(FAREWELL);
        for directory in &held.directories {
            let _ = crate::fs::remove_tree(directory);
        }
        std::process::exit(code);
    });
}

/// Waits for a signal, and returns the exit code by which shells know it: 128 and its number.
#[cfg(unix)]
async fn interrupted() -> i32 {
    use tokio::signal::unix::{SignalKind, signal};
    let Ok(mut terminate) = signal(SignalKind::terminate()) else { return std::future::pending().await };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => 130,
        _ = terminate.recv() => 143,
    }
}

#[cfg(windows)]
async fn interrupted() -> i32 {
    let _ = tokio::signal::ctrl_c().await;
    130
}
