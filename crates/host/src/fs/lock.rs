//! Locks of the data directory: one for every change, one for a whole run of `apply`.

use super::{Allowed, Dir, make_directory};
use crate::error::{Error, Result};
use std::path::Path;
use std::time::{Duration, Instant};

/// How long to wait for another process.
pub(crate) const PATIENCE: Duration = Duration::from_secs(30);
/// How long to wait for another run of `apply`: it may wait for a server's reload.
const APPLY_PATIENCE: Duration = Duration::from_secs(300);

/// The lock that every change takes.
pub const CHANGE: &str = "lock";
/// The lock that a run of `apply` holds, also while it waits for other programs.
pub const APPLY: &str = "apply.lock";

/// An exclusive lock in a data directory, held until dropped.
pub struct Lock {
    /// None where nobody else can come: in memory.
    file: Option<std::fs::File>,
    data: std::path::PathBuf,
}

impl Lock {
    /// The lock of a data directory that no other process can reach.
    pub fn of_nobody(data: &Path) -> Lock {
        Lock { file: None, data: data.to_owned() }
    }

    /// Lets others change the data directory while something runs that must not hold them up; the lock is back afterwards.
    ///
    /// Errors: another process has kept it for 30 seconds.
    pub fn pause<T>(&self, work: impl FnOnce() -> T) -> Result<T> {
        let Some(file) = &self.file else { return Ok(work()) };
        file.unlock().map_err(Error::file("unlocking", &self.data))?;
        let out = work();
        wait(file, &self.data, PATIENCE)?;
        Ok(out)
    }
}

fn wait(file: &std::fs::File, data: &Path, patience: Duration) -> Result<()> {
    let begun = Instant::now();
    while file.try_lock().is_err() {
        if begun.elapsed() > patience {
            return Err(Error::Locked { path: data.to_owned() });
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(())
}

/// Locks a data directory for a change; waits up to 30 seconds.
pub fn lock(data: &Path) -> Result<Lock> {
    lock_as(data, CHANGE, PATIENCE)
}

/// Locks a data directory for a run of `apply`; waits up to five minutes.
pub fn lock_apply(data: &Path) -> Result<Lock> {
    lock_as(data, APPLY, APPLY_PATIENCE)
}

fn lock_as(data: &Path, name: &str, patience: Duration) -> Result<Lock> {
    loop {
        make_directory(data, 0o700)?;
        let dir = Dir::open(data, Allowed::Owner)?;
        let file = dir.open_lock(name.as_ref()).map_err(Error::file("opening", &data.join(name)))?;
        wait(&file, data, patience)?;
        // The process that held it may have removed the directory with it: then it locks nothing.
        if dir.is_still(name.as_ref(), &file) && Dir::open(data, Allowed::Owner).is_ok_and(|d| d.exists(name.as_ref()))
        {
            return Ok(Lock { file: Some(file), data: data.to_owned() });
        }
    }
}

/// True if a living process is in a run of `apply`.
pub fn is_applying(data: &Path) -> bool {
    let Ok(dir) = Dir::open(data, Allowed::Owner) else { return false };
    dir.exists(APPLY.as_ref()) && dir.open_lock(APPLY.as_ref()).is_ok_and(|file| file.try_lock().is_err())
}
