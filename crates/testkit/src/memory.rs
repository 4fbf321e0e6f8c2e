//! A machine whose disk and ledger are in memory: nothing that a use case does on it can reach the real one.
//!
//! Its disk can be made to fail at any change, so that a test sees what every use case leaves behind there.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use tamga_core::plan::step::{Document, Publication};
use tamga_host::error::{Error, Result};
use tamga_host::fs::{Bytes, Disk, File, Kind, Leftover, Lock, Recovered, STDIN, Status, Tag, parent, sibling};
use tamga_host::ledger::{LAYOUT, Ledger, Ledgers, Sqlite};
use tamga_host::place::sha256;
use tamga_host::places::Machine;
use tamga_host::platform::Ids;

#[derive(Clone, Debug, PartialEq, Eq)]
enum Node {
    File { bytes: Vec<u8>, mode: u32 },
    Directory { mode: u32 },
}

/// A disk in memory. It has no links, one account, and no programs.
#[derive(Debug)]
pub struct MemoryDisk {
    nodes: Mutex<BTreeMap<PathBuf, Node>>,
    left: AtomicUsize,
}

impl Default for MemoryDisk {
    fn default() -> MemoryDisk {
        let root = BTreeMap::from([(PathBuf::from("/"), Node::Directory { mode: 0o755 })]);
        MemoryDisk { nodes: Mutex::new(root), left: AtomicUsize::new(usize::MAX) }
    }
}

impl MemoryDisk {
    /// After so many changes the disk is full: each further one that writes something fails.
    pub fn full_after(&self, changes: usize) {
        self.left.store(changes, Ordering::Relaxed);
    }

    /// Every file, with its bytes and mode.
    pub fn files(&self) -> Vec<(PathBuf, Vec<u8>, u32)> {
        let nodes = self.nodes.lock().unwrap();
        let file = |(path, node): (&PathBuf, &Node)| match node {
            Node::File { bytes, mode } => Some((path.clone(), bytes.clone(), *mode)),
            Node::Directory { .. } => None,
        };
        nodes.iter().filter_map(file).collect()
    }

    fn node(&self, path: &Path) -> io::Result<Node> {
        self.nodes.lock().unwrap().get(path).cloned().ok_or_else(|| ErrorKind::NotFound.into())
    }

    /// One change that needs room.
    fn change(&self, doing: &'static str, path: &Path) -> Result<()> {
        let take = |left: usize| if left == usize::MAX { Some(left) } else { left.checked_sub(1) };
        match self.left.fetch_update(Ordering::Relaxed, Ordering::Relaxed, take) {
            Ok(_) => Ok(()),
            Err(_) => Err(Error::file(doing, path)(ErrorKind::StorageFull.into())),
        }
    }

    /// Does something whole or not at all.
    fn whole<T>(&self, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let before = self.nodes.lock().unwrap().clone();
        work().inspect_err(|_| *self.nodes.lock().unwrap() = before)
    }

    fn put(&self, path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
        let mut nodes = self.nodes.lock().unwrap();
        let failed = Error::file("writing", path);
        match (nodes.get(parent(path)), nodes.get(path)) {
            (None, _) => return Err(failed(ErrorKind::NotFound.into())),
            (Some(Node::File { .. }), _) => return Err(failed(ErrorKind::NotADirectory.into())),
            (_, Some(Node::Directory { .. })) => return Err(failed(ErrorKind::IsADirectory.into())),
            _ => {}
        }
        nodes.insert(path.to_owned(), Node::File { bytes: bytes.to_vec(), mode });
        Ok(())
    }

    fn make(&self, path: &Path, mode: u32) -> Result<()> {
        let mut nodes = self.nodes.lock().unwrap();
        let all: Vec<&Path> = path.ancestors().collect();
        for directory in all.into_iter().rev() {
            match nodes.get(directory) {
                None => drop(nodes.insert(directory.to_owned(), Node::Directory { mode })),
                Some(Node::Directory { .. }) => {}
                Some(Node::File { .. }) => {
                    return Err(Error::file("opening", path)(ErrorKind::NotADirectory.into()));
                }
            }
        }
        Ok(())
    }

    fn is_empty(nodes: &BTreeMap<PathBuf, Node>, path: &Path) -> bool {
        !nodes.keys().any(|k| k != path && k.starts_with(path))
    }
}

impl Disk for MemoryDisk {
    fn status(&self, path: &Path) -> io::Result<Status> {
        Ok(match self.node(path)? {
            Node::File { bytes, mode } => Status { kind: Kind::File, length: bytes.len() as u64, mode, owner: 0 },
            Node::Directory { mode } => Status { kind: Kind::Directory, length: 0, mode, owner: 0 },
        })
    }

    fn entry(&self, path: &Path) -> io::Result<Status> {
        self.status(path)
    }

    fn list(&self, directory: &Path) -> io::Result<Vec<OsString>> {
        match self.node(directory)? {
            Node::File { .. } => Err(ErrorKind::NotADirectory.into()),
            Node::Directory { .. } => {
                let nodes = self.nodes.lock().unwrap();
                let inside = nodes.keys().filter(|k| k.parent() == Some(directory));
                Ok(inside.filter_map(|k| k.file_name()).map(OsString::from).collect())
            }
        }
    }

    fn link(&self, path: &Path) -> io::Result<PathBuf> {
        self.node(path).and(Err(ErrorKind::InvalidInput.into()))
    }

    fn resolved(&self, path: &Path) -> io::Result<PathBuf> {
        self.node(path).map(|_| path.to_owned())
    }

    fn may_write(&self, directory: &Path) -> bool {
        self.node(directory).is_ok()
    }

    fn may_run(&self, _: &Path) -> bool {
        false
    }

    fn program_in(&self, _: &Path, _: &str) -> Option<PathBuf> {
        None
    }

    fn refuse_if_open(&self, directory: &Path) -> Result<()> {
        self.node(directory).map(drop).map_err(Error::file("opening", directory))
    }

    fn read_named(&self, path: &Path) -> Result<Bytes> {
        match path == Path::new(STDIN) {
            true => Err(Error::file("reading", path)(ErrorKind::Unsupported.into())),
            false => self.read(path).map_err(Error::file("reading", path)),
        }
    }

    fn read(&self, path: &Path) -> io::Result<Bytes> {
        match self.node(path)? {
            Node::File { bytes, .. } => Ok(bytes.into()),
            Node::Directory { .. } => Err(ErrorKind::IsADirectory.into()),
        }
    }

    fn read_to_replace(&self, path: &Path) -> io::Result<Bytes> {
        self.read(path)
    }

    fn read_trusted(&self, path: &Path) -> Result<Bytes> {
        self.read_named(path)
    }

    fn write_whole(&self, path: &Path, bytes: &[u8], mode: u32) -> Result<()> {
        self.change("writing", path)?;
        self.put(path, bytes, mode)
    }

    fn replace(&self, path: &Path, document: &Document) -> Result<()> {
        self.write_whole(path, &document.bytes, document.mode)
    }

    fn rewrite(&self, path: &Path, bytes: &[u8], copy: &Path) -> Result<()> {
        let (before, mode) = match self.node(path).map_err(Error::file("reading", path))? {
            Node::File { bytes, mode } => (bytes, mode),
            Node::Directory { .. } => return Err(Error::file("reading", path)(ErrorKind::IsADirectory.into())),
        };
        self.write_whole(copy, &before, mode)?;
        self.write_whole(path, bytes, mode)
    }

    fn unstage(&self, path: &Path) -> Result<()> {
        self.remove(&sibling(path, Tag::New))
    }

    fn remove(&self, path: &Path) -> Result<()> {
        let mut nodes = self.nodes.lock().unwrap();
        if matches!(nodes.get(path), Some(Node::Directory { .. })) {
            return Err(Error::file("removing", path)(ErrorKind::IsADirectory.into()));
        }
        nodes.remove(path);
        Ok(())
    }

    fn remove_tree(&self, path: &Path) -> Result<()> {
        self.nodes.lock().unwrap().retain(|k, _| !k.starts_with(path));
        Ok(())
    }

    fn remove_directory(&self, path: &Path) -> bool {
        let mut nodes = self.nodes.lock().unwrap();
        let goes = matches!(nodes.get(path), Some(Node::Directory { .. })) && MemoryDisk::is_empty(&nodes, path);
        goes && nodes.remove(path).is_some()
    }

    fn make_directory(&self, path: &Path, mode: u32) -> Result<()> {
        if self.is_directory(path) {
            return Ok(());
        }
        self.change("making the directory", path)?;
        self.make(path, mode)
    }

    fn move_directory(&self, from: &Path, to: &Path) -> Result<()> {
        let failed = || Error::file("moving the directory to", to);
        if !self.is_directory(from) {
            return Err(Error::file("moving", from)(ErrorKind::NotADirectory.into()));
        }
        self.change("moving the directory to", to)?;
        self.make(parent(to), 0o755)?;
        let mut nodes = self.nodes.lock().unwrap();
        match nodes.get(to) {
            Some(Node::File { .. }) => return Err(failed()(ErrorKind::NotADirectory.into())),
            _ if to == from => return Ok(()),
            Some(Node::Directory { .. }) if !MemoryDisk::is_empty(&nodes, to) => {
                return Err(failed()(ErrorKind::DirectoryNotEmpty.into()));
            }
            _ => {}
        }
        if to.starts_with(from) && to != from {
            return Err(failed()(ErrorKind::InvalidInput.into()));
        }
        let moved: Vec<(PathBuf, Node)> = nodes.extract_if(.., |k, _| k.starts_with(from)).collect();
        for (path, node) in moved {
            let rest = path.strip_prefix(from).unwrap();
            let new = if rest.as_os_str().is_empty() { to.to_owned() } else { to.join(rest) };
            nodes.insert(new, node);
        }
        Ok(())
    }

    fn publish(&self, publication: &Publication, tag: &str) -> Result<()> {
        self.publish_unsynced(publication, tag)
    }

    fn publish_unsynced(&self, publication: &Publication, _: &str) -> Result<()> {
        let target = &publication.folder;
        self.change("making the directory", target)?;
        self.whole(|| {
            if !self.is_directory(target) {
                self.make(parent(target), 0o755)?;
                self.make(target, publication.folder_mode)?;
            }
            publication.documents.iter().try_for_each(|d| self.put(&target.join(d.name), &d.bytes, d.mode))
        })
    }

    fn sync_directory(&self, _: &Path) -> Result<()> {
        Ok(())
    }

    fn recover_publication(&self, _: &Path, _: &[String], _: &str) -> Result<Recovered> {
        // A publication is whole or has not happened: nothing is ever staged.
        Ok(Recovered::TakenBack)
    }

    fn deploy(&self, files: &[File], _: Option<Ids>) -> Result<()> {
        for f in files {
            self.change("writing", &f.path)?;
        }
        self.settle(&files.iter().map(|f| f.path.as_path()).collect::<Vec<_>>())?;
        // Directories that were made stay, as on a real disk.
        files.iter().try_for_each(|f| self.make(parent(&f.path), 0o755))?;
        self.whole(|| {
            for f in files {
                if let Ok(Node::File { bytes, mode }) = self.node(&f.path) {
                    self.put(&sibling(&f.path, Tag::Old), &bytes, mode)?;
                }
                self.put(&f.path, &f.bytes, f.mode)?;
            }
            Ok(())
        })
    }

    fn settle(&self, paths: &[&Path]) -> Result<()> {
        paths.iter().try_for_each(|p| self.remove(&sibling(p, Tag::New)).and(self.remove(&sibling(p, Tag::Old))))
    }

    fn roll_back(&self, paths: &[&Path]) -> Result<bool> {
        let mut any = false;
        for path in paths {
            let old = sibling(path, Tag::Old);
            if let Ok(Node::File { bytes, mode }) = self.node(&old) {
                self.put(path, &bytes, mode)?;
                self.remove(&old)?;
                any = true;
            }
        }
        Ok(any)
    }

    fn recover_deployment(&self, files: &[(&Path, &str)]) -> Result<Leftover> {
        let is_new = |(path, sha): &(&Path, &str)| self.read(path).is_ok_and(|b| sha256(&b) == *sha);
        if files.iter().all(is_new) {
            return Ok(Leftover::Whole);
        }
        for file in files.iter().filter(|f| is_new(f)) {
            self.roll_back(&[file.0])?;
        }
        self.settle(&files.iter().map(|f| f.0).collect::<Vec<_>>())?;
        Ok(Leftover::Nothing)
    }

    fn lock(&self, data: &Path) -> Result<Lock> {
        self.make_directory(data, 0o700)?;
        Ok(Lock::of_nobody(data))
    }

    fn lock_apply(&self, data: &Path) -> Result<Lock> {
        self.lock(data)
    }

    fn is_applying(&self, _: &Path) -> bool {
        false
    }
}

/// The ledger of a machine in memory: it is there once it was opened for a change.
pub struct MemoryLedger {
    name: String,
    kept: Mutex<Option<Sqlite>>,
}

impl std::fmt::Debug for MemoryLedger {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("MemoryLedger").field(&self.name).finish()
    }
}

impl Default for MemoryLedger {
    fn default() -> MemoryLedger {
        static MADE: AtomicUsize = AtomicUsize::new(0);
        let name = format!("machine-{}", MADE.fetch_add(1, Ordering::Relaxed));
        MemoryLedger { name, kept: Mutex::default() }
    }
}

impl Ledgers for MemoryLedger {
    fn is_there(&self, _: &Path) -> bool {
        self.kept.lock().unwrap().is_some()
    }

    fn place(&self, data: &Path) -> PathBuf {
        data.join(&self.name)
    }

    fn layout(&self, data: &Path) -> Result<Option<i64>> {
        Ok(self.is_there(data).then_some(LAYOUT))
    }

    fn open(&self, data: &Path) -> Result<Box<dyn Ledger>> {
        let mut kept = self.kept.lock().unwrap();
        if kept.is_none() {
            *kept = Some(Sqlite::in_memory(&self.name, data)?);
        }
        Ok(Box::new(Sqlite::in_memory(&self.name, data)?))
    }

    fn open_existing(&self, data: &Path) -> Result<Option<Box<dyn Ledger>>> {
        if self.is_there(data) { self.open(data).map(Some) } else { Ok(None) }
    }
}

/// A machine in memory, and the disk under it. Its own paths are below `/lab/root`, the user's home is `/lab/home`, the data directory
/// `/lab/data`.
pub fn machine() -> (Machine, Arc<MemoryDisk>) {
    let disk = Arc::new(MemoryDisk::default());
    for directory in ["/lab/root/etc", "/lab/home"] {
        disk.make_directory(Path::new(directory), 0o755).unwrap();
    }
    disk.write_whole(Path::new("/lab/root/etc/hosts"), b"127.0.0.1 localhost\n", 0o644).unwrap();
    let machine = Machine::in_directory(Path::new("/lab")).on(disk.clone(), Arc::new(MemoryLedger::default()));
    (machine, disk)
}
