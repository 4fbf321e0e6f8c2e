//! Every path on this machine, under one overridable root; and whose person we act for.

mod look;

use crate::error::{Error, Result};
use crate::fs::{Disk, Local};
use crate::ledger::{Chosen, Ledgers};
use crate::platform::{self, Effective};
use crate::rights::Acting;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock};
use tamga_core::vocabulary::secret::Passphrase;

/// Another root for the machine's own paths (`/etc`, `/opt`, `/snap`, `/usr`, `/var`): for tests, the demonstration and images.
pub const ROOT_VARIABLE: &str = "TAMGA_ROOT";
/// The data directory.
pub const DATA_VARIABLE: &str = "TAMGA_DATA_DIR";

/// Where the programs of the system lie: what runs as root is looked for here, never where a user's `PATH` leads.
const SYSTEM_DIRECTORIES: [&str; 5] = ["/usr/sbin", "/usr/bin", "/sbin", "/bin", "/run/current-system/sw/bin"];

/// The user who called sudo, doas or pkexec.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InvokingUser {
    /// Account name.
    pub name: String,
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Home directory.
    pub home: PathBuf,
    /// What the user's own processes act with.
    pub rights: Effective,
}

/// This machine as we may see and change it.
#[derive(Clone, Debug)]
pub struct Machine {
    disk: Arc<dyn Disk>,
    ledgers: Arc<dyn Ledgers>,
    root: Option<PathBuf>,
    home: PathBuf,
    data: PathBuf,
    environment: BTreeMap<String, String>,
    password: Arc<Mutex<Option<Passphrase>>>,
    raiser: Arc<OnceLock<PathBuf>>,
    image: bool,
    /// What `root` is when this is no image.
    own_root: Option<PathBuf>,
    /// Set if we were called through sudo, doas or pkexec and act for somebody else.
    pub person: Option<InvokingUser>,
}

impl Machine {
    /// Reads the environment. `data_dir` and `ledger` are the options of the command line.
    ///
    /// Called through sudo, doas or pkexec without a data directory named, it gives up root's rights for the person's:
    /// they come back only for single steps on the machine's own stores. With one named it keeps them, but touches
    /// what lies in the person's home as that person.
    pub fn from_environment(data_dir: Option<PathBuf>, ledger: Option<String>) -> Result<Machine> {
        let mut environment: BTreeMap<String, String> =
            std::env::vars_os().filter_map(|(k, v)| Some((k.into_string().ok()?, v.into_string().ok()?))).collect();
        environment.retain(|_, v| !v.is_empty());
        let root = std::env::var_os(ROOT_VARIABLE).filter(|r| !r.is_empty()).map(PathBuf::from);
        let variable = std::env::var_os(DATA_VARIABLE).filter(|d| !d.is_empty());
        let named = data_dir.or_else(|| variable.map(PathBuf::from));
        let person = if platform::is_root() { caller(&environment)? } else { None };
        let home = match &person {
            Some(p) => p.home.clone(),
            None => {
                std::env::var_os(platform::HOME).filter(|h| !h.is_empty()).map(PathBuf::from).ok_or(Error::NoHome)?
            }
        };
        if person.is_some() {
            // The environment is root's, not the person's.
            environment.remove("XDG_DATA_HOME");
        }
        let own_data = named.is_none();
        let data =
            named.unwrap_or_else(|| platform::data_home(&home, &|name| environment.get(name).cloned()).join("tamga"));
        let data = std::path::absolute(&data).unwrap_or(data);
        let (password, raiser) = (Arc::default(), Arc::default());
        let own_root = root.clone();
        let chosen = Chosen::new(ledger, environment.clone(), home.clone());
        let (disk, ledgers): (Arc<dyn Disk>, Arc<dyn Ledgers>) = (Arc::new(Local), Arc::new(chosen));
        let machine =
            Machine { disk, ledgers, root, home, data, environment, password, raiser, image: false, own_root, person };
        // A data directory that was named is used with the rights that were given for it.
        if let Some(p) = machine.person.as_ref().filter(|_| own_data) {
            platform::become_user(&p.rights).map_err(Error::file("acting for the owner of", &p.home))?;
        }
        Ok(machine)
    }

    /// A machine of its own below a directory, for programs that embed Tamga and for tests: the system's files are in `root`, the user's in
    /// `home`, the ledger in `data`. No variable of this process is seen but PATH.
    pub fn in_directory(directory: &Path) -> Machine {
        let path = std::env::var("PATH").map(|p| ("PATH".to_owned(), p));
        let root = Some(directory.join("root"));
        Machine {
            disk: Arc::new(Local),
            ledgers: Arc::new(Chosen::new(None, BTreeMap::new(), directory.join("home"))),
            own_root: root.clone(),
            root,
            home: directory.join("home"),
            data: directory.join("data"),
            environment: path.into_iter().collect(),
            password: Arc::default(),
            raiser: Arc::default(),
            image: false,
            person: None,
        }
    }

    /// The same machine with its files and its ledger elsewhere, such as in memory. It has the programs that are on that disk, and no
    /// variables.
    #[must_use]
    pub fn on(self, disk: Arc<dyn Disk>, ledgers: Arc<dyn Ledgers>) -> Machine {
        Machine { disk, ledgers, environment: BTreeMap::new(), ..self }
    }

    /// The same machine with the ledger that a file names, where nothing was typed and no variable is set.
    #[must_use]
    pub fn with_ledger(self, address: &str) -> Machine {
        match self.ledgers.chosen().cloned() {
            Some(chosen) => Machine { ledgers: Arc::new(chosen.or(address)), ..self },
            None => self,
        }
    }

    /// Where its files are.
    pub fn disk(&self) -> &dyn Disk {
        &*self.disk
    }

    /// Where its ledger is.
    pub fn ledgers(&self) -> &dyn Ledgers {
        &*self.ledgers
    }

    /// The data directory.
    pub fn data(&self) -> &Path {
        &self.data
    }

    /// The other root, if one is set.
    pub fn root(&self) -> Option<&Path> {
        self.root.as_deref()
    }

    /// The same machine, but for its own paths, which are those of an image, a chroot or a container's file system.
    #[must_use]
    pub fn image(&self, root: PathBuf) -> Machine {
        Machine { root: Some(root), image: true, ..self.clone() }
    }

    /// Refuses a path in an image that a link leads out of it.
    pub fn within_image(&self, real: &Path) -> Result<()> {
        let Some(root) = self.root.as_ref().filter(|_| self.image) else { return Ok(()) };
        let Ok(root) = self.disk.resolved(root) else { return Ok(()) };
        // The nearest directory that is there: what is made below it lies in it.
        let folder = real.ancestors().skip(1).find_map(|p| self.disk.resolved(p).ok()).unwrap_or_default();
        if folder.starts_with(&root) {
            return Ok(());
        }
        Err(Error::OutOfImage { path: real.to_owned(), leads: folder })
    }

    /// For a program that lies inside an image: the image, and the program as it is named there.
    pub fn inside(&self, program: &Path) -> Option<(PathBuf, PathBuf)> {
        let root = self.root.as_ref().filter(|_| self.image)?;
        let within = program.strip_prefix(root).ok()?;
        Some((root.clone(), Path::new("/").join(within)))
    }

    /// What Debian's command needs to work on another root than the running system's.
    pub fn sysroot_arguments(&self, program: &str) -> Vec<String> {
        match &self.root {
            Some(root) if program == tamga_core::stores::trust::system::COMMAND => {
                vec!["--sysroot".to_owned(), root.to_string_lossy().into_owned()]
            }
            _ => Vec::new(),
        }
    }

    /// From now on steps on the machine's own paths go through this program.
    pub fn raise_through(&self, raiser: PathBuf) {
        let _ = self.raiser.set(raiser);
    }

    /// The program through which a step on this path goes; None where our own rights suffice.
    pub fn raiser_for(&self, path: &Path) -> Option<&Path> {
        self.raiser.get().map(PathBuf::as_path).filter(|_| self.is_machine(path))
    }

    /// The program through which a system's command runs; None where our own rights suffice.
    pub fn raiser(&self) -> Option<&Path> {
        self.raiser.get().map(PathBuf::as_path)
    }

    /// True if root's rights are at hand without any raiser.
    pub fn acts_as_root(&self) -> bool {
        self.person.is_some() || platform::is_root() || self.root.as_ref().is_some_and(|r| self.disk.may_write(r))
    }

    /// The password that guards databases, from now on.
    pub fn know_password(&self, password: Passphrase) {
        *self.password.lock().unwrap_or_else(|e| e.into_inner()) = Some(password);
    }

    /// The password that guards databases, if a person gave it.
    pub fn password(&self) -> Option<Passphrase> {
        self.password.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// A path as programs name it → where it really lies.
    pub fn real(&self, path: &Path) -> PathBuf {
        match &self.root {
            Some(root) if self.is_machine(path) && !path.starts_with(root) => {
                root.join(path.strip_prefix("/").unwrap_or(path))
            }
            _ if platform::is_foreign(path) => {
                PathBuf::from("no-such-place-on-this-system").join(path.file_name().unwrap_or_default())
            }
            _ => path.to_owned(),
        }
    }

    /// Does something at a path with the rights that belong there, where we act for somebody else: root's for the machine's own
    /// paths, the user's for their home. A home below `/var` or `/opt` is a home first.
    ///
    /// Errors: the work's own, or the rights could not be had.
    pub fn with_rights_for<T>(&self, path: &Path, work: impl FnOnce() -> Result<T>) -> Result<T> {
        let _acting = match self.rights_at(path) {
            Some(rights) => Some(Acting::with(&rights, path)?),
            None => None,
        };
        work()
    }

    fn rights_at(&self, path: &Path) -> Option<Effective> {
        let p = self.person.as_ref()?;
        if self.is_home(path) { Some(p.rights.clone()) } else { is_machine_path(path).then(Effective::root) }
    }

    /// True for a path in the home of whom we act for.
    fn is_home(&self, path: &Path) -> bool {
        // `/` is the home of accounts that have none.
        self.home.components().count() > 1 && path.starts_with(&self.home)
    }

    /// True for a path of the machine itself.
    fn is_machine(&self, path: &Path) -> bool {
        is_machine_path(path) && !self.is_home(path)
    }

    /// A program of the system, for what runs as root: looked for in fixed directories only, never where a `PATH` leads.
    pub fn system_program(&self, name: &str) -> Option<PathBuf> {
        let typed = Path::new(name);
        if typed.is_absolute() {
            return Some(self.real(typed)).filter(|p| self.disk.may_run(p));
        }
        if let Some(image) = self.root.as_ref().filter(|_| self.image) {
            let inside = SYSTEM_DIRECTORIES.iter().find_map(|d| self.disk.program_in(&under(image, d), name));
            // Debian's command of this machine works on an image without running anything of it.
            let ours = [tamga_core::stores::trust::system::COMMAND, "chroot"].contains(&name);
            if !ours || inside.is_none() && name != "chroot" {
                return inside;
            }
        }
        // Under another root, its own programs come first, if nobody else could have put them there.
        let safe = |d: &PathBuf| self.disk.refuse_if_open(d).is_ok();
        let own = self.own_root.iter().flat_map(|root| SYSTEM_DIRECTORIES.iter().map(move |d| under(root, d)));
        own.filter(safe)
            .chain(SYSTEM_DIRECTORIES.map(PathBuf::from))
            .find_map(|directory| self.disk.program_in(&directory, name))
    }
}

fn under(root: &Path, path: &str) -> PathBuf {
    root.join(path.trim_start_matches('/'))
}

fn is_machine_path(path: &Path) -> bool {
    ["/Library", "/System", "/etc", "/opt", "/proc/sys", "/snap", "/usr", "/var"].iter().any(|p| path.starts_with(p))
}

/// The user who called sudo, doas or pkexec; None if root itself did.
///
/// Errors: that user cannot be looked up. Going on as root is not what was asked for.
#[cfg(unix)]
fn caller(environment: &BTreeMap<String, String>) -> Result<Option<InvokingUser>> {
    let names = ["SUDO_UID", "PKEXEC_UID", "DOAS_USER"];
    let Some((variable, typed)) = names.iter().find_map(|n| Some((*n, environment.get(*n)?))) else { return Ok(None) };
    let unknown = |why: String| Error::Account { typed: format!("{typed} ({variable})"), why };
    if variable != "DOAS_USER" && typed.parse::<u32>().is_err() {
        return Err(unknown("it is not a user id".into()));
    }
    let known = platform::users::find(typed)?.ok_or_else(|| unknown("this system has no such account".into()))?;
    if known.uid == 0 {
        return Ok(None);
    }
    let groups = platform::users::groups(&known);
    platform::users::remember_invoking(known.uid);
    let rights = Effective { uid: known.uid, gid: known.gid, groups };
    Ok(Some(InvokingUser { name: known.name, uid: known.uid, gid: known.gid, home: known.home, rights }))
}

#[cfg(windows)]
fn caller(_: &BTreeMap<String, String>) -> Result<Option<InvokingUser>> {
    Ok(None)
}

/// As root, refuses a data directory that another account could change or replace, where it decides what we do.
pub fn refuse_if_open(machine: &Machine) -> Result<()> {
    if cfg!(unix) && platform::is_root() { machine.disk().refuse_if_replaceable(machine.data()) } else { Ok(()) }
}
