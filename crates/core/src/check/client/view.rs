//! What each client trusts on this machine, with the stores, settings and variables as they are.

use super::{Client, gnutls};
use crate::error::Diagnostic;
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::nss::Library;
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::stores::trust::chromium_policy::ChromiumPolicy;
use crate::stores::trust::chromium_profile::{self, Said};
use crate::stores::trust::firefox_policy::FirefoxPolicy;
use crate::stores::trust::{
    Scope, Store, StoreLocation, chromium as nssdb, firefox as profiles, java as java_store, macos, system, windows,
};
use crate::vocabulary::fingerprint::Sha256Fingerprint;
use crate::vocabulary::text::Shown;
use std::path::{Path, PathBuf};

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
    /// Why its answer is unknown.
    pub unreadable: Option<String>,
    /// True if the client is not at home on this system: what is said of it rests on what its makers published.
    pub documented: bool,
}

impl TrustView {
    /// True if the client distrusts this, or its key.
    pub fn distrusts(&self, c: &Certificate) -> bool {
        self.distrusted.contains(&c.sha256()) || self.distrusted_keys.contains(&c.key.fingerprint())
    }
}

/// Looks through a client's eyes.
pub fn of(client: Client, look: &dyn Look) -> TrustView {
    match client {
        Client::Curl => curl(look),
        Client::Chromium => chromium(look),
        Client::Firefox => firefox(look),
        Client::Node => node(look),
        Client::Python => python(look),
        Client::Java => java(look),
        Client::Go => go(look),
        Client::Gnutls => by_wget(look),
        Client::Safari => native_or_all(look, &[&macos::Macos(Scope::User), &macos::Macos(Scope::Machine)]),
        Client::Windows => native_or_all(look, &[&windows::Windows(Scope::User), &windows::Windows(Scope::Machine)]),
        Client::Standard => everything(look),
    }
}

/// Everything that is a root to anyone here.
fn everything(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    add_file(&mut view, look, &system::bundle(look));
    let browser = chromium(look);
    view.sources.extend(browser.sources);
    let (curl, firefox) = (curl(look), firefox(look));
    view.sources.extend(firefox.sources);
    for c in browser.anchors.into_iter().chain(curl.anchors).chain(firefox.anchors) {
        if !view.anchors.contains(&c) {
            view.anchors.push(c);
        }
    }
    view
}

/// A client of another system: there by its stores; elsewhere as if it had every root that stands here.
fn native_or_all(look: &dyn Look, stores: &[&dyn Store]) -> TrustView {
    let mut view = TrustView::default();
    for place in stores.iter().flat_map(|s| s.survey(look, &[])) {
        add_place(&mut view, place);
    }
    if view.sources.is_empty() { TrustView { documented: true, ..everything(look) } } else { view }
}

/// The store of the JVM that `java` starts, or the one to which a variable leads it; a file that is absent counts for nothing
/// (measured with OpenJDK 17).
fn java(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    let named = java_store::named_store(look);
    if let Some((name, path)) = &named {
        overridden(&mut view, name, path);
    }
    let named = named.map(|(_, path)| path).filter(|p| look.exists(p));
    let Some(file) = named.or_else(|| java_store::usual_store(look)) else { return view };
    match java_store::trusted(look, &file) {
        Ok(roots) => view.anchors = roots,
        Err(e) => view.unreadable = Some(format!("{}: {}", file.shown(), e.why())),
    }
    view.sources.push(file);
    view
}

/// The bundle and every file of the directory; each variable replaces its own half (measured with 1.19).
fn go(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    let file = look.env("SSL_CERT_FILE").map_or_else(|| system::bundle(look), PathBuf::from);
    let folders = look.env("SSL_CERT_DIR").unwrap_or_else(|| system::LINKS.into());
    for (name, path) in [("SSL_CERT_FILE", &file), ("SSL_CERT_DIR", &PathBuf::from(&folders))] {
        if look.env(name).is_some() {
            overridden(&mut view, name, path);
        }
    }
    add_file(&mut view, look, &file);
    for folder in folders.split(':').map(PathBuf::from) {
        view.sources.push(folder.clone());
        for name in look.list(&folder) {
            let bytes = look.read(&folder.join(name)).unwrap_or_default();
            add_all(&mut view, &bytes);
        }
    }
    view
}

/// The bundle, and what wget's own settings add (measured with wget 1.21).
fn by_wget(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    add_file(&mut view, look, &system::bundle(look));
    let settings = gnutls::settings(look);
    if let Some(file) = &settings.file {
        add_file(&mut view, look, file);
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
fn curl(look: &dyn Look) -> TrustView {
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
    add_file(&mut view, look, &file);
    // Absent or without any certificate: curl gives up before it connects (measured).
    if view.anchors.is_empty() && file != system::bundle(look) {
        view.unreadable = Some(format!("(77) error setting certificate file: {}", file.shown()));
    }
    add_folder(&mut view, look, &folder);
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
fn chromium(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    for place in ChromiumPolicy.survey(look, &[]) {
        add_place(&mut view, place);
    }
    let folder = nssdb::folder(look);
    add_database(&mut view, look, &folder, &Library::System);
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
fn node(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    if let Some(file) = look.env("NODE_EXTRA_CA_CERTS") {
        add_file(&mut view, look, Path::new(&file));
    }
    if look.env("NODE_TLS_REJECT_UNAUTHORIZED").is_some_and(|v| v == "0") {
        view.findings.push(
            Finding::new(Code::VerificationOff, "NODE_TLS_REJECT_UNAUTHORIZED")
                .with_summary("NODE_TLS_REJECT_UNAUTHORIZED=0: Node.js accepts anything")
                .with_remedy("unset NODE_TLS_REJECT_UNAUTHORIZED"),
        );
    }
    view
}

/// OpenSSL's file and directory; each variable replaces its own half (measured with 3.11).
fn python(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    let file = look.env("SSL_CERT_FILE").map_or_else(|| system::bundle(look), PathBuf::from);
    let folder = look.env("SSL_CERT_DIR").map_or_else(|| system::LINKS.into(), PathBuf::from);
    for (name, path) in [("SSL_CERT_FILE", &file), ("SSL_CERT_DIR", &folder)] {
        if look.env(name).is_some() {
            overridden(&mut view, name, path);
        }
    }
    add_file(&mut view, look, &file);
    add_folder(&mut view, look, &folder);
    view
}

/// The usual profile's database, and what a policy will have put into it by the next start.
fn firefox(look: &dyn Look) -> TrustView {
    let mut view = TrustView::default();
    for place in FirefoxPolicy.survey(look, &[]) {
        view.sources.push(place.place);
        view.anchors.extend(place.entries.into_iter().map(|e| e.certificate));
    }
    add_native(&mut view, look);
    let Some(profile) = profiles::usual_profile(look) else { return view };
    add_database(&mut view, look, &profile, &profiles::library(look));
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
fn add_database(view: &mut TrustView, look: &dyn Look, folder: &Path, library: &Library) {
    if !look.exists(&folder.join("cert9.db")) {
        return;
    }
    view.sources.push(folder.to_owned());
    match look.nss(folder, library) {
        Ok(seen) => {
            for e in seen.entries {
                let Ok(c) = Certificate::read(&e.der, "a certificate of the database") else { continue };
                if e.is_distrusted() {
                    view.distrusted.push(c.sha256());
                } else if e.is_trusted() {
                    view.anchors.push(c);
                }
            }
        }
        Err(failure) => view.unreadable = Some(failure.why),
    }
}

fn add_file(view: &mut TrustView, look: &dyn Files, file: &Path) {
    let Some(bytes) = look.read(file) else { return };
    view.sources.push(file.to_owned());
    add_all(view, &bytes);
}

fn add_folder(view: &mut TrustView, look: &dyn Files, folder: &Path) {
    let names: Vec<String> = look.list(folder).into_iter().filter(|n| system::is_hash_name(n)).collect();
    if !names.is_empty() {
        view.sources.push(folder.to_owned());
    }
    for name in names {
        add_all(view, &look.read(&folder.join(name)).unwrap_or_default());
    }
}

fn add_all(view: &mut TrustView, bytes: &[u8]) {
    for der in pem::certificates(bytes) {
        if view.anchors.iter().any(|a| a.der() == der) {
            continue;
        }
        if let Ok(c) = Certificate::read(&der, "a root") {
            view.anchors.push(c);
        }
    }
}
