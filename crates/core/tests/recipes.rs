//! Every recipe for every setting: nothing of a template is left, paths are quoted so that a shell reads them back, and what is asked for is there.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use proptest::prelude::*;
use std::str::FromStr;
use tamga_core::deploy::export::Form;
use tamga_core::deploy::recipe::{self, FileLocation, Recipe, Setting, System, Written};
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey, PublicKey};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::name::Name;

struct Fixed;

impl tamga_core::plan::ports::Entropy for Fixed {
    fn fill(&self, into: &mut [u8]) {
        for (i, b) in into.iter_mut().enumerate() {
            *b = u8::try_from(i % 200).unwrap() + 7;
        }
    }
}

/// A key that a recipe takes, made once for each kind.
fn key(recipe: &Recipe) -> PublicKey {
    static RSA: std::sync::OnceLock<PublicKey> = std::sync::OnceLock::new();
    static EC: std::sync::OnceLock<PublicKey> = std::sync::OnceLock::new();
    let of = |a| PrivateKey::generate(a, &Fixed).unwrap().public().clone();
    match recipe.facts.keys.contains(&KeyAlgorithm::P256) {
        true => EC.get_or_init(|| of(KeyAlgorithm::P256)).clone(),
        // RSA needs bytes that are random enough to find primes in.
        false => RSA
            .get_or_init(|| {
                struct Counting(std::cell::Cell<u64>);
                impl tamga_core::plan::ports::Entropy for Counting {
                    fn fill(&self, into: &mut [u8]) {
                        for b in into {
                            self.0.set(self.0.get().wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1));
                            *b = (self.0.get() >> 33) as u8;
                        }
                    }
                }
                PrivateKey::generate(KeyAlgorithm::Rsa2048, &Counting(std::cell::Cell::new(7)))
                    .unwrap()
                    .public()
                    .clone()
            })
            .clone(),
    }
}

fn plain(recipe: &Recipe) -> Setting {
    Setting {
        system: recipe.facts.system.unwrap_or(System::Linux),
        label: "charts".parse().unwrap(),
        names: ["charts.saltmarsh.test", "*.buoys.saltmarsh.test", "192.168.7.7"]
            .map(|n| Name::from_str(n).unwrap())
            .to_vec(),
        key: key(recipe),
        sha256: Sha256Fingerprint::of(b"charts"),
        life: recipe.life(None).unwrap(),
        folder: "/home/operator/charts".into(),
        locked: false,
        into: None,
        address: None,
        port: None,
        redirect: None,
        only_13: false,
        clients: None,
        owner: None,
        raise: false,
    }
}

/// A POSIX shell's words; None if a quote stays open.
fn words(line: &str) -> Option<Vec<String>> {
    let (mut out, mut word, mut inside, mut any) = (Vec::new(), String::new(), None, false);
    let mut letters = line.chars();
    while let Some(c) = letters.next() {
        match (inside, c) {
            (None, ' ') => {
                if any {
                    out.push(std::mem::take(&mut word));
                }
                any = false;
                continue;
            }
            (None, '\'' | '"') => inside = Some(c),
            (Some(q), c) if q == c => inside = None,
            (None | Some('"'), '\\') => word.push(letters.next()?),
            (_, c) => word.push(c),
        }
        any = true;
    }
    if any {
        out.push(word);
    }
    inside.is_none().then_some(out)
}

/// Every line that is to be typed.
fn typed(w: &Written) -> Vec<String> {
    let files = w.files.iter().flat_map(|f| f.lines.clone());
    files.chain(w.renewal.iter().cloned()).filter(|l| l.starts_with("install ") || l.starts_with("tamga ")).collect()
}

const MARKS: [&str; 22] = [
    "{label}",
    "{port}",
    "{at}",
    "{plain}",
    "{host}",
    "{first}",
    "{names}",
    "{aliases}",
    "{address}",
    "{listen}",
    "{owner}",
    "{mode}",
    "{certificate}",
    "{key}",
    "{root}",
    "{store}",
    "{secret}",
    "{clients}",
    "{sudo}",
    "{minimum}",
    "{folder}",
    "{made}",
];

fn whole(recipe: &Recipe, w: &Written) {
    let steps = w.files.iter().chain(&w.steps).flat_map(|s| s.lines.iter().chain(std::iter::once(&s.what)));
    let all: Vec<String> = steps.chain(&w.renewal).chain([&w.config, &w.path]).cloned().collect();
    for text in &all {
        for mark in MARKS {
            assert!(!text.contains(mark), "{}: {mark} is left in {text}", recipe.id);
        }
        for flag in [
            "?redirect",
            "!redirect",
            "?clients",
            "!clients",
            "?only13",
            "!only13",
            "?locked",
            "?bound",
            "!bound",
            "?other",
        ] {
            assert!(!text.lines().any(|l| l.starts_with(flag)), "{}: {flag} is left in {text}", recipe.id);
        }
    }
    assert!(!w.config.trim().is_empty() && !w.path.is_empty() && w.steps.len() >= 3, "{}", recipe.id);
}

#[test]
fn every_recipe_is_whole_for_every_setting() {
    let (mut seen, mut refused) = (0, 0);
    for r in recipe::ALL {
        for bits in 0..64_u32 {
            let on = |n: u32| bits & (1 << n) != 0;
            let mut s = plain(r);
            s.redirect = on(0).then_some(8080);
            s.clients = on(1).then(|| ("crew".parse().unwrap(), "/home/operator/root.pem".into()));
            s.only_13 = on(2);
            s.locked = on(3);
            s.address = on(4).then(|| if on(5) { "::1" } else { "127.0.0.1" }.parse().unwrap());
            s.port = on(5).then_some(9443);
            // Nothing is taken that nobody would notice: a test below names who refuses what.
            let Ok(w) = recipe::write(r, &s) else {
                refused += 1;
                continue;
            };
            whole(r, &w);
            // What was asked for changes something, or it is said that it does not.
            let without = |change: fn(&mut Setting)| {
                let mut other = s.clone();
                change(&mut other);
                let o = recipe::write(r, &other).unwrap();
                o.config != w.config || o.steps != w.steps
            };
            let said = |part: &str| w.remarks.iter().any(|n| n.contains(part));
            if on(0) {
                assert!(without(|s| s.redirect = None) != said("no redirect"), "{}", r.id);
            }
            if on(1) {
                assert!(without(|s| s.clients = None), "{}", r.id);
            }
            if on(2) {
                assert!(without(|s| s.only_13 = false) != said("minimum protocol version"), "{}", r.id);
            }
            if on(3) {
                assert!(w.remarks.iter().any(|n| n.contains("passphrase")), "{}", r.id);
            }
            seen += 1;
        }
    }
    assert_eq!(seen + refused, recipe::ALL.len() * 64);
    let refuses = |id: &&&Recipe, bits: u32| {
        let (clients, address, port) = (bits & 2 != 0, bits & 16 != 0, bits & 32 != 0);
        clients && NO_CLIENTS.contains(&id.id)
            || (address || port) && NOTICE_NEITHER.contains(&id.id)
            || address && NO_ADDRESS.contains(&id.id)
    };
    let all = (0..64).flat_map(|bits| recipe::ALL.iter().filter(move |r| refuses(r, bits)));
    assert_eq!(refused, all.count());
}

/// They check no client's certificate.
const NO_CLIENTS: [&str; 14] = [
    "admin-console",
    "deno",
    "device",
    "gateway",
    "iis",
    "influxdb",
    "kestrel",
    "kubernetes",
    "lighttpd",
    "prosody",
    "remote-desktop",
    "sqlserver",
    "webtransport",
    "winrm",
];

/// Their ports and addresses are set elsewhere, for all their services.
const NOTICE_NEITHER: [&str; 7] =
    ["device", "freeradius", "key-database", "kubernetes", "postfix", "prosody", "remote-desktop"];
/// Their text knows a port alone.
const NO_ADDRESS: [&str; 3] = ["gateway", "general", "iis"];

#[test]
fn an_option_that_nobody_would_notice_is_refused() {
    for r in recipe::ALL {
        let refused = |change: fn(&mut Setting)| {
            let mut s = plain(r);
            change(&mut s);
            recipe::write(r, &s).err().map(|e| e.to_string())
        };
        let (port, address) = (refused(|s| s.port = Some(9443)), refused(|s| s.address = Some([10, 9, 8, 7].into())));
        assert_eq!(port.is_some(), NOTICE_NEITHER.contains(&r.id), "{}: {port:?}", r.id);
        let none = NOTICE_NEITHER.contains(&r.id) || NO_ADDRESS.contains(&r.id);
        assert_eq!(address.is_some(), none, "{}: {address:?}", r.id);
        let clients = refused(|s| s.clients = Some(("crew".parse().unwrap(), "/home/operator/root.pem".into())));
        assert_eq!(clients.is_some(), NO_CLIENTS.contains(&r.id), "{}: {clients:?}", r.id);
        // An account that reads the files where they are has to be able to.
        let owner = refused(|s| s.owner = Some("gauge".into()));
        let stays = r.facts.place == FileLocation::Issued && r.facts.form == Form::Pem;
        assert_eq!(owner.is_some(), stays, "{}: {owner:?}", r.id);
        let own = refused(|s| (s.owner, s.into) = (Some("gauge".into()), Some("/etc/own".into())));
        assert_eq!(own, None, "{}", r.id);
    }
}

/// The command that starts a server for the first time is not always the one by which it takes up renewed files.
#[test]
fn a_first_start_and_a_renewal_are_distinguished() {
    let lines = |id: &str, clients: bool| {
        let r = recipe::find(id).unwrap();
        let mut s = plain(r);
        s.clients = clients.then(|| ("crew".parse().unwrap(), "/home/operator/root.pem".into()));
        let w = recipe::write(r, &s).unwrap();
        let start = w.steps.iter().find(|w| w.what.starts_with("start it")).unwrap().lines.join("\n");
        (start, w.renewal.join("\n"))
    };
    for id in ["redis", "mysql", "rabbitmq", "mongodb"] {
        let (start, renewal) = lines(id, false);
        assert!(start.contains("systemctl restart"), "{id}: {start}");
        assert!(!renewal.contains("systemctl restart"), "{id}: {renewal}");
    }
    // Their own command would have to show a certificate of the clients' authority, which is nobody's here.
    for id in ["redis", "mongodb"] {
        assert!(lines(id, true).1.contains("systemctl restart"), "{id}");
    }
    for id in ["go", "rust", "php"] {
        assert_eq!(lines(id, false).1, "", "{id} reads its files for each connection");
    }
}

#[test]
fn a_server_with_an_account_gets_copies_that_it_alone_reads() {
    for r in recipe::ALL.iter().filter(|r| plain(r).system == System::Linux) {
        let mut s = plain(r);
        s.into = Some("/etc/own".into());
        s.owner = Some("gauge".into());
        let w = recipe::write(r, &s).unwrap();
        let lines = typed(&w);
        let secret =
            |l: &&String| l.contains("private-key.pem /") || l.ends_with(".combined.pem") || l.ends_with(".p12");
        let copies: Vec<&String> = lines.iter().filter(|l| l.starts_with("install ")).filter(secret).collect();
        assert!(!copies.is_empty(), "{}: {lines:?}", r.id);
        for line in copies {
            assert!(line.contains("-o gauge -g gauge"), "{}: {line}", r.id);
            assert!(line.contains("-m 0600") || line.contains("-m 0400"), "{}: {line}", r.id);
        }
        // Where the files stand they are named, and nowhere else.
        assert!(!w.config.contains("/home/operator/charts/"), "{}: {}", r.id, w.config);
    }
}

/// Every recipe whose steps are known for Windows, as they are there.
fn on_windows() -> impl Iterator<Item = &'static Recipe> {
    recipe::ALL.iter().filter_map(|r| r.on(Some(System::Windows)).ok()).map(|(r, _)| r)
}

#[test]
fn on_windows_nothing_of_another_system_is_typed_and_the_key_is_closed_before_it_is_there() {
    let mut brought = 0;
    for r in on_windows() {
        for folder in ["/home/operator/charts", "C:\\Users\\the operator's\\charts"] {
            let is_here = folder.starts_with("C:");
            for bits in 0..32_u32 {
                let on = |n: u32| bits & (1 << n) != 0;
                let mut s = Setting { system: System::Windows, folder: folder.into(), ..plain(r) };
                s.redirect = on(0).then_some(8080);
                s.clients = on(1).then(|| ("crew".parse().unwrap(), format!("{folder}/../root.pem").into()));
                s.only_13 = on(2);
                (s.owner, s.into) = on(3).then(|| ("NT SERVICE\\Tide's".into(), "D:/the lab's".into())).unzip();
                s.port = on(4).then_some(9443);
                let Ok(w) = recipe::write(r, &s) else { continue };
                whole(r, &w);
                let lines: Vec<&String> = w.files.iter().flat_map(|f| &f.lines).chain(&w.renewal).collect();
                for line in &lines {
                    let is_ours = line.starts_with("(umask") || line.starts_with("tamga ") || line.starts_with('#');
                    assert!(is_ours && !is_here || !line.contains("/home/operator"), "{}: {line}", r.id);
                    for word in ["install -", "sudo ", "systemctl", "$(cat", "umask", "od -An"] {
                        assert!(is_ours && !is_here || !line.contains(word), "{}: {line}", r.id);
                    }
                }
                let at = |part: &str| lines.iter().position(|l| l.starts_with(part));
                let has_key = |l: &&&String| l.contains("private-key.pem") || l.contains("charts.p12");
                if let Some(copied) =
                    lines.iter().filter(has_key).find_map(|l| l.starts_with("Copy-Item").then(|| at(l))?)
                {
                    brought += 1;
                    // Nobody owns the directory who made it before, or has a right there that he gave himself.
                    let first = at("icacls").unwrap();
                    for (n, part) in ["/setowner '*S-1-5-32-544'", "/reset", "/inheritance:r"].iter().enumerate() {
                        assert!(first + n < copied && lines[first + n].contains(part), "{}: {lines:?}", r.id);
                    }
                    assert!(!lines[first].contains("ProgramData"), "{}: anybody may make it there", r.id);
                    // An apostrophe is doubled inside quotes.
                    let reader = "'NT SERVICE\\Tide''s:(OI)(CI)R'";
                    assert!(!on(3) || lines.iter().any(|l| l.contains(reader)), "{}: {lines:?}", r.id);
                }
                let is_script = w.path.ends_with(".ps1");
                assert!(is_script || !w.config.contains("C:\\") || r.id == "general", "{}: {}", r.id, w.config);
            }
        }
    }
    assert!(brought > 300, "{brought}");
}

#[test]
fn only_a_key_that_the_server_takes_is_taken() {
    let ed25519 = PrivateKey::generate(KeyAlgorithm::Ed25519, &Fixed).unwrap().public().clone();
    let (mut took, mut refused) = (0, 0);
    for r in recipe::ALL {
        let s = Setting { key: ed25519.clone(), ..plain(r) };
        let takes = r.facts.keys.contains(&KeyAlgorithm::Ed25519);
        assert_eq!(recipe::write(r, &s).is_ok(), takes, "{}", r.id);
        assert_eq!(r.key(Some(KeyAlgorithm::Ed25519)).is_ok(), takes, "{}", r.id);
        assert!(r.facts.keys.contains(&r.key(None).unwrap()), "{}", r.id);
        if takes { took += 1 } else { refused += 1 }
    }
    assert!(took > 5 && refused > 5);
}

#[test]
fn a_form_with_a_key_gets_a_passphrase_by_a_file_and_never_by_an_argument() {
    for r in recipe::ALL.iter().filter(|r| matches!(r.facts.form, Form::Pkcs12 | Form::Jks)) {
        let w = recipe::write(r, &plain(r)).unwrap();
        let exports = typed(&w).into_iter().filter(|l| l.starts_with("tamga export"));
        let exports: Vec<String> = exports.filter(|l| !l.contains("--as der")).collect();
        assert!(!exports.is_empty(), "{}", r.id);
        assert!(exports.iter().all(|l| l.contains("--new-passphrase-file ")), "{}: {exports:?}", r.id);
    }
}

/// A certificate of loopback names alone is for this machine: by default nothing listens for others.
#[test]
fn a_loopback_certificate_is_served_on_loopback_by_default() {
    let names = ["localhost", "127.0.0.1", "::1"].map(|n| Name::from_str(n).unwrap()).to_vec();
    let everywhere = ["0.0.0.0", "*:", "[::]"];
    for r in recipe::ALL {
        let local = Setting { names: names.clone(), redirect: Some(8080), ..plain(r) };
        let config = recipe::write(r, &local).unwrap().config;
        for wide in everywhere {
            assert!(!config.contains(wide), "{} listens on {wide}:\n{config}", r.id);
        }
        let reply = Setting { address: Some([0, 0, 0, 0].into()), ..local };
        let Ok(reply) = recipe::write(r, &reply).map(|w| w.config) else { continue };
        let knows = recipe::write(r, &Setting { address: Some([10, 9, 8, 7].into()), ..plain(r) }).unwrap().config;
        assert!(!knows.contains("10.9.8.7") || reply.contains("0.0.0.0"), "{}: --address says so", r.id);
    }
}

/// What a recipe serves is never the directory in which the key lies.
#[test]
fn no_recipe_serves_the_directory_of_the_key() {
    for r in recipe::ALL {
        let w = recipe::write(r, &plain(r)).unwrap();
        for line in w.config.lines() {
            let serves =
                ["SimpleHTTPRequestHandler)", "root /home/operator/charts", "DocumentRoot /home/operator/charts"];
            assert!(!serves.iter().any(|bad| line.contains(bad) && !line.contains("directory=")), "{}: {line}", r.id);
        }
    }
}

proptest! {
    #[test]
    fn a_shell_reads_every_path_back(folder in "/[a-zA-Z0-9 '\"$;&|*?()\\\\-]{1,24}", owner in "[a-z]{1,8}") {
        prop_assume!(!folder.ends_with(' ') && !folder.contains("//"));
        for r in recipe::ALL {
            let s = Setting { folder: folder.clone().into(), into: Some("/etc/own".into()), owner: Some(owner.clone()), ..plain(r) };
            let w = recipe::write(r, &s).unwrap();
            for line in typed(&w) {
                let words = words(&line).unwrap_or_else(|| panic!("{}: a quote stays open: {line}", r.id));
                let names = words.iter().filter(|w| w.starts_with(&folder)).count();
                let copies = words[0] == "install" && !words.contains(&"-d".to_owned());
                prop_assert!(names > 0 || !copies, "{}: {line}: {words:?}", r.id);
            }
        }
    }

    #[test]
    fn no_line_of_a_log_breaks_the_explanation(line in "\\PC{0,200}") {
        for known in recipe::known(&line) {
            prop_assert!(!known.fault.text.is_empty());
        }
    }
}
