//! The person's NSS database, from which Chromium on Linux takes added roots.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::pki::cert::Certificate;
use crate::plan::nss::{Library, NssAction, NssChange};
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use std::path::PathBuf;

/// The store `chromium`.
pub struct Chromium;

/// The directory that Chromium really reads: `~/.pki/nssdb` if that is there, else the one under the data home.
/// The first must never be made: it would hide what is in the second.
pub fn folder(look: &dyn Look) -> PathBuf {
    let old = look.home().join(".pki/nssdb");
    if look.exists(&old) {
        return old;
    }
    let data = look.env("XDG_DATA_HOME").map_or_else(|| look.home().join(".local/share"), PathBuf::from);
    data.join("pki/nssdb")
}

/// Programs that read this database.
const BROWSERS: [&str; 5] = ["chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "microsoft-edge"];

/// Homes, below the person's, of browsers that come in a box of their own (snap, flatpak), each with its database. From their packages'
/// documentation: neither kind runs here.
const BOXED: [&str; 4] = [
    "snap/chromium/current",
    ".var/app/org.chromium.Chromium",
    ".var/app/com.google.Chrome",
    ".var/app/com.microsoft.Edge",
];
/// Where the database lies in such a home.
const BOXED_FOLDER: &str = ".pki/nssdb";

impl Store for Chromium {
    fn id(&self) -> StoreId {
        StoreId::Chromium
    }

    fn scope(&self) -> Scope {
        Scope::User
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        if super::has_native(look) {
            return Vec::new();
        }
        let installed = BROWSERS.iter().any(|b| look.program(b).is_some());
        let boxed =
            BOXED.map(|b| look.home().join(b)).into_iter().filter(|b| look.exists(b)).map(|b| b.join(BOXED_FOLDER));
        let mut places = vec![at(self.id(), folder(look), installed, look)];
        places.extend(boxed.map(|folder| at(self.id(), folder, true, look)));
        places
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        in_database(goal, root, place, &Library::System, look)
    }
}

/// One database.
fn at(store: StoreId, folder: PathBuf, installed: bool, look: &dyn Look) -> StoreLocation {
    let mut place =
        StoreLocation { store, place: folder.clone(), hindrance: None, entries: Vec::new(), guarded: false };
    if !look.exists(&folder.join("cert9.db")) {
        if !installed {
            place.hindrance = Some(Blocker {
                why: "no browser that uses this store is installed".into(),
                remedy: "nothing to do until one is installed: then tamga trust add".into(),
                absent: true,
            });
        }
        return place;
    }
    match look.nss(&folder, &Library::System) {
        Ok(seen) => {
            place.guarded = seen.guarded;
            place.entries = seen.entries.iter().filter_map(entry).collect();
        }
        Err(failure) => {
            place.hindrance = Some(Blocker { why: failure.why, remedy: failure.remedy, absent: false });
        }
    }
    place
}

/// The steps that bring a root into an NSS database or out of it.
pub(super) fn in_database(
    goal: Goal,
    root: &Root,
    place: &StoreLocation,
    library: &Library,
    look: &dyn Files,
) -> Vec<Planned> {
    let der = root.certificate.der().to_vec();
    let found: Vec<&Entry> = place.entries.iter().filter(|e| e.certificate == root.certificate).collect();
    let change = |action| Step::Database(NssChange { folder: place.place.clone(), library: library.clone(), action });
    match goal {
        Goal::Add if found.iter().any(|e| e.trusted) => Vec::new(),
        Goal::Add => {
            let mut steps = Vec::new();
            if !look.exists(&place.place) {
                steps.push(Planned::plain(Step::Folder { path: place.place.clone(), mode: 0o700 }));
            }
            let undo = if found.is_empty() { vec![change(NssAction::Remove { der: der.clone() })] } else { Vec::new() };
            steps.push(Planned { step: change(NssAction::Add { der, nickname: root.mark() }), undo });
            steps
        }
        Goal::Remove if found.is_empty() => Vec::new(),
        Goal::Remove => vec![Planned::plain(change(NssAction::Remove { der }))],
    }
}

/// An object of a database as an entry; an identity, which has its key there, is no root.
pub(super) fn entry(e: &crate::plan::nss::NssEntry) -> Option<Entry> {
    if e.has_key() {
        return None;
    }
    Some(Entry {
        certificate: Certificate::read_any(&e.der)?,
        mark: Some(e.nickname.clone()),
        trusted: e.is_trusted(),
        distrusted: e.is_distrusted(),
        flaw: None,
    })
}
