//! Files that are whole or not there, with their mode from the first byte.

use crate::error::{Error, Result};
use crate::platform;
use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tamga_core::step::{Document, Publication};

/// Makes a folder and its parents with a mode; nothing if it is there.
pub fn folder(path: &Path, mode: u32) -> Result<()> {
    if path.is_dir() {
        return Ok(());
    }
    platform::new_folder(path, mode, true).map_err(Error::file("making the folder", path))
}

/// Writes a file whole: a temporary file in the same folder, fsync, rename, fsync of the folder.
pub fn write_whole(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    let staged = beside(path, "new");
    let _ = std::fs::remove_file(&staged);
    create(&staged, bytes, mode)?;
    std::fs::rename(&staged, path).map_err(Error::file("putting in place", path))?;
    sync_folder(parent(path))
}

/// Replaces the contents of a file that others own as well: its mode and owner stay, and a copy of what was there is kept in
/// `copy`. Whole where it can be renamed over; in place where it is a mount of its own.
pub fn rewrite(path: &Path, bytes: &[u8], copy: &Path) -> Result<()> {
    let meta = std::fs::metadata(path).map_err(Error::file("reading", path))?;
    let before = std::fs::read(path).map_err(Error::file("reading", path))?;
    let mode = platform::mode(&meta);
    write_whole(copy, &before, mode)?;
    // What a link points to is changed, not the link.
    let real = std::fs::canonicalize(path).map_err(Error::file("reading", path))?;
    let staged = beside(&real, "new");
    let _ = std::fs::remove_file(&staged);
    create(&staged, bytes, mode)?;
    let owner = platform::owner(&meta);
    let owned = std::fs::metadata(&staged).is_ok_and(|s| platform::owner(&s) == owner)
        || platform::give(&staged, owner).is_ok();
    if owned && std::fs::rename(&staged, &real).is_ok() {
        return sync_folder(parent(&real));
    }
    remove(&staged)?;
    let failed = || Error::file("writing", &real);
    let mut file = OpenOptions::new().write(true).open(&real).map_err(failed())?;
    file.write_all(bytes).map_err(failed())?;
    file.set_len(bytes.len() as u64).map_err(failed())?;
    file.sync_all().map_err(failed())
}

/// Puts one document in place whole, replacing what is there.
pub fn replace(path: &Path, document: &Document) -> Result<()> {
    let staged = beside(path, "new");
    let _ = std::fs::remove_file(&staged);
    create_document(&staged, document)?;
    std::fs::rename(&staged, path).map_err(Error::file("putting in place", path))?;
    sync_folder(parent(path))
}

/// Takes away what an interrupted replacement of a file left beside it.
pub fn unstage(path: &Path) -> Result<()> {
    let staged = beside(path, "new");
    if staged.symlink_metadata().is_ok() { remove(&staged) } else { Ok(()) }
}

/// A file that is written bit by bit and put in place at the end; gone if it never is.
pub struct Staged {
    file: File,
    staged: PathBuf,
    place: PathBuf,
    done: bool,
}

impl Staged {
    /// Opens the stage beside the place, with its mode from the first byte.
    pub fn new(place: &Path, mode: u32) -> Result<Staged> {
        let staged = beside(place, "new");
        let _ = std::fs::remove_file(&staged);
        let file = platform::new_file(&staged, mode).map_err(Error::file("writing", place))?;
        Ok(Staged { file, staged, place: place.to_owned(), done: false })
    }

    /// Where to write.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Makes it durable and visible.
    pub fn put_in_place(mut self) -> Result<()> {
        self.file.sync_all().map_err(Error::file("writing", &self.place))?;
        std::fs::rename(&self.staged, &self.place).map_err(Error::file("putting in place", &self.place))?;
        self.done = true;
        sync_folder(parent(&self.place))
    }
}

impl Drop for Staged {
    fn drop(&mut self) {
        if !self.done {
            let _ = std::fs::remove_file(&self.staged);
        }
    }
}

/// Takes a file or link away; nothing if it is not there.
pub fn remove(path: &Path) -> Result<()> {
    match std::fs::remove_file(path) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
            Err(Error::File { doing: "removing", path: path.to_owned(), source: e })
        }
        _ => sync_folder(parent(path)),
    }
}

/// A new file with its mode from the first byte; written, not yet durable. An open key is refused before its first byte
/// where the file system does not keep the mode.
fn write_new(path: &Path, bytes: &[u8], mode: u32, secret: bool) -> Result<File> {
    let mut file = platform::new_file(path, mode).map_err(Error::file("writing", path))?;
    if secret {
        let got = platform::mode(&file.metadata().map_err(Error::file("writing", path))?);
        if got & 0o077 != 0 {
            drop(file);
            let _ = std::fs::remove_file(path);
            return Err(Error::ModeLost { path: path.to_owned(), mode: got & 0o777 });
        }
    }
    file.write_all(bytes).map_err(Error::file("writing", path))?;
    Ok(file)
}

fn create(path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
    write_new(path, bytes, mode, false)?.sync_all().map_err(Error::file("writing", path))
}

fn create_document(path: &Path, d: &Document) -> Result<()> {
    write_new(path, &d.bytes, d.mode, d.secret)?.sync_all().map_err(Error::file("writing", path))
}

/// Several files: all written, then each made durable. One after the other, each would wait for a commit of its own.
fn create_all<'a>(all: impl Iterator<Item = (&'a Document, &'a PathBuf)>) -> Result<()> {
    let mut written = Vec::new();
    for (d, path) in all {
        written.push((write_new(path, &d.bytes, d.mode, d.secret)?, path));
    }
    written.iter().try_for_each(|(file, path)| file.sync_all().map_err(Error::file("writing", path)))
}

/// Makes the names in a folder durable.
pub fn sync_folder(folder: &Path) -> Result<()> {
    match platform::sync_folder(folder) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
            Err(Error::File { doing: "making durable", path: folder.to_owned(), source: e })
        }
        _ => Ok(()),
    }
}

/// The folder in which a path lies; the present one for a bare name.
pub fn parent(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// A hidden name beside a path, on the same file system.
fn beside(path: &Path, tag: &str) -> PathBuf {
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    parent(path).join(format!(".{name}.tamga-{tag}"))
}

/// Where a publication is staged: the whole new folder, or each file beside its place.
fn staging(publication: &Publication, tag: &str) -> Staging {
    Staging {
        folder: beside(&publication.folder, tag),
        files: publication.documents.iter().map(|d| beside(&publication.folder.join(d.name), tag)).collect(),
    }
}

struct Staging {
    folder: PathBuf,
    files: Vec<PathBuf>,
}

/// Publishes files that belong together. `tag` names this attempt; the journal knows it.
///
/// A new folder is staged whole beside its place and renamed once. In a folder that is there, each file is staged
/// beside its place, and only when all stand they are renamed back to back: so a missing first stage beside a
/// standing later one means "go on", and everything else "go back" (see [`crate::recover`]).
pub fn publish(publication: &Publication, tag: &str) -> Result<()> {
    publish_unsynced(publication, tag)?;
    sync_folder(parent(&publication.folder))
}

/// The same, but for the name of a new folder, which the caller makes durable: of many in one folder only once.
pub fn publish_unsynced(publication: &Publication, tag: &str) -> Result<()> {
    let staged = staging(publication, tag);
    let target = &publication.folder;
    if target.is_dir() {
        create_all(publication.documents.iter().zip(&staged.files))?;
        for (d, path) in publication.documents.iter().zip(&staged.files) {
            let place = target.join(d.name);
            std::fs::rename(path, &place).map_err(Error::file("putting in place", &place))?;
        }
        return sync_folder(target);
    }
    folder(parent(target), 0o755)?;
    platform::new_folder(&staged.folder, publication.folder_mode, false)
        .map_err(Error::file("making the folder", target))?;
    let places: Vec<PathBuf> = publication.documents.iter().map(|d| staged.folder.join(d.name)).collect();
    create_all(publication.documents.iter().zip(&places))?;
    sync_folder(&staged.folder)?;
    std::fs::rename(&staged.folder, target).map_err(Error::file("putting in place", target))
}

/// How an interrupted publication was left, and what was done about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mended {
    /// Files were half in place; the rest followed.
    GoneOn,
    /// Nothing was in place; what was staged is gone.
    GoneBack,
}

/// Finishes or takes back an interrupted publication, from its stages alone.
pub fn mend(folder: &Path, names: &[String], tag: &str) -> Result<Mended> {
    let whole = beside(folder, tag);
    if whole.is_dir() {
        std::fs::remove_dir_all(&whole).map_err(Error::file("removing", &whole))?;
    }
    let stages: Vec<(PathBuf, PathBuf)> =
        names.iter().map(|n| (beside(&folder.join(n), tag), folder.join(n))).collect();
    let standing: Vec<bool> = stages.iter().map(|(s, _)| s.exists()).collect();
    let renaming = standing.first() == Some(&false) && standing.iter().any(|s| *s);
    if renaming {
        for (stage, place) in stages.iter().filter(|(s, _)| s.exists()) {
            std::fs::rename(stage, place).map_err(Error::file("putting in place", place))?;
        }
    } else {
        // Last first: stopped here, the next run must not take it for a renaming.
        for (stage, _) in stages.iter().rev().filter(|(s, _)| s.exists()) {
            std::fs::remove_file(stage).map_err(Error::file("removing", stage))?;
        }
    }
    if folder.is_dir() {
        sync_folder(folder)?;
    }
    Ok(if renaming { Mended::GoneOn } else { Mended::GoneBack })
}

/// The exclusive lock of a data folder, held until dropped.
pub struct Lock(#[allow(dead_code, reason = "held for its lock")] File);

/// Locks a data folder; waits up to 30 seconds.
pub fn lock(data: &Path) -> Result<Lock> {
    folder(data, 0o700)?;
    let path = data.join("lock");
    let file = platform::lock_file(&path).map_err(Error::file("opening", &path))?;
    let patience = Instant::now();
    while file.try_lock().is_err() {
        if patience.elapsed() > Duration::from_secs(30) {
            return Err(Error::Locked { path: data.to_owned() });
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(Lock(file))
}
