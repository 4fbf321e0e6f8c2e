//! A machine in memory: files, links, programs, variables and databases as a test puts them there.
//! Steps are done to it, so that what a store plans can be seen to work without any real file.

pub mod security;

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::plan::native::{NativeEntry, StoreName};
use tamga_core::plan::nss::{Library, NssAction, NssEntry, NssFailure, NssView, ROOT_FLAGS, USER};
use tamga_core::plan::perform::Executor;
use tamga_core::plan::ports::{BrowserDatabases, Commands, Entropy, Environment, Files, NativeStores};
use tamga_core::plan::step::{Invocation, Planned, Step};
use tamga_core::stores::trust::Root;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Bytes that differ from call to call.
pub struct Counting(RefCell<u64>);

impl Counting {
    pub fn from(seed: u64) -> Counting {
        Counting(RefCell::new(seed))
    }
}

impl Entropy for Counting {
    fn fill(&self, into: &mut [u8]) {
        for b in into {
            let mut n = self.0.borrow_mut();
            // A step of a linear congruence: any bytes will do.
            *n = n.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            *b = (*n >> 33) as u8;
        }
    }
}

/// Some root.
pub fn root(label: &str) -> Root {
    let seed = label.bytes().fold(7_u64, |n, b| n.wrapping_mul(31).wrapping_add(u64::from(b)));
    let entropy = Counting::from(seed);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let request = Request::plain(Label::from_str(label).unwrap());
    let made = create::root(&request, &key, "x".into(), Timestamp::from_unix(1_795_600_000), &entropy).unwrap();
    Root { label: label.parse().unwrap(), certificate: made.authority.certificate }
}

/// Every file with its bytes.
pub type Contents = BTreeMap<PathBuf, Vec<u8>>;
/// Every database with its objects: DER, nickname, trust.
pub type Databases = BTreeMap<PathBuf, Vec<(Vec<u8>, String, u32)>>;

/// The machine.
#[derive(Default)]
pub struct Machine {
    pub files: RefCell<BTreeMap<PathBuf, Vec<u8>>>,
    pub links: RefCell<BTreeMap<PathBuf, PathBuf>>,
    pub databases: RefCell<BTreeMap<PathBuf, Vec<NssEntry>>>,
    pub programs: BTreeSet<String>,
    pub variables: BTreeMap<String, String>,
    pub read_only: BTreeSet<PathBuf>,
    pub without_rights: bool,
    pub password: Option<String>,
    /// Rows of the browser's own certificate manager: file, certificate, settings.
    pub kept: Vec<(PathBuf, Vec<u8>, Vec<u8>)>,
    /// What a program prints when it is asked, by its name; or its last line, where it fails.
    pub says: BTreeMap<String, Result<String, String>>,
    /// What a command does, by its name.
    pub commands: BTreeMap<String, fn(&Machine)>,
    /// The step that is to fail, counted from 0.
    pub fails_at: RefCell<Option<usize>>,
    /// How many steps of this plan were tried.
    pub so_far: Cell<usize>,
    /// Every step that was done, in words.
    pub done: RefCell<Vec<String>>,
}

impl Machine {
    /// One with these programs.
    pub fn with(programs: &[&str]) -> Machine {
        Machine { programs: programs.iter().map(|p| (*p).to_owned()).collect(), ..Machine::default() }
    }

    pub fn put(&self, path: &str, bytes: impl Into<Vec<u8>>) {
        self.files.borrow_mut().insert(path.into(), bytes.into());
    }

    pub fn get(&self, path: &str) -> Option<String> {
        self.files.borrow().get(Path::new(path)).map(|b| String::from_utf8_lossy(b).into_owned())
    }

    /// Everything that could have changed, for comparing.
    pub fn state(&self) -> (Contents, Databases) {
        let plain = |all: &Vec<NssEntry>| all.iter().map(|e| (e.der.clone(), e.nickname.clone(), e.ssl)).collect();
        let databases = self.databases.borrow().iter().map(|(k, v)| (k.clone(), plain(v))).collect();
        (self.files.borrow().clone(), databases)
    }

    /// Does a plan; at a failure what was done is undone, last first, and everything of it must go.
    pub fn perform(&self, plan: &[Planned]) -> Result<(), String> {
        self.so_far.set(0);
        tamga_core::plan::perform::perform(self, plan).map_err(|failed| {
            assert!(failed.left.is_empty(), "left behind: {:?}", failed.left);
            failed.step.words()
        })
    }

    fn step(&self, step: &Step) -> Result<(), String> {
        self.done.borrow_mut().push(step.words());
        match step {
            Step::Folder { .. } => {}
            Step::Write { path, bytes, .. } => {
                self.files.borrow_mut().insert(path.clone(), bytes.clone());
            }
            Step::Remove { path } => {
                self.files.borrow_mut().remove(path);
                self.links.borrow_mut().remove(path);
            }
            Step::Run(i) => {
                if i.program.ends_with("security") {
                    return security::security(self, i, false).map(|_| ());
                }
                let name = i.program.file_name().unwrap().to_string_lossy().into_owned();
                let command = self.commands.get(&name).ok_or_else(|| format!("no command {name}"))?;
                command(self);
            }
            Step::Native(change) => security::change(self, change),
            Step::Database(change) => {
                let mut all = self.databases.borrow_mut();
                let entries = all.entry(change.folder.clone()).or_default();
                let der = change.action.der().to_vec();
                entries.retain(|e| e.der != der || matches!(change.action, NssAction::Add { .. }));
                let add = |nickname: &str, ssl| NssEntry { der: der.clone(), nickname: nickname.to_owned(), ssl };
                match &change.action {
                    NssAction::Add { nickname, .. } => {
                        entries.retain(|e| e.der != der);
                        entries.push(add(nickname, ROOT_FLAGS));
                    }
                    NssAction::AddPlain { nickname, .. } => entries.push(add(nickname, 0)),
                    NssAction::AddIdentity { nickname, .. } => entries.push(add(nickname, USER)),
                    NssAction::Remove { .. } | NssAction::RemoveIdentity { .. } => {}
                }
                self.files.borrow_mut().insert(change.folder.join("cert9.db"), b"database".to_vec());
            }
        }
        Ok(())
    }
}

impl Executor for Machine {
    type Error = String;

    fn execute(&self, step: &Step) -> Result<(), String> {
        let at = self.so_far.replace(self.so_far.get() + 1);
        if *self.fails_at.borrow() == Some(at) {
            return Err(format!("step {at} was to fail"));
        }
        self.step(step)
    }
}

impl Files for Machine {
    fn read(&self, path: &Path) -> Option<Vec<u8>> {
        self.files.borrow().get(&self.resolved(path)).cloned()
    }

    fn list(&self, folder: &Path) -> Vec<String> {
        let folder = self.resolved(folder);
        let files = self.files.borrow();
        let links = self.links.borrow();
        let below = files.keys().chain(links.keys()).filter_map(|p| p.strip_prefix(&folder).ok());
        let names: BTreeSet<String> =
            below.filter_map(|p| p.components().next()).map(|c| c.as_os_str().to_string_lossy().into_owned()).collect();
        names.into_iter().collect()
    }

    fn exists(&self, path: &Path) -> bool {
        let path = self.resolved(path);
        self.files.borrow().keys().any(|p| p.starts_with(&path))
    }

    fn link(&self, path: &Path) -> Option<PathBuf> {
        self.links.borrow().get(path).cloned()
    }

    fn resolved(&self, path: &Path) -> PathBuf {
        let links = self.links.borrow();
        let mut path = path.to_owned();
        for _ in 0..8 {
            let Some((from, to)) = links.iter().find(|(from, _)| path.starts_with(from)) else { break };
            path = to.join(path.strip_prefix(from).unwrap());
            if path.ends_with("") {
                path = path.components().collect();
            }
        }
        path
    }

    fn may_write(&self, folder: &Path) -> bool {
        !self.read_only.contains(folder)
    }
}

impl Environment for Machine {
    fn env(&self, name: &str) -> Option<String> {
        self.variables.get(name).cloned()
    }

    fn home(&self) -> PathBuf {
        "/home/operator".into()
    }

    fn store_password(&self) -> Option<Passphrase> {
        self.password.as_ref().map(|p| Passphrase::new(zeroize::Zeroizing::new(p.clone().into_bytes())))
    }

    fn now(&self) -> Timestamp {
        Timestamp::from_unix(1_795_600_000)
    }

    fn has_rights(&self) -> bool {
        !self.without_rights
    }
}

impl Commands for Machine {
    fn program(&self, name: &str) -> Option<PathBuf> {
        let bare = name.strip_prefix("/usr/bin/").unwrap_or(name);
        self.programs.contains(bare).then(|| Path::new("/usr/bin").join(bare))
    }

    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<Result<Vec<u8>, String>> {
        if let Some(said) = self.says.get(&*invocation.program.to_string_lossy()) {
            return Some(said.clone().map(String::into_bytes));
        }
        invocation.program.ends_with("security").then(|| security::security(self, invocation, answers_in_file))
    }
}

impl BrowserDatabases for Machine {
    fn kept_certificates(&self, file: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
        self.kept.iter().filter(|(f, _, _)| f == file).map(|(_, der, said)| (der.clone(), said.clone())).collect()
    }

    fn nss(&self, folder: &Path, _: &Library) -> Result<NssView, NssFailure> {
        match self.databases.borrow().get(folder) {
            Some(entries) => Ok(NssView { entries: entries.clone(), guarded: false }),
            None => Err(NssFailure { why: "damaged".into(), remedy: "move it away".into() }),
        }
    }
}

impl NativeStores for Machine {
    fn native(&self, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>> {
        security::list(self, store)
    }
}

/// True if a place's entries hold this certificate, and it counts.
pub fn is_trusted(entries: &[tamga_core::stores::trust::Entry], c: &Certificate) -> bool {
    entries.iter().any(|e| e.certificate == *c && e.trusted && !e.distrusted)
}
