//! Firefox: a database in every profile of every kind of installation.

use super::chromium::{entry, in_database};
use super::{Blocker, Goal, Root, Scope, Store, StoreLocation};
use crate::plan::nss::Library;
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::Planned;
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

/// The store `firefox`.
pub struct Firefox;

/// Programs that have such profiles.
const BROWSERS: [&str; 3] = ["firefox", "firefox-esr", "librewolf"];

/// Where an installation keeps its own copy of the library, the first that is there.
const LIBRARIES: [&str; 7] = [
    "/usr/lib/firefox-esr",
    "/usr/lib/firefox",
    "/usr/lib64/firefox",
    "/opt/firefox",
    "/usr/lib/librewolf",
    "/snap/firefox/current/usr/lib/firefox",
    "/usr/local/firefox",
];

/// Folders with a `profiles.ini`, below the home: the old place, the one of sandboxed installations, and of relatives.
const PROFILES: [&str; 7] = [
    ".mozilla/firefox",
    "snap/firefox/common/.mozilla/firefox",
    ".var/app/org.mozilla.firefox/.mozilla/firefox",
    ".var/app/org.mozilla.firefox/config/mozilla/firefox",
    ".librewolf",
    ".var/app/io.gitlab.librewolf-community/.librewolf",
    ".thunderbird",
];

/// The copy of the library that an installed Firefox brought along; the system's where none is found.
pub fn library(look: &dyn Files) -> Library {
    let own = LIBRARIES.iter().map(Path::new).find(|f| look.exists(&f.join("libnss3.so")));
    own.map_or(Library::System, |f| Library::In(f.to_owned()))
}

/// Every profile of the person's, sorted, each once.
pub fn profiles(look: &dyn Look) -> Vec<PathBuf> {
    let home = look.home();
    let config = look.env("XDG_CONFIG_HOME").map_or_else(|| home.join(".config"), PathBuf::from);
    let roots = PROFILES.iter().map(|p| home.join(p)).chain([config.join("mozilla/firefox")]);
    let mut out: Vec<PathBuf> = Vec::new();
    for root in roots {
        let text = look.read(&root.join("profiles.ini")).unwrap_or_default();
        out.extend(named(&String::from_utf8_lossy(&text), &root).into_iter().filter(|p| look.exists(p)));
        // A profile that was made with -profile is in no list.
        out.extend(look.list(&root).iter().map(|n| root.join(n)).filter(|p| look.exists(&p.join("cert9.db"))));
    }
    out.sort();
    out.dedup();
    out
}

/// The profile that Firefox opens by itself: the one that an installation has chosen, else the first.
pub fn usual_profile(look: &dyn Look) -> Option<PathBuf> {
    let all = profiles(look);
    let home = look.home();
    let config = look.env("XDG_CONFIG_HOME").map_or_else(|| home.join(".config"), PathBuf::from);
    let roots = [home.join(PROFILES[0]), config.join("mozilla/firefox")];
    let chosen = roots.iter().find_map(|root| {
        let text = look.read(&root.join("profiles.ini"))?;
        let text = String::from_utf8_lossy(&text).into_owned();
        let section = text.split("[Install").nth(1)?;
        let default = section.lines().find_map(|l| l.trim().strip_prefix("Default="))?;
        Some(root.join(default)).filter(|p| all.contains(p))
    });
    let is_firefox = |p: &&PathBuf| !p.starts_with(home.join(".thunderbird"));
    chosen.or_else(|| all.iter().find(is_firefox).cloned())
}

/// The profiles that a `profiles.ini` names: in each section `[ProfileN]` a Path, below the file's directory or absolute.
fn named(text: &str, root: &Path) -> Vec<PathBuf> {
    let mut out = Vec::new();
    let (mut inside, mut path, mut relative) = (false, None::<String>, true);
    for line in text.lines().map(str::trim).chain(["[end]"]) {
        if line.starts_with('[') {
            if let (true, Some(path)) = (inside, path.take()) {
                out.push(if relative { root.join(path) } else { PathBuf::from(path) });
            }
            (inside, relative) = (line.starts_with("[Profile"), true);
        } else if let Some(value) = line.strip_prefix("Path=") {
            path = Some(value.to_owned());
        } else if let Some(value) = line.strip_prefix("IsRelative=") {
            relative = value != "0";
        }
    }
    out
}

impl Store for Firefox {
    fn id(&self) -> StoreId {
        StoreId::Firefox
    }

    fn scope(&self) -> Scope {
        Scope::User
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        let library = library(look);
        let found: Vec<StoreLocation> =
            profiles(look).into_iter().map(|p| profile(self.id(), look, &library, p)).collect();
        if !found.is_empty() || !BROWSERS.iter().any(|b| look.program(b).is_some()) {
            return found;
        }
        let place = look.home().join(PROFILES[0]);
        let hindrance = Some(Blocker {
            why: "Firefox is installed and has no profile yet".into(),
            remedy: "start Firefox once, then: tamga trust add --stores firefox".into(),
            absent: true,
        });
        vec![StoreLocation { store: self.id(), place, hindrance, entries: Vec::new(), guarded: false }]
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        in_database(goal, root, place, &library(look), look)
    }
}

fn profile(store: StoreId, look: &dyn Look, library: &Library, folder: PathBuf) -> StoreLocation {
    let mut place = StoreLocation { store, place: folder, hindrance: None, entries: Vec::new(), guarded: false };
    if look.exists(&place.place.join("cert9.db")) {
        match look.nss(&place.place, library) {
            Ok(seen) => {
                place.guarded = seen.guarded;
                place.entries = seen.entries.iter().filter_map(entry).collect();
            }
            Err(f) => place.hindrance = Some(Blocker { why: f.why, remedy: f.remedy, absent: false }),
        }
    }
    if place.hindrance.is_none() && !look.may_write(&place.place) {
        place.hindrance = Some(Blocker {
            why: "the profile may not be written".into(),
            remedy: format!("chmod u+w {}, then: tamga trust add --stores firefox", place.place.shown()),
            absent: false,
        });
    }
    place
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn profiles_are_read_from_the_list() {
        let text = "[Install4F96]\nDefault=a.default-esr\n\n[Profile1]\nName=default\nIsRelative=1\nPath=b.default\n\
                    [Profile0]\nPath=/srv/profile\nIsRelative=0\n[General]\nVersion=2\n";
        assert_eq!(named(text, Path::new("/r")), [PathBuf::from("/r/b.default"), "/srv/profile".into()]);
        assert!(named("Path=x", Path::new("/r")).is_empty());
    }
}
