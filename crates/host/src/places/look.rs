//! A look at this machine that changes nothing.

use super::{Machine, SYSTEM_DIRECTORIES};
use crate::platform;
use std::path::{Path, PathBuf};
use tamga_core::plan::native::{NativeEntry, StoreName};
use tamga_core::plan::nss::{Library, NssEntry, NssFailure, NssView};
use tamga_core::plan::ports::{BrowserDatabases, Commands, Environment, Files, NativeStores};
use tamga_core::plan::step::Invocation;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;

impl Files for Machine {
    fn read(&self, path: &Path) -> Option<Vec<u8>> {
        self.disk.read(&self.real(path)).ok().map(|bytes| bytes.to_vec())
    }

    fn list(&self, folder: &Path) -> Vec<String> {
        let names = self.disk.list(&self.real(folder)).unwrap_or_default();
        names.into_iter().filter_map(|n| n.into_string().ok()).collect()
    }

    fn exists(&self, path: &Path) -> bool {
        self.disk.exists(&self.real(path))
    }

    fn link(&self, path: &Path) -> Option<PathBuf> {
        self.disk.link(&self.real(path)).ok()
    }

    fn resolved(&self, path: &Path) -> PathBuf {
        let Ok(real) = self.disk.resolved(&self.real(path)) else { return path.to_owned() };
        match &self.root {
            // As programs name it, if it lies under the other root.
            Some(root) => match real.strip_prefix(self.disk.resolved(root).unwrap_or_else(|_| root.clone())) {
                Ok(inside) => Path::new("/").join(inside),
                Err(_) => real,
            },
            None => real,
        }
    }

    fn may_write(&self, folder: &Path) -> bool {
        self.disk.may_write(&self.real(folder)) || self.raiser_for(folder).is_some()
    }
}

impl Environment for Machine {
    fn env(&self, name: &str) -> Option<String> {
        self.environment.get(name).cloned()
    }

    fn home(&self) -> PathBuf {
        self.home.clone()
    }

    fn store_password(&self) -> Option<Passphrase> {
        self.password()
    }

    fn now(&self) -> Timestamp {
        crate::entropy::now()
    }

    fn has_rights(&self) -> bool {
        self.acts_as_root() || self.raiser.get().is_some()
    }
}

impl Commands for Machine {
    fn program(&self, name: &str) -> Option<PathBuf> {
        if name.contains('/') {
            return Some(self.real(Path::new(name))).filter(|p| self.disk.exists(p));
        }
        if let Some(root) = self.root.as_ref().filter(|_| self.image) {
            // Debian's command of this machine works on an image without running anything of it.
            let own = ["usr/sbin", "usr/bin", "usr/local/bin", "sbin", "bin"];
            let ours = [tamga_core::stores::trust::system::COMMAND, "chroot"].contains(&name);
            let inside = own.iter().find_map(|f| self.disk.program_in(&root.join(f), name));
            if !ours || inside.is_none() && name != "chroot" {
                return inside;
            }
        }
        // As root for somebody else, nothing is started that only that user's path leads to.
        if self.person.is_some() && platform::is_root() {
            let directories = ["/usr/local/sbin", "/usr/local/bin"].iter().chain(&SYSTEM_DIRECTORIES);
            return directories.map(Path::new).find_map(|d| self.disk.program_in(d, name));
        }
        let path = self.environment.get("PATH").cloned().unwrap_or_default();
        // The commands of the system's store lie where a person's PATH often does not reach.
        std::env::split_paths(&path)
            .chain(["/usr/sbin", "/sbin"].map(PathBuf::from))
            .find_map(|folder| self.disk.program_in(&folder, name))
    }

    fn ask(&self, invocation: &Invocation, answers_in_file: bool) -> Option<Result<Vec<u8>, String>> {
        crate::process::ask(self, invocation, answers_in_file)
    }
}

impl BrowserDatabases for Machine {
    fn kept_certificates(&self, file: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
        let real = self.real(file);
        if self.disk.exists(&real) { rows(&real).unwrap_or_default() } else { Vec::new() }
    }

    fn nss(&self, folder: &Path, library: &Library) -> Result<NssView, NssFailure> {
        crate::nss::list(self, folder, library)
    }

    fn nss_trust(&self, folder: &Path, library: &Library) -> Result<Vec<NssEntry>, NssFailure> {
        crate::nss::trust(self, folder, library)
    }
}

impl NativeStores for Machine {
    fn native(&self, store: &StoreName) -> Option<Result<Vec<NativeEntry>, String>> {
        #[cfg(windows)]
        return Some(platform::list_store(store).map_err(|e| e.to_string()));
        #[cfg(not(windows))]
        {
            let _ = store;
            None
        }
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
