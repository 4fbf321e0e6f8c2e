//! A machine in memory for the targets: files, and what its programs answer. Included by those that survey stores.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::plan::native::{NativeEntry, StoreName};
use tamga_core::plan::nss::{Library, NssFailure, NssView};
use tamga_core::plan::ports::{BrowserDatabases, Commands, Entropy, Environment, Files, NativeStores};
use tamga_core::plan::step::Invocation;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(Default)]
pub struct Machine {
    pub files: BTreeMap<PathBuf, Vec<u8>>,
    pub answer: Vec<u8>,
}

impl Files for Machine {
    fn read(&self, path: &Path) -> Option<Vec<u8>> {
        self.files.get(path).cloned()
    }
    fn list(&self, folder: &Path) -> Vec<String> {
        let inside = self.files.keys().filter_map(|p| p.strip_prefix(folder).ok()?.iter().next());
        inside.map(|n| n.to_string_lossy().into_owned()).collect()
    }
    fn exists(&self, path: &Path) -> bool {
        self.files.keys().any(|p| p.starts_with(path))
    }
    fn link(&self, _: &Path) -> Option<PathBuf> {
        None
    }
    fn resolved(&self, path: &Path) -> PathBuf {
        path.to_owned()
    }
    fn may_write(&self, _: &Path) -> bool {
        true
    }
}

impl Environment for Machine {
    fn env(&self, _: &str) -> Option<String> {
        None
    }
    fn home(&self) -> PathBuf {
        "/home/operator".into()
    }
    fn store_password(&self) -> Option<Passphrase> {
        None
    }
    fn now(&self) -> Timestamp {
        Timestamp::from_unix(1_795_600_000)
    }
    fn has_rights(&self) -> bool {
        true
    }
}

impl Commands for Machine {
    fn program(&self, name: &str) -> Option<PathBuf> {
        Some(Path::new("/usr/bin").join(name))
    }
    fn ask(&self, _: &Invocation, _: bool) -> Option<Result<Vec<u8>, String>> {
        Some(Ok(self.answer.clone()))
    }
}

impl BrowserDatabases for Machine {
    fn nss(&self, _: &Path, _: &Library) -> Result<NssView, NssFailure> {
        Ok(NssView::default())
    }
    fn kept_certificates(&self, _: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
        Vec::new()
    }
}

impl NativeStores for Machine {
    fn native(&self, _: &StoreName) -> Option<Result<Vec<NativeEntry>, String>> {
        None
    }
}

struct Same;

impl Entropy for Same {
    fn fill(&self, into: &mut [u8]) {
        for (n, b) in into.iter_mut().enumerate() {
            *b = (n as u8).wrapping_mul(37).wrapping_add(11);
        }
    }
}

/// Some root.
pub fn root() -> &'static tamga_core::stores::trust::Root {
    use tamga_core::ca::authority::create::{self, Request};
    use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
    static ROOT: std::sync::OnceLock<tamga_core::stores::trust::Root> = std::sync::OnceLock::new();
    ROOT.get_or_init(|| {
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Same).unwrap();
        let label = tamga_core::vocabulary::label::Label::from_str("saltmarsh").unwrap();
        let now = Timestamp::from_unix(1_795_600_000);
        let made = create::root(&Request::plain(label), &key, "x".into(), now, &Same).unwrap();
        tamga_core::stores::trust::Root { label: "saltmarsh".parse().unwrap(), certificate: made.authority.certificate }
    })
}

/// What a plan writes to a path, if it writes it.
pub fn written(plan: &[tamga_core::plan::step::Planned], path: &Path) -> Option<Vec<u8>> {
    use tamga_core::plan::step::Step;
    plan.iter().find_map(|p| match &p.step {
        Step::Write { path: to, bytes, .. } if to == path => Some(bytes.clone()),
        _ => None,
    })
}
