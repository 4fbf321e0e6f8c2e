//! Reading: what a person named may be a pipe, what was found by looking must be a regular file, and what decides what root does
//! must be closed to other accounts.

use super::{Allowed, Dir, parent};
use crate::error::{Error, Result};
use crate::platform;
use std::io::Read;
use std::path::Path;
use std::sync::Mutex;
use tamga_core::vocabulary::text::Shown;
use zeroize::Zeroizing;

/// Upper bound on a file that a person named, in bytes: no certificate, store or request comes near it.
pub const NAMED_LIMIT: u64 = 64 << 20;

fn too_long() -> std::io::Error {
    std::io::Error::other(format!("it has more than {} MiB", NAMED_LIMIT >> 20))
}

/// Reads a whole stream of at most [`NAMED_LIMIT`] bytes. The buffer is wiped when dropped: it may hold a key.
fn read_all(from: impl Read, expected: u64) -> std::io::Result<Zeroizing<Vec<u8>>> {
    // A buffer that grows leaves copies of a key behind: as large as the file from the start.
    let room = usize::try_from(expected.min(NAMED_LIMIT)).unwrap_or(0) + 1;
    let mut bytes = Zeroizing::new(Vec::with_capacity(room));
    if room < 1 << 20 {
        crate::memory::keep_buffer_in_memory(&bytes);
    }
    let mut from = from.take(NAMED_LIMIT + 1);
    let mut block = Zeroizing::new([0_u8; 8192]);
    loop {
        let n = match from.read(block.as_mut_slice()) {
            Ok(0) => break,
            Ok(n) => n,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(e),
        };
        if bytes.capacity() - bytes.len() < n {
            let mut larger = Zeroizing::new(Vec::with_capacity(bytes.capacity() * 2 + n));
            larger.extend_from_slice(&bytes);
            bytes = larger;
        }
        bytes.extend_from_slice(&block[..n]);
    }
    if bytes.len() as u64 > NAMED_LIMIT { Err(too_long()) } else { Ok(bytes) }
}

/// What stands for standard input where a file is named; a file of that name is `./-`.
pub const STDIN: &str = "-";

/// What a person named, in words.
pub fn name_of(path: &Path) -> String {
    if path == Path::new(STDIN) { "standard input".to_owned() } else { path.shown() }
}

/// What was read of standard input: perhaps a key.
static READ: Mutex<Option<Zeroizing<Vec<u8>>>> = Mutex::new(None);

/// Overwrites what was read of standard input. For the end of a run.
pub fn forget_stdin() {
    READ.lock().unwrap_or_else(|e| e.into_inner()).take();
}

/// Standard input to its end, once: every further call gets the same.
fn read_stdin() -> Result<Zeroizing<Vec<u8>>> {
    let mut read = READ.lock().unwrap_or_else(|e| e.into_inner());
    if let Some(bytes) = &*read {
        return Ok(bytes.clone());
    }
    let bytes = read_all(std::io::stdin().lock(), 0).map_err(Error::file("reading", Path::new("standard input")))?;
    *read = Some(bytes.clone());
    Ok(bytes)
}

/// Reads what a person named: a regular file, a pipe until its end, or standard input as `-`. A device is refused; Ctrl-C ends a pipe
/// that stays silent.
///
/// Errors: it cannot be opened or read, is a device or directory, or has more than [`NAMED_LIMIT`] bytes.
pub fn read_named(path: &Path) -> Result<Zeroizing<Vec<u8>>> {
    if path == Path::new(STDIN) {
        return read_stdin();
    }
    let file = platform::open_named(path).map_err(Error::file("reading", path))?;
    let length = file.metadata().map_or(0, |m| m.len());
    read_all(file, length).map_err(Error::file("reading", path))
}

pub(super) fn text_of(bytes: &[u8], path: &Path) -> Result<String> {
    let not_text = |_| std::io::Error::new(std::io::ErrorKind::InvalidData, "it is not UTF-8 text");
    std::str::from_utf8(bytes).map(str::to_owned).map_err(not_text).map_err(Error::file("reading", path))
}

/// Reads a regular file that was found by looking, without waiting for anything: a FIFO, a socket or a device is refused.
pub fn read_regular(path: &Path) -> std::io::Result<Zeroizing<Vec<u8>>> {
    let (file, length) = platform::open_regular(path)?;
    read_all(file, length)
}

/// Reads a file that decides what we do: refused if another account than root, ours and the invoking user could replace it, or any
/// directory on the way to it.
pub fn read_trusted(path: &Path) -> Result<Zeroizing<Vec<u8>>> {
    let real = std::fs::canonicalize(path).map_err(Error::file("reading", path))?;
    let dir = Dir::open_checked(parent(&real), Allowed::Ours)?;
    let name = real.file_name().unwrap_or_default();
    let (file, length) = dir.open_file_checked(name)?;
    read_all(file, length).map_err(Error::file("reading", path))
}

/// Reads a regular file that we are about to replace, as root never through a link: what is read goes into the new file.
pub fn read_to_replace(path: &Path) -> std::io::Result<Zeroizing<Vec<u8>>> {
    if !platform::is_root() {
        return read_regular(path);
    }
    let dir = Dir::open(parent(path), Allowed::Owner).map_err(std::io::Error::other)?;
    dir.read(path.file_name().unwrap_or_default())
}
