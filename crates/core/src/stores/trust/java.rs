//! The trust store of every JVM, JKS or PKCS#12, by our own code: no JVM is started.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::error::{Diagnostic, Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::format::contents::{Contents, Named};
use crate::pki::format::{jks, pkcs12};
use crate::plan::ports::Environment;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};
use zeroize::Zeroizing;

/// The store `java`: the JVMs of the machine, or those in the person's home.
pub struct Java(pub Scope);

/// Folders whose directories are JVMs.
const OF_MACHINE: [&str; 6] =
    ["/usr/lib/jvm", "/usr/lib64/jvm", "/usr/java", "/usr/local/java", "/usr/local/lib/jvm", "/opt"];
/// The same below the home.
const OF_PERSON: [&str; 6] = [
    ".sdkman/candidates/java",
    ".jdks",
    ".asdf/installs/java",
    ".local/share/mise/installs/java",
    ".jabba/jdk",
    ".gradle/jdks",
];
/// Where a JVM keeps its trusted certificates, now and before version 9.
const STORES: [&str; 2] = ["lib/security/cacerts", "jre/lib/security/cacerts"];

/// Every trust store of a JVM, where links end, sorted, each once; with true for those of the machine.
pub fn stores(look: &dyn Look) -> Vec<(PathBuf, bool)> {
    let home = look.home();
    let mut folders: Vec<PathBuf> = Vec::new();
    for root in OF_MACHINE.iter().map(PathBuf::from).chain(OF_PERSON.iter().map(|p| home.join(p))) {
        folders.extend(look.list(&root).into_iter().map(|n| root.join(n)));
    }
    folders.extend(look.env("JAVA_HOME").map(PathBuf::from));
    let mut out: Vec<(PathBuf, bool)> = Vec::new();
    for folder in folders {
        for store in STORES {
            let file = look.resolved(&folder.join(store));
            if look.exists(&file) {
                let machine = !file.starts_with(&home);
                out.push((file, machine));
            }
        }
    }
    out.sort();
    out.dedup();
    out
}

/// The store of the JVM that `java` starts, else of JAVA_HOME's, else the first that is found.
pub fn usual_store(look: &dyn Look) -> Option<PathBuf> {
    let all = stores(look);
    let started = look.program("java").map(|p| look.resolved(&p));
    let homes = started.iter().filter_map(|p| p.parent()?.parent().map(Path::to_owned));
    let homes = homes.chain(look.env("JAVA_HOME").map(PathBuf::from));
    let mut own = homes.flat_map(|h| STORES.map(|s| look.resolved(&h.join(s))));
    own.find(|f| all.iter().any(|(s, _)| s == f)).or_else(|| all.first().map(|(f, _)| f.clone()))
}

/// The variable, and the store to which it leads every JVM in place of its own.
pub fn named_store(look: &dyn Environment) -> Option<(&'static str, PathBuf)> {
    ["JAVA_TOOL_OPTIONS", "JDK_JAVA_OPTIONS"].into_iter().find_map(|name| {
        let value = look.env(name)?;
        let file = value.split_whitespace().find_map(|w| w.strip_prefix("-Djavax.net.ssl.trustStore="))?;
        Some((name, PathBuf::from(file)))
    })
}

/// What a JVM that reads this store trusts. Errors: it is none, or its passphrase is another than the usual one.
pub fn trusted(look: &dyn Look, file: &Path) -> Result<Vec<Certificate>> {
    let bytes = look.read(file).unwrap_or_default();
    Ok(entries(contents(&bytes, look)?).into_iter().map(|e| e.certificate).collect())
}

/// A store, opened with the usual passphrase or with none.
fn contents(bytes: &[u8], look: &dyn Look) -> Result<Contents> {
    match jks::is_one(bytes) {
        true => opened(bytes, look).or_else(|_| jks::read(bytes, None, "it")),
        false => pkcs12::read(bytes, None, "it").or_else(|_| pkcs12::read(bytes, Some(&password(look)), "it")),
    }
}

impl Store for Java {
    fn id(&self) -> StoreId {
        StoreId::Java
    }

    fn scope(&self) -> Scope {
        self.0
    }

    fn survey(&self, look: &dyn Look, _: &[PathBuf]) -> Vec<StoreLocation> {
        stores(look)
            .into_iter()
            .filter(|(_, machine)| *machine == (self.0 == Scope::Machine))
            .map(|(file, machine)| self.place(look, file, machine))
            .collect()
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        let stands = place.entries.iter().any(|e| e.certificate == root.certificate);
        if place.hindrance.is_some() || stands == (goal == Goal::Add) {
            return Vec::new();
        }
        let Some(before) = look.read(&place.place) else { return Vec::new() };
        match edited(&before, goal, root, look) {
            Ok(after) => {
                let write = |bytes| Step::Write { path: place.place.clone(), bytes, mode: 0o644 };
                vec![Planned { step: write(after), undo: vec![write(before)] }]
            }
            // The survey said already why it cannot be changed.
            Err(_) => Vec::new(),
        }
    }
}

impl Java {
    fn place(&self, look: &dyn Look, file: PathBuf, machine: bool) -> StoreLocation {
        let bytes = look.read(&file);
        let mut place =
            StoreLocation { store: StoreId::Java, place: file, hindrance: None, entries: Vec::new(), guarded: false };
        let Some(bytes) = bytes else {
            place.hindrance = Some(hindered("it cannot be read", "see that its mode is 0644".into()));
            return place;
        };
        match contents(&bytes, look) {
            Ok(contents) => place.entries = entries(contents),
            Err(e) => {
                place.hindrance = Some(hindered(&e.why(), "move it away and install the JVM's package again".into()));
                return place;
            }
        }
        if let Some(why) = closed(&bytes, look) {
            place.guarded = true;
            let remedy = "give the store's passphrase: tamga trust add --stores java --passphrase-file FILE".into();
            place.hindrance = Some(hindered(&why, remedy));
        } else if !look.may_write(place.place.parent().unwrap_or(Path::new("/"))) {
            let remedy = match machine {
                true => "sudo tamga trust add --stores java".into(),
                false => format!("chmod u+w {}", place.place.shown()),
            };
            place.hindrance = Some(hindered("it may not be written: root's rights are needed", remedy));
        }
        if machine && place.hindrance.is_some() && look.has_rights() && !place.guarded {
            place.hindrance = None;
        }
        place
    }
}

fn hindered(why: &str, remedy: String) -> Blocker {
    Blocker { why: why.to_owned(), remedy, absent: false }
}

/// What the person gave, else the one that JVMs come with.
fn password(look: &dyn Environment) -> Passphrase {
    look.store_password().unwrap_or_else(usual)
}

fn usual() -> Passphrase {
    Passphrase::new(Zeroizing::new(jks::USUAL.as_bytes().to_vec()))
}

/// A JKS store by the usual passphrase, else by the one that was given.
fn opened(bytes: &[u8], look: &dyn Look) -> Result<Contents> {
    jks::read(bytes, Some(&usual()), "it").or_else(|_| jks::read(bytes, Some(&password(look)), "it"))
}

/// Why its passphrase does not open it, if so.
fn closed(bytes: &[u8], look: &dyn Look) -> Option<String> {
    let given = look.store_password().is_some();
    let shut = match jks::is_one(bytes) {
        true => opened(bytes, look).is_err(),
        // A store that is guarded by a passphrase is none of a JVM's own: those open without any.
        false => pkcs12::without(bytes, &[]).is_err(),
    };
    shut.then(
        || if given { "the passphrase is wrong".into() } else { "it has another passphrase than changeit".into() },
    )
}

fn edited(before: &[u8], goal: Goal, root: &Root, look: &dyn Look) -> Result<Vec<u8>> {
    let der = root.certificate.der();
    let named = Named { alias: Some(root.mark()), thing: der.to_vec() };
    if !jks::is_one(before) {
        return match goal {
            Goal::Add => pkcs12::with(before, &named),
            Goal::Remove => pkcs12::without(before, der),
        };
    }
    let attempt = |p: &Passphrase| match goal {
        Goal::Add => jks::with(before, p, &named, look.now()),
        Goal::Remove => jks::without(before, p, der),
    };
    match attempt(&usual()) {
        Err(Error::PassphraseWrong { .. }) => attempt(&password(look)),
        other => other,
    }
}

fn entries(contents: Contents) -> Vec<Entry> {
    contents
        .certificates
        .into_iter()
        .filter_map(|named| {
            let certificate = Certificate::read_any(&named.thing)?;
            Some(Entry { certificate, mark: named.alias, trusted: true, distrusted: false, flaw: None })
        })
        .collect()
}
