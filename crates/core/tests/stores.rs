//! The contract of every store, on a machine in memory: look, add, seen, again, remove, gone, a failure at each step; foreign roots survive.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, unreachable_pub, dead_code, reason = "tests")]

mod machine;

use machine::{Machine, is_trusted, root};
use std::path::PathBuf;
use tamga_core::pki::format::contents::Named;
use tamga_core::pki::format::{jks, pkcs12};
use tamga_core::plan::nss::{NssEntry, ROOT_FLAGS, TERMINAL};
use tamga_core::stores::trust::{self, Goal, Root, State, Store, StoreLocation};
use tamga_core::vocabulary::secret::Passphrase;
use zeroize::Zeroizing;

const BUNDLE: &str = "/etc/ssl/certs/ca-certificates.crt";

/// What Debian's command does, as far as a client sees it.
fn update(m: &Machine) {
    let anchors: Vec<(PathBuf, Vec<u8>)> = m
        .files
        .borrow()
        .iter()
        .filter(|(p, _)| p.starts_with("/usr/local/share/ca-certificates"))
        .map(|(p, b)| (p.clone(), b.clone()))
        .collect();
    let mut all = m.files.borrow().get(&PathBuf::from("/etc/foreign.pem")).cloned().unwrap_or_default();
    m.links.borrow_mut().retain(|from, _| !from.starts_with("/etc/ssl/certs"));
    for (n, (path, bytes)) in anchors.iter().enumerate() {
        all.extend(bytes);
        let pem = PathBuf::from(format!("/etc/ssl/certs/{}.pem", path.file_stem().unwrap().to_string_lossy()));
        m.links
            .borrow_mut()
            .insert(PathBuf::from(format!("/etc/ssl/certs/5c379c8{n}.0")), pem.file_name().unwrap().into());
    }
    m.put(BUNDLE, all);
}

/// The same for Fedora's.
fn update_trust(m: &Machine) {
    let mut all = m.files.borrow().get(&PathBuf::from("/etc/foreign.pem")).cloned().unwrap_or_default();
    for (path, bytes) in m.files.borrow().iter() {
        if path.starts_with("/etc/pki/ca-trust/source/anchors") {
            all.extend(bytes);
        }
    }
    m.put("/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", all);
}

/// A machine on which every store has at least one place, each with somebody else's root in it.
fn everything(foreign: &Root) -> (Machine, Vec<PathBuf>) {
    everything_of(foreign, "linux")
}

/// The same of one system: `linux`, `macos` or `windows`.
fn everything_of(foreign: &Root, system: &str) -> (Machine, Vec<PathBuf>) {
    let mut m = Machine::with(&["update-ca-certificates", "chromium", "firefox-esr"]);
    if system == "macos" {
        m.programs.insert("security".into());
    }
    m.commands.insert("update-ca-certificates".into(), update);
    m.put("/etc/debian_version", "12");
    m.put("/etc/foreign.pem", foreign.pem());
    m.put(BUNDLE, foreign.pem());
    m.put("/home/operator/bundle.pem", foreign.pem());
    let named = [Named { alias: Some("foreign".into()), thing: foreign.certificate.der().to_vec() }];
    let usual = Passphrase::new(Zeroizing::new(jks::USUAL.as_bytes().to_vec()));
    let now = tamga_core::vocabulary::timestamp::Timestamp::from_unix(1_795_600_000);
    m.put("/usr/lib/jvm/eight/jre/lib/security/cacerts", jks::write_trust(&named, &usual, now).unwrap().to_vec());
    m.put("/usr/lib/jvm/twenty/lib/security/cacerts", pkcs12::write_trust(&named).to_vec());
    m.put("/home/operator/.jdks/own/lib/security/cacerts", pkcs12::write_trust(&named).to_vec());
    m.put("/etc/chromium/policies/managed/lab.json", "{\"HomepageLocation\": \"https://charts.saltmarsh.test\"}");
    m.put("/etc/firefox/policies/policies.json", "{\"policies\":   {\"DisableTelemetry\": true}}");
    let entry = |ssl| NssEntry { der: foreign.certificate.der().to_vec(), nickname: "foreign".into(), ssl };
    for folder in
        ["/home/operator/.pki/nssdb", "/home/operator/.mozilla/firefox/a.lab", "/home/operator/.mozilla/firefox/b.lab"]
    {
        m.put(&format!("{folder}/cert9.db"), "database");
        m.databases.borrow_mut().insert(folder.into(), vec![entry(ROOT_FLAGS)]);
    }
    for keychain in ["/home/operator/Library/Keychains/login.keychain-db", "/Library/Keychains/System.keychain"] {
        m.put(keychain, "keychain");
        m.databases.borrow_mut().insert(keychain.into(), vec![entry(0)]);
    }
    for domain in [true, false].map(machine::security::domain) {
        m.databases.borrow_mut().insert(domain, vec![entry(1)]);
    }
    for store in ["CurrentUser\\Root", "LocalMachine\\Root"].iter().filter(|_| system == "windows") {
        m.databases.borrow_mut().insert(std::path::Path::new("/native").join(store), vec![entry(0)]);
    }
    m.put(
        "/home/operator/.mozilla/firefox/profiles.ini",
        "[Profile0]\nIsRelative=1\nPath=a.lab\n[Profile1]\nIsRelative=1\nPath=b.lab\n",
    );
    (m, vec!["/home/operator/bundle.pem".into()])
}

fn again(store: &dyn Store, m: &Machine, bundles: &[PathBuf], place: &StoreLocation) -> StoreLocation {
    store.survey(m, bundles).into_iter().find(|p| p.place == place.place).unwrap()
}

#[test]
fn every_store_keeps_the_contract_in_every_place() {
    let (ours, foreign) = (root("saltmarsh"), root("harbour"));
    let mut places = 0;
    let mut ids: Vec<&str> = Vec::new();
    for store in trust::ALL {
        let system = store.id().word().split('-').next().unwrap_or_default();
        let (m, bundles) = everything_of(&foreign, system);
        for place in store.survey(&m, &bundles) {
            let what = format!("{} in {}", store.id(), place.place.to_string_lossy());
            assert!(place.hindrance.is_none(), "{what}: {:?}", place.hindrance);
            let before = m.state();
            assert!(!is_trusted(&place.entries, &ours.certificate), "{what}");
            assert!(store.change(Goal::Remove, &ours, &place, &m).is_empty(), "{what}: nothing to take out yet");
            let plan = store.change(Goal::Add, &ours, &place, &m);
            assert!(!plan.is_empty(), "{what}");
            // A failure at each step leaves everything as it was.
            for at in 0..plan.len() {
                *m.fails_at.borrow_mut() = Some(at);
                m.perform(&plan).unwrap_err();
                assert_eq!(m.state(), before, "{what}: step {at} of {}", plan.len());
            }
            *m.fails_at.borrow_mut() = None;
            m.perform(&plan).unwrap();
            let seen = again(*store, &m, &bundles, &place);
            assert!(is_trusted(&seen.entries, &ours.certificate), "{what}: it is not seen");
            let mark = seen.entries.iter().find(|e| e.certificate == ours.certificate).and_then(|e| e.mark.clone());
            assert!(trust::is_mark_of(&mark.unwrap(), &ours.certificate), "{what}: it has no mark");
            assert_eq!(
                trust::state(&ours.certificate, &seen, tamga_core::plan::ports::Environment::now(&m)),
                State::Present,
                "{what}"
            );
            assert!(store.change(Goal::Add, &ours, &seen, &m).is_empty(), "{what}: twice changes nothing");
            let between = m.state();
            let plan = store.change(Goal::Remove, &ours, &seen, &m);
            for at in 0..plan.len() {
                *m.fails_at.borrow_mut() = Some(at);
                m.perform(&plan).unwrap_err();
                // Links that a system's command makes again are not among what is compared.
                assert_eq!(m.state().1, between.1, "{what}: step {at} of {}", plan.len());
            }
            *m.fails_at.borrow_mut() = None;
            m.perform(&store.change(Goal::Remove, &ours, &again(*store, &m, &bundles, &place), &m)).unwrap();
            let gone = again(*store, &m, &bundles, &place);
            assert!(!gone.entries.iter().any(|e| e.certificate == ours.certificate), "{what}: it is still there");
            assert_eq!(m.state(), before, "{what}: something else changed");
            places += 1;
        }
        ids.push(store.id().word());
    }
    ids.dedup();
    assert_eq!(
        ids,
        [
            "system",
            "java",
            "chromium-policy",
            "firefox-policy",
            "bundle",
            "chromium",
            "firefox",
            "macos-user",
            "macos-machine",
            "windows-user",
            "windows-machine"
        ]
    );
    assert_eq!(places, 14);
}

#[test]
fn somebody_elses_root_of_the_same_name_and_a_distrusted_one_stay() {
    let (ours, foreign) = (root("saltmarsh"), root("harbour"));
    let (m, bundles) = everything(&foreign);
    let folder = PathBuf::from("/home/operator/.pki/nssdb");
    let mut entries = m.databases.borrow()[&folder].clone();
    entries.push(NssEntry { der: root("third").certificate.der().to_vec(), nickname: "third".into(), ssl: TERMINAL });
    m.databases.borrow_mut().insert(folder.clone(), entries.clone());
    let store = trust::chromium::Chromium;
    let place = store.survey(&m, &bundles).remove(0);
    assert_eq!(
        trust::state(&root("third").certificate, &place, tamga_core::plan::ports::Environment::now(&m)),
        State::Distrusted
    );
    m.perform(&store.change(Goal::Add, &ours, &place, &m)).unwrap();
    let place = again(&store, &m, &bundles, &place);
    m.perform(&store.change(Goal::Remove, &ours, &place, &m)).unwrap();
    assert_eq!(m.databases.borrow()[&folder], entries);
}

#[test]
fn without_rights_the_machines_stores_say_what_to_type() {
    let foreign = root("harbour");
    let mut hindered = 0;
    for system in ["linux", "macos", "windows"] {
        hindered += without_rights(&foreign, system);
    }
    assert_eq!(hindered, 5 + 5 + 5);
}

fn without_rights(foreign: &Root, system: &str) -> usize {
    let (mut m, bundles) = everything_of(foreign, system);
    m.without_rights = true;
    for folder in ["/usr/lib/jvm/eight/jre/lib/security", "/usr/lib/jvm/twenty/lib/security"] {
        m.read_only.insert(folder.into());
    }
    let mut hindered = 0;
    for store in trust::ALL.iter().filter(|s| s.scope() == trust::Scope::Machine) {
        for place in store.survey(&m, &bundles) {
            let h = place.hindrance.unwrap_or_else(|| panic!("{} would try", store.id()));
            assert!(h.remedy.contains("tamga trust add") && !h.absent, "{}: {h:?}", store.id());
            hindered += 1;
        }
    }
    hindered
}

#[test]
fn what_is_not_there_is_absent_and_no_failure() {
    let m = Machine::with(&[]);
    for store in trust::ALL {
        for place in store.survey(&m, &[]) {
            let h = place.hindrance.unwrap_or_else(|| panic!("{} would try", store.id()));
            assert!(h.absent && !h.remedy.is_empty(), "{}: {h:?}", store.id());
        }
    }
}

#[test]
fn another_family_of_linux_is_recognized_by_its_directory_and_command() {
    let ours = root("saltmarsh");
    let foreign = root("harbour");
    let mut m = Machine::with(&["update-ca-trust"]);
    m.commands.insert("update-ca-trust".into(), update_trust);
    m.put("/etc/foreign.pem", foreign.pem());
    m.put("/etc/pki/ca-trust/source/anchors/README", "how to\n");
    update_trust(&m);
    let store = trust::system::System;
    let place = store.survey(&m, &[]).remove(0);
    assert_eq!(place.place, PathBuf::from("/etc/pki/ca-trust/source/anchors"));
    let before = m.state();
    m.perform(&store.change(Goal::Add, &ours, &place, &m)).unwrap();
    let seen = again(&store, &m, &[], &place);
    assert!(is_trusted(&seen.entries, &ours.certificate) && is_trusted(&seen.entries, &foreign.certificate));
    m.perform(&store.change(Goal::Remove, &ours, &seen, &m)).unwrap();
    assert_eq!(m.state(), before);
    // An anchor that the command has not taken up is there, but does not count.
    m.put("/etc/pki/ca-trust/source/anchors/by-hand.pem", ours.pem());
    let place = again(&store, &m, &[], &place);
    let entry = place.entries.iter().find(|e| e.certificate == ours.certificate).unwrap();
    assert!(!entry.trusted && entry.flaw.as_ref().unwrap().contains("update-ca-trust"));
}

#[test]
fn jvms_are_found_once_and_each_in_its_scope() {
    let (mut m, _) = everything(&root("harbour"));
    m.links.borrow_mut().insert("/usr/lib/jvm/default-java".into(), "/usr/lib/jvm/twenty".into());
    m.put("/usr/lib/jvm/twenty/release", "21");
    m.variables.insert("JAVA_HOME".into(), "/usr/lib/jvm/default-java".into());
    let found = trust::java::stores(&m);
    let words: Vec<(String, bool)> =
        found.iter().map(|(p, machine)| (p.to_string_lossy().into_owned(), *machine)).collect();
    assert_eq!(
        words,
        [
            ("/home/operator/.jdks/own/lib/security/cacerts".to_owned(), false),
            ("/usr/lib/jvm/eight/jre/lib/security/cacerts".to_owned(), true),
            ("/usr/lib/jvm/twenty/lib/security/cacerts".to_owned(), true),
        ]
    );
}

#[test]
fn the_usual_profile_is_the_one_that_an_installation_chose() {
    let (m, _) = everything(&root("harbour"));
    let usual = |m: &Machine| trust::firefox::usual_profile(m).map(|p| p.to_string_lossy().into_owned());
    assert_eq!(usual(&m).as_deref(), Some("/home/operator/.mozilla/firefox/a.lab"));
    let list = m.get("/home/operator/.mozilla/firefox/profiles.ini").unwrap();
    m.put("/home/operator/.mozilla/firefox/profiles.ini", format!("{list}[Install4F96]\nDefault=b.lab\nLocked=1\n"));
    assert_eq!(usual(&m).as_deref(), Some("/home/operator/.mozilla/firefox/b.lab"));
    assert_eq!(usual(&Machine::with(&["firefox"])), None);
}

#[test]
fn policies_of_others_are_weighed() {
    let (ours, foreign) = (root("saltmarsh"), root("harbour"));
    let (m, bundles) = everything(&foreign);
    let store = trust::chromium_policy::ChromiumPolicy;
    let place = store.survey(&m, &bundles).remove(0);
    m.perform(&store.change(Goal::Add, &ours, &place, &m)).unwrap();
    let der = |r: &Root| {
        use base64ct::{Base64, Encoding};
        Base64::encode_string(r.certificate.der())
    };
    m.put("/etc/chromium/policies/managed/a.json", format!("{{\"CADistrustedCertificates\": [\"{}\"]}}", der(&ours)));
    let seen = again(&store, &m, &bundles, &place);
    assert_eq!(
        trust::state(&ours.certificate, &seen, tamga_core::plan::ports::Environment::now(&m)),
        State::Distrusted
    );
    m.put("/etc/chromium/policies/managed/a.json", "{}");
    // A file that comes before ours in the alphabet does not count, one that comes after counts alone.
    m.put("/etc/chromium/policies/managed/b.json", format!("{{\"CACertificates\": [\"{}\"]}}", der(&foreign)));
    assert!(again(&store, &m, &bundles, &place).hindrance.is_none());
    m.put("/etc/chromium/policies/managed/z.json", "{\"CACertificates\": []}");
    let seen = again(&store, &m, &bundles, &place);
    assert!(seen.hindrance.unwrap().why.contains("z.json"));
    assert!(!is_trusted(&seen.entries, &ours.certificate));
}
