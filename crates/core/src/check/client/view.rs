//! What each client trusts on this machine, with the stores, settings and variables as they are.

use super::gnutls;
use super::reader::{self, Reader};
use crate::check::verify::openssl::text::canonical;
use crate::error::Diagnostic;
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::plan::nss::Library;
use crate::plan::ports::Look;
use crate::stores::trust::chromium_policy::ChromiumPolicy;
use crate::stores::trust::chromium_profile::{self, Said};
use crate::stores::trust::firefox_policy::FirefoxPolicy;
use crate::stores::trust::{
    Scope, Store, StoreLocation, chromium as nssdb, firefox as profiles, java as java_store, macos, system, windows,
};
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::text::Shown;
use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// Why the roots of a client could not be read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unreadable {
    /// The client itself gives up, in these words.
    Refuses(String),
    /// Only we cannot: its answer is unknown.
    Unknown(String),
}

/// A client's eyes.
#[derive(Clone, Debug, Default)]
pub struct TrustView {
    /// The roots that it trusts.
    pub anchors: Vec<Certificate>,
    /// SHA-256 of what it distrusts.
    pub distrusted: Vec<Sha256Fingerprint>,
    /// SHA-256 of public keys that it distrusts.
    pub distrusted_keys: Vec<Sha256Fingerprint>,
    /// Where they were read.
    pub sources: Vec<PathBuf>,
    /// Variables and settings that change its answer.
    pub findings: Vec<Finding>,
    /// Why its roots could not be read, and what follows.
    pub unreadable: Option<Unreadable>,
    /// True if the client is not at home on this system: what is said of it rests on what its makers published.
    pub documented: bool,
    /// Made when it is asked for first.
    index: OnceLock<Index>,
}

impl TrustView {
    /// These roots, from these files, for every client.
    pub fn given(anchors: Vec<Certificate>, sources: Vec<PathBuf>) -> TrustView {
        TrustView { anchors, sources, ..TrustView::default() }
    }

    /// True if the client distrusts this, or its key.
    pub fn distrusts(&self, c: &Certificate) -> bool {
        self.distrusted.contains(&c.sha256()) || self.distrusted_keys.contains(&c.key.fingerprint())
    }

    /// The roots that can have to do with a chain, in their order: those with the name of an issuer or of a certificate in it, and those
    /// above them. No client's answer depends on another one.
    pub fn near(&self, chain: &Around) -> Vec<Certificate> {
        let index = self.index.get_or_init(|| {
            let mut index = Index::default();
            for (i, a) in self.anchors.iter().enumerate() {
                index.places.entry(folded(&a.subject)).or_default().push(i);
                index.issuers.push(folded(&a.issuer));
            }
            index
        });
        let mut names: Vec<&[u8]> = chain.0.iter().map(Vec::as_slice).collect();
        let mut found = BTreeSet::new();
        while let Some(name) = names.pop() {
            for i in index.places.get(name).into_iter().flatten() {
                if found.insert(*i) {
                    names.push(&index.issuers[*i]);
                }
            }
        }
        found.into_iter().map(|i| self.anchors[i].clone()).collect()
    }
}

/// Where the roots of a name stand, and what each names as its issuer.
#[derive(Clone, Debug, Default)]
struct Index {
    places: HashMap<Vec<u8>, Vec<usize>>,
    issuers: Vec<Vec<u8>>,
}

/// The names in a chain by which its roots are found: the same for every client.
pub struct Around(BTreeSet<Vec<u8>>);

impl Around {
    /// Of these certificates.
    pub fn of<'a>(chain: impl Iterator<Item = &'a Certificate>) -> Around {
        Around(chain.flat_map(|c| [folded(&c.issuer), folded(&c.subject)]).collect())
    }
}

/// A name as no client tells it apart: one that compares more strictly finds its roots among these too.
fn folded(name: &[u8]) -> Vec<u8> {
    String::from_utf8_lossy(&canonical(name)).to_lowercase().into_bytes()
}

/// The stores of a Mac.
pub(super) fn safari(r: &Reader<'_>) -> TrustView {
    native_or_all(r, &[&macos::Macos(Scope::User), &macos::Macos(Scope::Machine)])
}

/// The stores of Windows.
pub(super) fn windows(r: &Reader<'_>) -> TrustView {
    native_or_all(r, &[&windows::Windows(Scope::User), &windows::Windows(Scope::Machine)])
}

/// Everything that is a root to anyone here.
pub(super) fn everything(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    add_file(&mut view, r, &system::bundle(look));
    let browser = chromium(r);
    view.sources.extend(browser.sources);
    let (curl, firefox) = (curl(r), firefox(r));
    view.sources.extend(firefox.sources);
    reader::add(&mut view.anchors, browser.anchors.into_iter().chain(curl.anchors).chain(firefox.anchors));
    view
}

/// A client of another system: there by its stores; elsewhere as if it had every root that stands here.
fn native_or_all(r: &Reader<'_>, stores: &[&dyn Store]) -> TrustView {
    let mut view = TrustView::default();
    for place in stores.iter().flat_map(|s| s.survey(r.look, &[])) {
        add_place(&mut view, place);
    }
    if view.sources.is_empty() { TrustView { documented: true, ..everything(r) } } else { view }
}

/// The store of the JVM that `java` starts, or the one to which a variable leads it; a file that is absent counts for nothing
/// (measured with OpenJDK 17).
pub(super) fn java(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    let named = java_store::named_store(look);
    if let Some((name, path)) = &named {
        overridden(&mut view, name, path);
    }
    let named = named.map(|(_, path)| path).filter(|p| look.exists(p));
    let Some(file) = named.or_else(|| java_store::usual_store(look)) else { return view };
    match java_store::trusted(look, &file) {
        Ok(roots) => view.anchors = roots,
        Err(e) => view.unreadable = Some(Unreadable::Unknown(format!("{}: {}", file.shown(), e.why()))),
    }
    view.sources.push(file);
    view
}

/// The bundle and every file of the directory; each variable replaces its own half (measured with 1.19).
pub(super) fn go(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    let file = look.env("SSL_CERT_FILE").map_or_else(|| system::bundle(look), PathBuf::from);
    let folders = look.env("SSL_CERT_DIR").unwrap_or_else(|| system::LINKS.into());
    for (name, path) in [("SSL_CERT_FILE", &file), ("SSL_CERT_DIR", &PathBuf::from(&folders))] {
        if look.env(name).is_some() {
            overridden(&mut view, name, path);
        }
    }
    add_file(&mut view, r, &file);
    for folder in folders.split(':').map(PathBuf::from) {
        view.sources.push(folder.clone());
        add_named(&mut view, r, &folder, &look.list(&folder));
    }
    view
}

/// The bundle, and what wget's own settings add (measured with wget 1.21).
pub(super) fn by_wget(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    add_file(&mut view, r, &system::bundle(look));
    let settings = gnutls::settings(look);
    if let Some(file) = &settings.file {
        add_file(&mut view, r, file);
    }
    if settings.looks_away {
        let from = settings.from.shown();
        view.findings.push(
            Finding::new(Code::VerificationOff, from.to_string())
                .with_summary(format!("{from} says \"check_certificate = off\": wget accepts anything"))
                .with_remedy(format!("delete the line \"check_certificate\" from {from}")),
        );
    }
    view
}

/// curl's tool reads CURL_CA_BUNDLE, else SSL_CERT_DIR, else SSL_CERT_FILE; a file replaces only the file half of its
/// defaults, a directory only the directory half (measured with 7.88).
pub(super) fn curl(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    let (mut file, mut folder) = (system::bundle(look), PathBuf::from(system::LINKS));
    let from = |name: &str| look.env(name).map(|v| (name.to_owned(), PathBuf::from(v)));
    if let Some((name, path)) = from("CURL_CA_BUNDLE") {
        overridden(&mut view, &name, &path);
        file = path;
    } else if let Some((name, path)) = from("SSL_CERT_DIR") {
        overridden(&mut view, &name, &path);
        folder = path;
    } else if let Some((name, path)) = from("SSL_CERT_FILE") {
        overridden(&mut view, &name, &path);
        file = path;
    }
    add_file(&mut view, r, &file);
    // Absent or without any certificate: curl gives up before it connects (measured).
    if view.anchors.is_empty() && file != system::bundle(look) {
        let words = format!("(77) error setting certificate file: {}", file.shown());
        view.unreadable = Some(Unreadable::Refuses(words));
    }
    add_folder(&mut view, r, &folder);
    let settings = look.home().join(".curlrc");
    if let Some(text) = look.read(&settings) {
        let off = String::from_utf8_lossy(&text)
            .lines()
            .map(|l| l.trim().trim_start_matches("--"))
            .any(|l| matches!(l.split([' ', '=', ':']).next(), Some("insecure" | "-k")));
        if off {
            view.findings.push(
                Finding::new(Code::VerificationOff, settings.shown())
                    .with_summary(format!("{} says \"insecure\": curl accepts anything", settings.shown()))
                    .with_remedy(format!("delete the line \"insecure\" from {}", settings.shown())),
            );
        }
    }
    view
}

fn overridden(view: &mut TrustView, name: &str, path: &Path) {
    view.findings.push(
        Finding::new(Code::TrustOverridden, name)
            .with_summary(format!("{name} leads these clients to {}", path.shown()))
            .with_remedy(format!("see that {} holds the root, or unset {name}", path.shown())),
    );
}

/// The person's NSS database. What is compiled into Chromium cannot be read; no private root is among it.
pub(super) fn chromium(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    for place in ChromiumPolicy.survey(look, &[]) {
        add_place(&mut view, place);
    }
    let folder = nssdb::folder(look);
    add_database(&mut view, r, &folder, &Library::System);
    add_native(&mut view, look);
    for kept in chromium_profile::all(look) {
        view.sources.push(kept.file);
        match kept.said {
            Said::Trusted => view.anchors.push(kept.certificate),
            // It goes by the key: another root with it is not trusted either (measured with Chromium 156).
            Said::Distrusted => view.distrusted_keys.push(kept.certificate.key.fingerprint()),
            Said::Hint => {}
        }
    }
    view
}

/// Node's compiled-in roots are public ones: of private ones it knows what NODE_EXTRA_CA_CERTS adds (measured with 20.20).
pub(super) fn node(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    if let Some(file) = look.env("NODE_EXTRA_CA_CERTS") {
        add_file(&mut view, r, Path::new(&file));
    }
    looks_away(&mut view, look, "Node.js");
    view
}

/// OpenSSL's file and directory; each variable replaces its own half (measured with 3.11).
pub(super) fn python(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    let file = look.env("SSL_CERT_FILE").map_or_else(|| system::bundle(look), PathBuf::from);
    let folder = look.env("SSL_CERT_DIR").map_or_else(|| system::LINKS.into(), PathBuf::from);
    for (name, path) in [("SSL_CERT_FILE", &file), ("SSL_CERT_DIR", &folder)] {
        if look.env(name).is_some() {
            overridden(&mut view, name, path);
        }
    }
    add_file(&mut view, r, &file);
    add_folder(&mut view, r, &folder);
    view
}

/// The system's bundle, never its directory, and what either variable adds (measured with 1.4.5).
pub(super) fn bun(r: &Reader<'_>) -> TrustView {
    let mut view = TrustView::default();
    add_file(&mut view, r, &system::bundle(r.look));
    add_from(&mut view, r, &["SSL_CERT_FILE", "NODE_EXTRA_CA_CERTS"]);
    looks_away(&mut view, r.look, "Bun");
    view
}

/// The system's bundle, never its directory, or the file that a variable names in its place (measured with grpcio 1.85).
pub(super) fn grpc(r: &Reader<'_>) -> TrustView {
    const VARIABLE: &str = "GRPC_DEFAULT_SSL_ROOTS_FILE_PATH";
    let mut view = TrustView::default();
    let named = r.look.env(VARIABLE).map(PathBuf::from);
    if let Some(file) = &named {
        overridden(&mut view, VARIABLE, file);
    }
    let file = named.filter(|f| r.look.exists(f)).unwrap_or_else(|| system::bundle(r.look));
    add_file(&mut view, r, &file);
    view
}

/// The bundle and every file of the directory, and what git's own variable adds (measured with 2.39 and libcurl-gnutls 7.88).
pub(super) fn git(r: &Reader<'_>) -> TrustView {
    let mut view = TrustView::default();
    add_file(&mut view, r, &system::bundle(r.look));
    add_named(&mut view, r, Path::new(system::LINKS), &r.look.list(Path::new(system::LINKS)));
    add_from(&mut view, r, &["GIT_SSL_CAINFO"]);
    if r.look.env("GIT_SSL_NO_VERIFY").is_some_and(|v| !matches!(v.as_str(), "" | "0" | "false" | "no" | "off")) {
        view.findings.push(
            Finding::new(Code::VerificationOff, "GIT_SSL_NO_VERIFY")
                .with_summary("GIT_SSL_NO_VERIFY: git accepts anything")
                .with_remedy("unset GIT_SSL_NO_VERIFY"),
        );
    }
    view
}

/// Of private roots it knows what a variable adds; the system's store only where a variable says so (measured with 2.9).
pub(super) fn deno(r: &Reader<'_>) -> TrustView {
    let mut view = TrustView::default();
    if r.look.env("DENO_TLS_CA_STORE").is_some_and(|v| v.split(',').any(|s| s.trim() == "system")) {
        add_file(&mut view, r, &system::bundle(r.look));
    }
    add_from(&mut view, r, &["DENO_CERT", "NODE_EXTRA_CA_CERTS"]);
    view
}

/// The file that PGSSLROOTCERT names, else the person's own; without one it refuses to verify anything (measured with libpq 15).
pub(super) fn psql(r: &Reader<'_>) -> TrustView {
    let mut view = TrustView::default();
    let file = r.look.env("PGSSLROOTCERT").map_or_else(|| r.look.home().join(".postgresql/root.crt"), PathBuf::from);
    add_file(&mut view, r, &file);
    if !r.look.exists(&file) {
        let words = format!("root certificate file \"{}\" does not exist", file.shown());
        view.unreadable = Some(Unreadable::Refuses(words));
    }
    view
}

/// The files that variables name, where they are set.
fn add_from(view: &mut TrustView, r: &Reader<'_>, variables: &[&str]) {
    for file in variables.iter().filter_map(|name| r.look.env(name)) {
        add_file(view, r, Path::new(&file));
    }
}

/// The switch of Node.js and Bun.
fn looks_away(view: &mut TrustView, look: &dyn Look, who: &str) {
    if look.env("NODE_TLS_REJECT_UNAUTHORIZED").is_some_and(|v| v == "0") {
        view.findings.push(
            Finding::new(Code::VerificationOff, "NODE_TLS_REJECT_UNAUTHORIZED")
                .with_summary(format!("NODE_TLS_REJECT_UNAUTHORIZED=0: {who} accepts anything"))
                .with_remedy("unset NODE_TLS_REJECT_UNAUTHORIZED"),
        );
    }
}

/// The usual profile's database, and what a policy will have put into it by the next start.
pub(super) fn firefox(r: &Reader<'_>) -> TrustView {
    let look = r.look;
    let mut view = TrustView::default();
    for place in FirefoxPolicy.survey(look, &[]) {
        view.sources.push(place.place);
        view.anchors.extend(place.entries.into_iter().map(|e| e.certificate));
    }
    add_native(&mut view, look);
    let Some(profile) = profiles::usual_profile(look) else { return view };
    add_database(&mut view, r, &profile, &profiles::library(look));
    view
}

/// The stores of macOS and Windows, which browsers there read as well; a Linux beside Windows does not.
fn add_native(view: &mut TrustView, look: &dyn Look) {
    if windows::beside_windows(look) {
        return;
    }
    let stores: [&dyn Store; 4] = [
        &macos::Macos(Scope::User),
        &macos::Macos(Scope::Machine),
        &windows::Windows(Scope::User),
        &windows::Windows(Scope::Machine),
    ];
    for place in stores.into_iter().flat_map(|s| s.survey(look, &[])) {
        add_place(view, place);
    }
}

/// What a place of a store trusts and distrusts.
fn add_place(view: &mut TrustView, place: StoreLocation) {
    view.sources.push(place.place);
    for e in place.entries {
        if e.distrusted {
            view.distrusted.push(e.certificate.sha256());
        } else if e.trusted {
            view.anchors.push(e.certificate);
        }
    }
}

/// What a database trusts and distrusts; nothing where there is none.
fn add_database(view: &mut TrustView, r: &Reader<'_>, folder: &Path, library: &Library) {
    if !r.look.exists(&folder.join("cert9.db")) {
        return;
    }
    view.sources.push(folder.to_owned());
    match r.database(folder, library) {
        Ok(seen) => {
            for e in seen.iter() {
                let Some(c) = r.certificate(&e.der) else { continue };
                if e.is_distrusted() {
                    view.distrusted.push(c.sha256());
                } else if e.is_trusted() {
                    view.anchors.push(c);
                }
            }
        }
        Err(failure) => view.unreadable = Some(Unreadable::Unknown(failure.why)),
    }
}

fn add_file(view: &mut TrustView, r: &Reader<'_>, file: &Path) {
    let Some(found) = r.file(file) else { return };
    view.sources.push(file.to_owned());
    reader::add(&mut view.anchors, found.iter().cloned());
}

fn add_folder(view: &mut TrustView, r: &Reader<'_>, folder: &Path) {
    let names: Vec<String> = r.look.list(folder).into_iter().filter(|n| system::is_hash_name(n)).collect();
    if !names.is_empty() {
        view.sources.push(folder.to_owned());
    }
    add_named(view, r, folder, &names);
}

/// What is in files of a directory.
fn add_named(view: &mut TrustView, r: &Reader<'_>, folder: &Path, names: &[String]) {
    let files = names.iter().filter_map(|n| r.file(&folder.join(n)));
    let found: Vec<Certificate> = files.flat_map(|f| f.to_vec()).collect();
    reader::add(&mut view.anchors, found.into_iter());
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;
    use crate::sample;

    #[test]
    fn near_a_chain_are_the_roots_of_its_names_alone() {
        let (leaf, root) = (sample::leaf(&["charts.saltmarsh.test"]).unwrap().0, sample::root().unwrap().0.certificate);
        let view = TrustView::given(vec![leaf.clone(), root.clone()], Vec::new());
        assert_eq!(
            view.near(&Around::of(std::iter::once(&leaf))),
            [leaf.clone(), root.clone()],
            "the leaf itself may be trusted"
        );
        assert_eq!(view.near(&Around::of(std::iter::once(&root))), std::slice::from_ref(&root));
        assert!(view.near(&Around::of(std::iter::empty())).is_empty());
        let other = TrustView::given(vec![leaf], Vec::new());
        assert!(other.near(&Around::of(std::iter::once(&root))).is_empty(), "what was issued is no issuer");
    }

    #[test]
    fn names_that_a_client_takes_for_the_same_are_near() {
        let name = |text: &str| {
            let value = [&[0x0c, u8::try_from(text.len()).unwrap()], text.as_bytes()].concat();
            let pair = [&[6, 3, 0x55, 4, 3][..], &value].concat();
            let wrap = |tag: u8, body: &[u8]| [&[tag, u8::try_from(body.len()).unwrap()], body].concat();
            wrap(0x30, &wrap(0x31, &wrap(0x30, &pair)))
        };
        assert_eq!(folded(&name("Saltmarsh  Root")), folded(&name("saltmarsh root")));
        assert_eq!(folded(&name("Ä root")), folded(&name("ä ROOT")));
        assert_ne!(folded(&name("saltmarsh root")), folded(&name("saltmarsh roots")));
        assert_eq!(folded(b"no name"), folded(b"no name"));
    }
}
