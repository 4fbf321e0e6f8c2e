//! What stands beside the stores, on a machine in memory: identities, exceptions, settings, the eyes of each client.

#![allow(clippy::unwrap_used, clippy::panic, unreachable_pub, dead_code, reason = "tests")]

mod machine;

use machine::{Counting, Machine, root};
use std::path::PathBuf;
use std::str::FromStr;
use tamga_core::check::client::{Client, there, trusted};
use tamga_core::finding::Code;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::profile::{Leaf, Links};
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::plan::nss::{NssEntry, ROOT_FLAGS, TERMINAL, USER};
use tamga_core::plan::step::Step;
use tamga_core::stores::identity::{self, Identity, Parts, State};
use tamga_core::stores::trust::{exceptions, settings};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::Timestamp;

/// A certificate for a person, and its key.
fn person(label: &str, seed: u64) -> (Identity, PrivateKey) {
    let entropy = Counting::from(seed);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let names = [Name::from_str(&format!("{label}.saltmarsh.test")).unwrap()];
    let subject = tamga_core::pki::cert::profile::leaf_subject(&names).to_der().unwrap();
    let links = Links::default();
    let (from, until) = (Timestamp::from_unix(1_795_600_000), Timestamp::from_unix(1_800_000_000));
    let leaf = Leaf { names: &names, purposes: &[Purpose::Client], subject: &subject, from, until, links: &links };
    let chain = vec![leaf.self_sign(&key, &entropy).unwrap()];
    (Identity { label: label.parse().unwrap(), chain }, key)
}

const NSSDB: &str = "/home/operator/.pki/nssdb";

fn browser() -> Machine {
    let m = Machine::with(&["chromium"]);
    m.put(&format!("{NSSDB}/cert9.db"), "database");
    m.databases.borrow_mut().insert(NSSDB.into(), Vec::new());
    m
}

/// A machine whose programs take identities from there: the place, and a look at it.
fn holder(kind: &str) -> (Machine, PathBuf) {
    let mut m = Machine::with(if kind == "macos" { &["security"] } else { &[] });
    let place = match kind {
        "nss" => return (browser(), NSSDB.into()),
        "macos" => "/home/operator/Library/Keychains/login.keychain-db".to_owned(),
        _ => "/native/CurrentUser\\My".to_owned(),
    };
    m.put(&place, "keychain");
    m.variables.insert("HOME".into(), "/home/operator".into());
    m.databases.borrow_mut().insert(PathBuf::from(&place), Vec::new());
    if kind == "windows" {
        m.databases.borrow_mut().insert("/native/CurrentUser\\CA".into(), Vec::new());
    }
    (m, place.into())
}

fn with<'a>(key: &'a PrivateKey, entropy: &'a Counting) -> Parts<'a> {
    Parts { key, entropy, account: None }
}

#[test]
fn an_identity_goes_in_with_its_key_and_out_with_what_came_along() {
    let entropy = Counting::from(5);
    for kind in ["nss", "macos", "windows"] {
        let (m, folder) = holder(kind);
        let (mut me, key) = person("operator", 7);
        me.chain.push(root("between").certificate);
        let before = m.databases.borrow().clone();
        let place = || identity::places(&m).remove(0);
        let add = |who: &Identity| identity::add(who, &with(&key, &entropy), &place(), &m).unwrap();
        assert_eq!(identity::state(&me, &place()), State::Absent, "{kind}");
        let plan = add(&me);
        // A failure at each step leaves everything as it was.
        for at in 0..plan.len() {
            *m.fails_at.borrow_mut() = Some(at);
            m.perform(&plan).unwrap_err();
            assert_eq!(*m.databases.borrow(), before, "{kind}: step {at}");
        }
        *m.fails_at.borrow_mut() = None;
        m.perform(&plan).unwrap_or_else(|e| panic!("{kind}: {e}"));
        assert_eq!(identity::state(&me, &place()), State::Present, "{kind}");
        assert!(add(&me).is_empty(), "{kind}: twice changes nothing");
        let all: usize = m.databases.borrow().values().map(Vec::len).sum();
        assert_eq!(all, 2, "{kind}: the intermediate came along");
        // No step shows the key, or what opens it in an argument.
        let plan = identity::add(&person("other", 9).0, &with(&key, &entropy), &place(), &m).unwrap();
        assert!(!format!("{plan:?}").contains("pkcs8: Secret(["), "{kind}");
        if let Step::Run(i) = &plan[0].step {
            assert_eq!(i.arguments, ["-i"], "{kind}");
        }
        m.perform(&identity::remove(&me, &place())).unwrap();
        assert_eq!(*m.databases.borrow(), before, "{kind}");
        assert!(m.databases.borrow()[&folder].is_empty());
    }
}

#[test]
fn a_renewed_identity_takes_the_older_ones_place_and_a_keyless_one_is_no_identity() {
    let entropy = Counting::from(6);
    for kind in ["nss", "macos", "windows"] {
        let (m, folder) = holder(kind);
        let ((old, old_key), (new, new_key)) = (person("operator", 7), person("operator", 8));
        let known: Vec<(Label, Sha256Fingerprint)> =
            [&old, &new].map(|i| (i.label.clone(), i.chain[0].sha256())).into_iter().collect();
        let place = || {
            let mut place = identity::places(&m).remove(0);
            let label = |sha256: &Sha256Fingerprint| known.iter().find(|(_, s)| s == sha256).map(|(l, _)| l.clone());
            identity::name_known(&mut place, &mut { label });
            place
        };
        let add = |who: &Identity, key: &PrivateKey| {
            let plan = identity::add(who, &with(key, &entropy), &place(), &m).unwrap();
            m.perform(&plan).unwrap_or_else(|e| panic!("{kind}: {e}"));
        };
        add(&old, &old_key);
        assert_eq!(identity::state(&new, &place()), State::Older, "{kind}");
        assert_eq!(identity::older(&new, &place()), old.chain);
        add(&new, &new_key);
        assert_eq!((identity::state(&new, &place()), identity::state(&old, &place())), (State::Present, State::Older));
        assert_eq!(m.databases.borrow()[&folder].len(), 1);
        // Somebody imported the certificate alone.
        let nickname = if kind == "macos" { String::new() } else { new.mark() };
        let alone = NssEntry { der: new.chain[0].der().to_vec(), nickname, ssl: 0 };
        m.databases.borrow_mut().insert(folder.clone(), vec![alone]);
        assert_eq!(identity::state(&new, &place()), State::WithoutKey, "{kind}");
        add(&new, &new_key);
        assert_eq!(identity::state(&new, &place()), State::Present, "{kind}");
        // Leaving takes it out by its mark, or by what the ledger knows.
        let (steps, count) = identity::remove_marked(&place());
        assert_eq!(count, 1, "{kind}");
        m.perform(&steps).unwrap();
        assert!(m.databases.borrow()[&folder].is_empty(), "{kind}");
    }
}

#[test]
fn leaving_takes_what_has_the_mark_and_nothing_else() {
    let m = browser();
    let (mine, theirs) = (person("operator", 7).0, person("stranger", 8).0);
    let entry =
        |c: &Certificate, nickname: &str, ssl| NssEntry { der: c.der().to_vec(), nickname: nickname.into(), ssl };
    let ca = root("saltmarsh");
    let stays = vec![
        entry(&theirs.chain[0], "stranger's own", USER),
        // Our root is the stores' to take out; a mark that names another certificate is none.
        entry(&ca.certificate, &ca.mark(), ROOT_FLAGS),
        entry(&root("harbour").certificate, "tamga-harbour-00000000", USER),
    ];
    let mut all = stays.clone();
    all.push(entry(&mine.chain[0], &mine.mark(), USER));
    m.databases.borrow_mut().insert(NSSDB.into(), all);
    let (steps, count) = identity::remove_marked(&identity::places(&m).remove(0));
    assert_eq!((steps.len(), count), (1, 1));
    m.perform(&steps).unwrap();
    assert_eq!(m.databases.borrow()[&PathBuf::from(NSSDB)], stays);
}

#[test]
fn exceptions_of_all_profiles_are_found_and_forgotten_one_by_one() {
    let m = Machine::with(&["firefox"]);
    let tail = "\tOID.2.16.840.1.101.3.4.2.1\tAA:BB\tU\tAAAA\n";
    let text = format!("# head\ncharts.saltmarsh.test:8443:{tail}[::1]:8443:{tail}");
    m.put(
        "/home/operator/.mozilla/firefox/profiles.ini",
        "[Profile0]\nIsRelative=1\nPath=a\n[Profile1]\nIsRelative=1\nPath=b\n",
    );
    m.put("/home/operator/.mozilla/firefox/a/cert_override.txt", text.clone());
    m.put("/home/operator/.mozilla/firefox/b/cert_override.txt", format!("charts.saltmarsh.test:443:{tail}"));
    m.put("/home/operator/.config/chromium/Default/Preferences", "not JSON");
    let all = exceptions::all(&m);
    let places: Vec<(String, u16)> = all.iter().map(|e| (e.host.clone(), e.port)).collect();
    assert_eq!(
        places,
        [("charts.saltmarsh.test".into(), 8443), ("::1".into(), 8443), ("charts.saltmarsh.test".into(), 443)]
    );
    let before = m.state();
    let plan = exceptions::forget(&m, &all[..1]);
    *m.fails_at.borrow_mut() = Some(0);
    m.perform(&plan).unwrap_err();
    assert_eq!(m.state(), before);
    *m.fails_at.borrow_mut() = None;
    m.perform(&plan).unwrap();
    assert_eq!(
        m.get("/home/operator/.mozilla/firefox/a/cert_override.txt").unwrap(),
        format!("# head\n[::1]:8443:{tail}")
    );
    assert_eq!(exceptions::all(&m), all[1..]);
    assert!(exceptions::forget(&m, &[]).is_empty());
}

#[test]
fn settings_are_found_no_matter_who_wrote_them_and_good_ones_are_passed_over() {
    let ours = root("saltmarsh");
    let mut m = Machine::with(&[]);
    let roots = [ours.certificate.clone()];
    assert!(settings::findings(&m, &roots).is_empty());
    m.put("/home/operator/good.pem", ours.pem());
    m.put("/home/operator/bad.pem", root("harbour").pem());
    m.put("/home/operator/folder/one.pem", ours.pem());
    m.put("/home/operator/.curlrc", "# insecure\n--cacert ~/good.pem\n");
    m.put("/home/operator/.npmrc", "cafile = /home/operator/bad.pem\n");
    for (name, value) in [
        ("SSL_CERT_FILE", "/home/operator/good.pem"),
        ("SSL_CERT_DIR", "/home/operator/folder"),
        ("CURL_CA_BUNDLE", "/home/operator/bad.pem"),
        ("PIP_CERT", "/etc/ssl/certs/ca-certificates.crt"),
        ("PYTHONHTTPSVERIFY", "1"),
        ("GIT_SSL_NO_VERIFY", "true"),
    ] {
        m.variables.insert(name.into(), value.into());
    }
    let found: Vec<(Code, String)> = settings::findings(&m, &roots).into_iter().map(|f| (f.code, f.about)).collect();
    assert_eq!(
        found,
        [
            (Code::VerificationOff, "GIT_SSL_NO_VERIFY".to_owned()),
            (Code::TrustOverridden, "CURL_CA_BUNDLE".to_owned()),
            (Code::TrustOverridden, "/home/operator/.npmrc".to_owned()),
        ]
    );
    for f in settings::findings(&m, &roots) {
        assert!(f.remedy.contains("unset") || f.remedy.contains("delete the line"), "{}", f.remedy);
    }
}

#[test]
fn each_client_sees_its_own_stores_and_no_others() {
    let (system, browser, fox, extra) = (root("system"), root("browser"), root("fox"), root("extra"));
    let mut m = Machine::with(&["chromium", "firefox"]);
    m.put("/etc/ssl/certs/ca-certificates.crt", system.pem());
    m.put(&format!("{NSSDB}/cert9.db"), "database");
    let entry = |c: &Certificate, ssl| NssEntry { der: c.der().to_vec(), nickname: String::new(), ssl };
    let refused = root("refused");
    let in_browser = vec![
        entry(&browser.certificate, ROOT_FLAGS),
        entry(&refused.certificate, TERMINAL),
        entry(&extra.certificate, 0),
    ];
    m.databases.borrow_mut().insert(NSSDB.into(), in_browser);
    let profile = "/home/operator/.config/mozilla/firefox/a";
    m.put("/home/operator/.config/mozilla/firefox/profiles.ini", "[Profile0]\nIsRelative=1\nPath=a\n");
    m.put(&format!("{profile}/cert9.db"), "database");
    m.databases.borrow_mut().insert(profile.into(), vec![entry(&fox.certificate, ROOT_FLAGS)]);
    let sees = |m: &Machine, client| -> Vec<String> {
        let names =
            [("system", &system), ("browser", &browser), ("fox", &fox), ("extra", &extra), ("refused", &refused)];
        let view = trusted::by(client, m);
        names.iter().filter(|(_, r)| view.anchors.contains(&r.certificate)).map(|(n, _)| (*n).to_owned()).collect()
    };
    assert_eq!(sees(&m, Client::Curl), ["system"]);
    assert_eq!(sees(&m, Client::Python), ["system"]);
    assert_eq!(sees(&m, Client::Chromium), ["browser"]);
    assert_eq!(sees(&m, Client::Firefox), ["fox"]);
    assert_eq!(sees(&m, Client::Node), Vec::<String>::new());
    assert_eq!(sees(&m, Client::Standard), ["system", "browser", "fox"]);
    assert_eq!(trusted::by(Client::Chromium, &m).distrusted, [refused.certificate.sha256()]);
    // Variables lead some of them elsewhere.
    m.put("/home/operator/extra.pem", extra.pem());
    for name in ["NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE"] {
        m.variables.insert(name.into(), "/home/operator/extra.pem".into());
    }
    assert_eq!(sees(&m, Client::Node), ["extra"]);
    assert_eq!(sees(&m, Client::Python), ["extra"]);
    assert_eq!(sees(&m, Client::Curl), ["extra"]);
    assert_eq!(sees(&m, Client::Chromium), ["browser"]);
    let reply = trusted::by(Client::Python, &m).findings;
    assert!(
        reply
            .iter()
            .any(|f| f.code == Code::TrustOverridden && f.summary.contains("SSL_CERT_FILE leads these clients")),
        "{reply:?}"
    );
    m.variables.insert("NODE_TLS_REJECT_UNAUTHORIZED".into(), "0".into());
    assert_eq!(trusted::by(Client::Node, &m).findings[0].code, Code::VerificationOff);
}

#[test]
fn the_browsers_own_manager_counts_for_the_browser() {
    let (ours, theirs, hint) = (root("saltmarsh"), root("harbour"), root("between"));
    let mut m = browser();
    let file = PathBuf::from("/home/operator/.config/chromium/Default/ServerCertificate");
    m.put(&file.to_string_lossy(), "database");
    let row =
        |r: &tamga_core::stores::trust::Root, said: &[u8]| (file.clone(), r.certificate.der().to_vec(), said.to_vec());
    m.kept = vec![row(&ours, &[0x0a, 2, 8, 3]), row(&theirs, &[0x0a, 2, 8, 2]), row(&hint, &[0x0a, 2, 8, 1])];
    let seen = trusted::by(Client::Chromium, &m);
    assert_eq!(seen.anchors, std::slice::from_ref(&ours.certificate));
    assert_eq!(seen.distrusted_keys, [theirs.certificate.key.fingerprint()]);
    assert!(seen.distrusts(&theirs.certificate) && !seen.distrusts(&ours.certificate));
    assert!(seen.sources.contains(&file));
    // Cut short or of another shape: nothing is made of it.
    for odd in [&[][..], &[0x0a], &[0x0a, 9, 8, 3], &[0x12, 2, 8, 3], &[0x0a, 2, 0x10, 3]] {
        m.kept = vec![row(&ours, odd)];
        assert!(trusted::by(Client::Chromium, &m).anchors.is_empty(), "{odd:?}");
    }
}

#[test]
fn a_browser_in_a_box_of_its_own_has_a_place_of_its_own() {
    use tamga_core::stores::trust::{Goal, Store, chromium::Chromium};
    let mut m = browser();
    m.put("/home/operator/snap/chromium/current/.config/x", "there");
    m.put("/home/operator/.var/app/com.google.Chrome/config/x", "there");
    let places: Vec<String> = Chromium.survey(&m, &[]).iter().map(|p| p.place.to_string_lossy().into_owned()).collect();
    let boxed =
        ["/home/operator/snap/chromium/current/.pki/nssdb", "/home/operator/.var/app/com.google.Chrome/.pki/nssdb"];
    assert_eq!(places, [NSSDB, boxed[0], boxed[1]]);
    let ours = root("saltmarsh");
    for place in Chromium.survey(&m, &[]) {
        assert!(place.hindrance.is_none(), "{place:?}");
        m.perform(&Chromium.change(Goal::Add, &ours, &place, &m)).unwrap();
    }
    assert!(Chromium.survey(&m, &[]).iter().all(|p| p.entries.iter().any(|e| e.certificate == ours.certificate)));
    // Gone with its box, and the person's own stays.
    m.programs.clear();
    m.files.borrow_mut().retain(|p, _| !p.starts_with("/home/operator/snap") && !p.starts_with("/home/operator/.var"));
    assert_eq!(Chromium.survey(&m, &[]).len(), 1);
}

/// On another machine nothing is run to find out what it has, but wget, which says with which library it was made.
#[test]
fn a_client_counts_on_another_machine_if_it_is_there_and_made_with_the_library_whose_rules_are_known() {
    let on = |m: &Machine| -> Vec<&str> {
        Client::ALL.into_iter().filter(|c| there::is_there(*c, m)).map(|c| c.word()).collect()
    };
    assert_eq!(on(&Machine::default()), ["standard"]);
    let mut m = Machine::with(&["curl", "wget", "git", "php", "node", "chromium", "firefox", "deno"]);
    // What a person or a variable brings is not looked at, and of an unknown library nothing is foreseen.
    assert_eq!(on(&m), ["standard", "curl", "php"]);
    let helper = "/usr/lib/git-core/git-remote-https";
    m.put(helper, b"\x7fELF libcurl.so.4 OPENSSL".to_vec());
    m.says.insert("wget".into(), Ok("GNU Wget 1.21.4 +https +ssl/openssl".into()));
    assert_eq!(on(&m), ["standard", "curl", "php"]);
    m.put(helper, b"\x7fELF libcurl-gnutls.so.4\0".to_vec());
    m.says.insert("wget".into(), Ok("GNU Wget 1.21.3 +https +ssl/gnutls".into()));
    let mut with_gnutls = on(&m);
    with_gnutls.sort_unstable();
    assert_eq!(with_gnutls, ["curl", "git", "gnutls", "php", "standard"]);
    m.says.insert("wget".into(), Err("wget: cannot be run".into()));
    assert!(!on(&m).contains(&"gnutls"));
}
