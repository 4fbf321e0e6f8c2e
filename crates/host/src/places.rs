//! Every path on this machine, under one overridable root; and whose person we act for.

use crate::error::{Error, Result};
use crate::fs::{self, Allowed, Dir};
use crate::platform::{self, Effective};
use crate::rights::Acting;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock};
use tamga_core::moment::Moment;
use tamga_core::native::{NativeEntry, StoreName};
use tamga_core::nss::{Library, NssFailure, NssView};
use tamga_core::ports::Look;
use tamga_core::secret::Passphrase;
use tamga_core::step::Invocation;

/// Another root for the machine's own paths (`/etc`, `/opt`, `/snap`, `/usr`, `/var`): for tests, the demonstration and images.
pub const ROOT_VARIABLE: &str = "TAMGA_ROOT";
/// The data folder.
pub const DATA_VARIABLE: &str = "TAMGA_DATA_DIR";

/// Where the programs of the system lie: what runs as root is looked for here, never where a user's `PATH` leads.
const SYSTEM_DIRECTORIES: [&str; 5] = ["/usr/sbin", "/usr/bin", "/sbin", "/bin", "/run/current-system/sw/bin"];

/// The user who called sudo, doas or pkexec.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Person {
    /// Account name.
    pub name: String,
    /// User id.
    pub uid: u32,
    /// Group id.
    pub gid: u32,
    /// Home folder.
    pub home: PathBuf,
    /// What the user's own processes act with.
    pub rights: Effective,
}

/// This machine as we may see and change it.
#[derive(Clone, Debug)]
pub struct Machine {
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
    pub person: Option<Person>,
}

impl Machine {
    /// Reads the environment. `data_dir` is the option of the command line.
    ///
    /// Called through sudo, doas or pkexec without a data folder named, it gives up root's rights for the person's:
    /// they come back only for single steps on the machine's own stores. With one named it keeps them, but touches
    /// what lies in the person's home as that person.
    pub fn from_environment(data_dir: Option<PathBuf>) -> Result<Machine> {
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
        let machine = Machine { root, home, data, environment, password, raiser, image: false, own_root, person };
        // A data folder that was named is used with the rights that were given for it.
        if let Some(p) = machine.person.as_ref().filter(|_| own_data) {
            platform::become_user(&p.rights).map_err(Error::file("acting for the owner of", &p.home))?;
        }
        Ok(machine)
    }

    /// The data folder.
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
        let Ok(root) = std::fs::canonicalize(root) else { return Ok(()) };
        // The nearest folder that is there: what is made below it lies in it.
        let folder = real.ancestors().skip(1).find_map(|p| std::fs::canonicalize(p).ok()).unwrap_or_default();
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
            Some(root) if program == tamga_core::trust::system::COMMAND => {
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
        self.person.is_some() || platform::is_root() || self.root.as_ref().is_some_and(|r| platform::may_write(r))
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
            return Some(self.real(typed)).filter(|p| platform::may_run(p));
        }
        if let Some(image) = self.root.as_ref().filter(|_| self.image) {
            let inside = SYSTEM_DIRECTORIES.iter().find_map(|d| platform::program_in(&under(image, d), name));
            // Debian's command of this machine works on an image without running anything of it.
            let ours = [tamga_core::trust::system::COMMAND, "chroot"].contains(&name);
            if !ours || inside.is_none() && name != "chroot" {
                return inside;
            }
        }
        // Under another root, its own programs come first, if nobody else could have put them there.
        let safe = |d: &PathBuf| Dir::open_checked(d, Allowed::Ours).is_ok();
        let own = self.own_root.iter().flat_map(|root| SYSTEM_DIRECTORIES.iter().map(move |d| under(root, d)));
        own.filter(safe)
            .chain(SYSTEM_DIRECTORIES.map(PathBuf::from))
            .find_map(|directory| platform::program_in(&directory, name))
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
fn caller(environment: &BTreeMap<String, String>) -> Result<Option<Person>> {
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
    Ok(Some(Person { name: known.name, uid: known.uid, gid: known.gid, home: known.home, rights }))
}

#[cfg(windows)]
fn caller(_: &BTreeMap<String, String>) -> Result<Option<Person>> {
    Ok(None)
}

impl Look for Machine {
    fn read(&self, path: &Path) -> Option<Vec<u8>> {
        fs::read_regular(&self.real(path)).ok().map(|bytes| bytes.to_vec())
    }

    fn list(&self, folder: &Path) -> Vec<String> {
        let mut names: Vec<String> = std::fs::read_dir(self.real(folder))
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|e| e.file_name().into_string().ok())
            .collect();
        names.sort();
        names
    }

    fn exists(&self, path: &Path) -> bool {
        self.real(path).exists()
    }

    fn link(&self, path: &Path) -> Option<PathBuf> {
        std::fs::read_link(self.real(path)).ok()
    }

    fn resolved(&self, path: &Path) -> PathBuf {
        let Ok(real) = std::fs::canonicalize(self.real(path)).map(platform::plain) else { return path.to_owned() };
        match &self.root {
            // As programs name it, if it lies under the other root.
            Some(root) => match real.strip_prefix(std::fs::canonicalize(root).unwrap_or_else(|_| root.clone())) {
                Ok(inside) => Path::new("/").join(inside),
                Err(_) => real,
            },
            None => real,
        }
    }

    fn may_write(&self, folder: &Path) -> bool {
        platform::may_write(&self.real(folder)) || self.raiser_for(folder).is_some()
    }

    fn env(&self, name: &str) -> Option<String> {
        self.environment.get(name).cloned()
    }

    fn home(&self) -> PathBuf {
        self.home.clone()
    }

    fn program(&self, name: &str) -> Option<PathBuf> {
        if name.contains('/') {
            return Some(self.real(Path::new(name))).filter(|p| p.exists());
        }
        if let Some(root) = self.root.as_ref().filter(|_| self.image) {
            // Debian's command of this machine works on an image without running anything of it.
            let own = ["usr/sbin", "usr/bin", "usr/local/bin", "sbin", "bin"];
            let ours = [tamga_core::trust::system::COMMAND, "chroot"].contains(&name);
            let inside = own.iter().find_map(|f| platform::program_in(&root.join(f), name));
            if !ours || inside.is_none() && name != "chroot" {
                return inside;
            }
        }
        // As root for somebody else, nothing is started that only that user's path leads to.
        if self.person.is_some() && platform::is_root() {
            let directories = ["/usr/local/sbin", "/usr/local/bin"].iter().chain(&SYSTEM_DIRECTORIES);
            return directories.map(Path::new).find_map(|d| platform::program_in(d, name));
        }
        let path = self.environment.get("PATH").cloned().unwrap_or_default();
        // The commands of the system's store lie where a person's PATH often does not reach.
        std::env::split_paths(&path)
            .chain(["/usr/sbin", "/sbin"].map(PathBuf::from))
            .find_map(|folder| platform::program_in(&folder, name))
    }

    fn store_password(&self) -> Option<Passphrase> {
        self.password()
    }

    fn now(&self) -> Moment {
        crate::entropy::now()
    }

    fn has_rights(&self) -> bool {
        self.acts_as_root() || self.raiser.get().is_some()
    }

    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<Result<Vec<u8>, String>> {
        crate::process::ask(self, invocation, answers_in_file)
    }

    fn kept_certificates(&self, file: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
        let real = self.real(file);
        if real.exists() { rows(&real).unwrap_or_default() } else { Vec::new() }
    }

    fn native(&self, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>> {
        #[cfg(windows)]
        return Some(platform::list_store(store).map_err(|e| e.to_string()));
        #[cfg(not(windows))]
        {
            let _ = store;
            None
        }
    }

    fn nss(&self, folder: &Path, library: &Library) -> Result<NssView, NssFailure> {
        crate::nss::list(self, folder, library)
    }
}

/// The rows of a browser's own table. As a file that nobody changes: a browser that runs holds the real lock, and is not disturbed.
fn rows(file: &Path) -> rusqlite::Result<Vec<(Vec<u8>, Vec<u8>)>> {
    use rusqlite::OpenFlags;
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"/._-:\\".contains(&b);
    let name: String = file
        .as_os_str()
        .as_encoded_bytes()
        .iter()
        .map(|b| if plain(*b) { char::from(*b).to_string() } else { format!("%{b:02x}") })
        .collect();
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI;
    let db = rusqlite::Connection::open_with_flags(format!("file:{name}?immutable=1"), flags)?;
    let mut query = db.prepare("SELECT der_cert, trust_settings FROM certificates")?;
    query.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}

/// As root, refuses a data directory that another account could change or replace, where it decides what we do.
pub fn refuse_if_open(machine: &Machine) -> Result<()> {
    if cfg!(unix) && platform::is_root() { refuse_if_replaceable(machine.data()) } else { Ok(()) }
}

/// Refuses a directory that another account than root, ours and the invoking user could change or replace; one that is still to be
/// made, if its nearest existing parent is such.
pub fn refuse_if_replaceable(path: &Path) -> Result<()> {
    let whole = std::path::absolute(path).map_err(Error::file("finding", path))?;
    for directory in whole.ancestors() {
        match Dir::open_checked(directory, Allowed::Ours) {
            Err(Error::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {}
            other => return other.map(drop),
        }
    }
    Ok(())
}
