//! Keys on PKCS#11 tokens: SoftHSM as it is, read back by another PKCS#11 client, and behind a module that misbehaves in every way.

mod faults;

use crate::sandbox;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt as _;
use std::process::Command;
use tamga_testkit::sandbox::{Ran, Sandbox, brought, has};
use tamga_testkit::site::Site;

pub(super) const PIN: &str = "73519046";
const MODULE: &str = "/usr/lib/softhsm/libsofthsm2.so";

/// A sandbox with a token; None where SoftHSM is not installed.
pub(super) fn with_token() -> Option<Sandbox> {
    if !has(&["softhsm2-util"]) {
        return None;
    }
    let s = sandbox();
    std::fs::create_dir_all(s.path("home/.config/softhsm2")).unwrap();
    std::fs::create_dir(s.path("tokens")).unwrap();
    let conf = format!("directories.tokendir = {}\nobjectstore.backend = file\n", s.path("tokens").display());
    std::fs::write(s.path("home/.config/softhsm2/softhsm2.conf"), conf).unwrap();
    for (name, pin) in [("pin", PIN), ("wrong-pin", "00000000")] {
        std::fs::write(s.lab(name), format!("{pin}\n")).unwrap();
        std::fs::set_permissions(s.lab(name), std::fs::Permissions::from_mode(0o600)).unwrap();
    }
    add_token(&s, "lab");
    Some(s)
}

fn add_token(s: &Sandbox, label: &str) {
    let made = s
        .around("softhsm2-util")
        .args(["--init-token", "--free", "--label", label, "--pin", PIN, "--so-pin", "12345678"])
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

pub(super) fn create(s: &Sandbox, label: &str, more: &[&str]) -> Ran {
    let uri = format!("pkcs11:token=lab;object={label}");
    let words = ["authority", "create", label, "--key-uri", &uri, "--module", MODULE, "--passphrase-file", "pin"];
    s.run(&[&words[..], more].concat())
}

fn one(s: &Sandbox, label: &str) -> Value {
    let all = s.json(&["authority", "show", label]).expect(0).json();
    all["authorities"][0].clone()
}

/// Every kind of key that SoftHSM has signs what a web server shows, and curl takes it (Ed25519 roots: OpenSSL does).
#[test]
fn every_kind_of_key_signs_for_a_server() {
    let Some(s) = with_token() else { return };
    for kind in ["p256", "p384", "ed25519", "rsa2048"] {
        create(&s, kind, &["--key-algorithm", kind]).expect(0);
        let issue = ["issue", "localhost", "127.0.0.1", "--issuer", kind, "--label"];
        let label = format!("charts-{kind}");
        s.run(&[&issue[..], &[&label, "--passphrase-file", "pin"]].concat()).expect(0);
        let a = one(&s, kind);
        assert_eq!((&a["key"], &a["key_extractable"]), (&"token".into(), &false.into()), "{a}");
        assert!(a["key_place"].as_str().unwrap().starts_with(&format!("pkcs11:token=lab;object={kind};id=%")), "{a}");
        let folder = s.path("data/authorities").join(kind);
        assert!(!folder.join("private-key.pem").exists());
        let site = Site::start(&s, &[&label]);
        let checked = s.json(&[
            "check",
            &format!("localhost:{}", site.port),
            "--anchor",
            &folder.join("certificate.pem").display().to_string(),
            "--clients",
            "standard",
        ]);
        checked.expect(0);
        if has(&["curl"]) {
            let url = format!("https://127.0.0.1:{}/", site.port);
            let got = s
                .around("curl")
                .args(["-sS", "-o", "/dev/null", "--cacert"])
                .arg(folder.join("certificate.pem"))
                .arg(url)
                .output()
                .unwrap();
            assert!(got.status.success(), "{kind}: {}", String::from_utf8_lossy(&got.stderr));
        }
    }
    // Nothing of a private key is in the data directory.
    for (file, _) in s.files("data") {
        let bytes = std::fs::read(s.path("data").join(&file)).unwrap();
        assert!(!bytes.windows(11).any(|w| w == b"PRIVATE KEY"), "{}", file.display());
    }
}

#[test]
fn everything_that_signs_signs_with_the_token() {
    let Some(s) = with_token() else { return };
    let pin = ["--passphrase-file", "pin"];
    let run = |words: &[&str]| s.run(&[words, &pin].concat()).expect(0);
    create(&s, "saltmarsh", &[]).expect(0);
    run(&["issue", "charts.saltmarsh.test", "--label", "charts"]);
    run(&["renew", "charts"]);
    s.run(&["request", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
    run(&["sign", "archive/request.pem", "--label", "signed", "--yes"]);
    s.run(&["revoke", "charts", "--reason", "superseded", "--yes"]).expect(0);
    run(&["authority", "crl", "saltmarsh", "--output", "list.pem"]);
    run(&["authority", "permit", "saltmarsh", "tides.example"]);
    // An intermediate whose own key is a file, and one on the token too.
    run(&["authority", "create", "harbour", "--issuer", "saltmarsh"]);
    create(&s, "quay", &["--issuer", "saltmarsh"]).expect(0);
    run(&["issue", "quay.saltmarsh.test", "--issuer", "quay"]);
    run(&["authority", "rollover", "saltmarsh", "saltmarsh-2"]);
    assert_eq!(one(&s, "saltmarsh-2")["key"], "token");
    run(&["issue", "tides.example", "--issuer", "saltmarsh-2"]);
    // What cannot be done with it is said.
    for words in
        [&["authority", "offline", "saltmarsh", "--into", "stick"][..], &["authority", "passphrase", "saltmarsh"]]
    {
        let said = s.run(words).expect(2);
        assert!(said.err.contains("not in a file") && said.err.contains("pkcs11:token=lab"), "{}", said.err);
    }
    std::fs::write(s.lab("backup-passphrase"), "a long enough passphrase\n").unwrap();
    let backup = ["authority", "backup", "--output", "lab.age", "--new-passphrase-file", "backup-passphrase"];
    let kept = s.json(&backup).expect(0).json();
    assert_eq!(kept["keys_on_tokens"], serde_json::json!(["saltmarsh", "quay", "saltmarsh-2"]));
    // Another machine with the backup and the token goes on; the address came along.
    let there = s.path("restored");
    let there = there.to_str().unwrap();
    s.run(&["--data-dir", there, "authority", "restore", "lab.age", "--passphrase-file", "backup-passphrase"])
        .expect(0);
    s.run(&[
        "--data-dir",
        there,
        "issue",
        "gauge-7.saltmarsh.test",
        "--issuer",
        "saltmarsh",
        "--passphrase-file",
        "pin",
    ])
    .expect(0);
    let retired = run(&["authority", "retire", "quay", "--discard-key", "--yes"]);
    assert!(retired.out.contains("delete it with the token's own tools"), "{}", retired.out);
}

/// A module of another maker's language reads what we made: it is there, private, never to leave, and signs.
#[test]
fn another_client_reads_the_keys() {
    let Some(s) = with_token() else { return };
    let Some(folders) = brought() else { return };
    for kind in ["p256", "p384", "ed25519", "rsa2048"] {
        create(&s, kind, &["--key-algorithm", kind]).expect(0);
    }
    let script = r"
import sys, PyKCS11 as p
lib = p.PyKCS11Lib(); lib.load(sys.argv[1])
slot = [s for s in lib.getSlotList(tokenPresent=True) if lib.getTokenInfo(s).label.strip() == 'lab'][0]
session = lib.openSession(slot); session.login(sys.argv[2])
for key in session.findObjects([(p.CKA_CLASS, p.CKO_PRIVATE_KEY)]):
    names = [p.CKA_LABEL, p.CKA_SENSITIVE, p.CKA_EXTRACTABLE, p.CKA_NEVER_EXTRACTABLE, p.CKA_ALWAYS_SENSITIVE, p.CKA_LOCAL, p.CKA_PRIVATE, p.CKA_SIGN]
    print(*session.getAttributeValue(key, names))
";
    let mut python = Command::new("python3");
    python.env("PATH", folders).env("HOME", s.path("home")).args(["-c", script, MODULE, PIN]);
    let read = python.output().unwrap();
    assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
    let mut lines: Vec<String> = String::from_utf8(read.stdout).unwrap().lines().map(str::to_owned).collect();
    lines.sort();
    let right = |kind: &str| format!("{kind} True False True True True True True");
    assert_eq!(lines, ["ed25519", "p256", "p384", "rsa2048"].map(right));
}

#[test]
fn a_key_that_is_there_is_used_once() {
    let Some(s) = with_token() else { return };
    let made = create(&s, "saltmarsh", &[]).expect(0);
    assert!(made.out.contains("made on the token lab, cannot leave it"), "{}", made.out);
    // Under another label the same key would be two authorities.
    let uri = "pkcs11:token=lab;object=saltmarsh";
    let twice = ["authority", "create", "harbour", "--key-uri", uri, "--module", MODULE, "--passphrase-file", "pin"];
    let said = s.run(&twice).expect(3);
    assert!(said.err.contains("the key of the authority saltmarsh"), "{}", said.err);
    // For another data directory it is one that was found there; of another kind than asked for it is not used.
    let other = s.path("other");
    let there = ["--data-dir", other.to_str().unwrap()];
    let refused = s.run(&[&there[..], &twice, &["--key-algorithm", "p384"]].concat()).expect(2);
    assert!(refused.err.contains("not of the kind p384"), "{}", refused.err);
    let found = s.run(&[&there[..], &twice].concat()).expect(0);
    assert!(found.out.contains("found on the token lab"), "{}", found.out);
    // The same CA by its certificate.
    let third = s.path("third");
    let certificate = s.path("data/authorities/saltmarsh/certificate.pem");
    let import = [
        "--data-dir",
        third.to_str().unwrap(),
        "authority",
        "import",
        "saltmarsh",
        "--certificate",
        certificate.to_str().unwrap(),
        "--key-uri",
        uri,
        "--module",
        MODULE,
        "--passphrase-file",
        "pin",
    ];
    s.run(&import).expect(0);
    // A key that a run left behind which did not come to its end: the successor takes it, and makes no second one.
    let left = s.path("left");
    let left = ["--data-dir", left.to_str().unwrap()];
    let beside = ["authority", "create", "x", "--key-uri", "pkcs11:token=lab;object=saltmarsh-2", "--module", MODULE];
    let before = s.json(&[&left[..], &beside, &["--passphrase-file", "pin"]].concat()).expect(0).json();
    s.run(&["authority", "rollover", "saltmarsh", "saltmarsh-2", "--passphrase-file", "pin"]).expect(0);
    assert_eq!(one(&s, "saltmarsh-2")["key_place"], before["authorities"][0]["key_place"]);
    // A certificate of another key.
    create(&s, "harbour", &[]).expect(0);
    let other_key = s.path("data/authorities/harbour/certificate.pem");
    let mut wrong = import.map(str::to_owned);
    (wrong[1], wrong[6]) = (s.path("fourth").display().to_string(), other_key.display().to_string());
    let wrong: Vec<&str> = wrong.iter().map(String::as_str).collect();
    assert!(s.run(&wrong).expect(3).err.contains("does not match the certificate"));
    assert!(!s.path("fourth/authorities/saltmarsh").exists());
}

#[test]
fn the_file_of_the_lab_can_say_that_a_key_is_on_a_token() {
    let Some(s) = with_token() else { return };
    let lab = |more: &str| {
        let text = format!(
            "[[authority]]\nlabel = \"saltmarsh\"\n{more}[[certificate]]\nnames = [\"charts.saltmarsh.test\"]\n"
        );
        std::fs::write(s.lab("tamga.toml"), text).unwrap();
    };
    let key = "key_uri = \"pkcs11:token=lab;object=saltmarsh\"\n";
    // A module alone, and an address that is none, are said with their place, and nothing is made.
    lab(&format!("module = \"{MODULE}\"\n"));
    let ran = s.run(&["apply", "--passphrase-file", "pin"]);
    assert!(ran.code != 0 && ran.err.contains("line 3, column 10") && ran.err.contains("key_uri"), "{}", ran.err);
    lab("key_uri = \"pkcs11:object=a?pin-value=1234\"\n");
    let ran = s.run(&["apply", "--passphrase-file", "pin"]);
    assert!(ran.code != 0 && ran.err.contains("line 3") && !ran.err.contains("1234"), "{}", ran.err);
    lab(&format!("{key}module = \"{MODULE}\"\n"));
    s.run(&["apply", "--passphrase-file", "pin"]).expect(0);
    assert_eq!(one(&s, "saltmarsh")["key"], "token", "{}", one(&s, "saltmarsh"));
    assert!(!s.path("data/authorities/saltmarsh/private-key.pem").exists());
    let ran = s.run(&["apply"]).expect(0);
    assert!(ran.out.contains("nothing to do"), "{}", ran.out);
    // Another key than the one that it has is not passed over either.
    lab(&format!("key_uri = \"pkcs11:token=lab;object=harbour\"\nmodule = \"{MODULE}\"\n"));
    let ran = s.run(&["apply"]).expect(1);
    assert!(ran.out.contains("object=saltmarsh") && ran.out.contains("object=harbour"), "{}", ran.out);
    // One whose key is in a file does not move there by itself, and that is not passed over.
    let other = sandbox();
    other.run(&["authority", "create", "saltmarsh"]).expect(0);
    let text = format!("[[authority]]\nlabel = \"saltmarsh\"\n{key}");
    std::fs::write(other.lab("tamga.toml"), text).unwrap();
    let ran = other.run(&["apply"]).expect(1);
    assert!(ran.out.contains("its key is not on a token"), "{}", ran.out);
}

#[test]
fn what_is_meant_must_be_clear() {
    let Some(s) = with_token() else { return };
    add_token(&s, "other");
    let words = |uri: &'static str| {
        ["authority", "create", "saltmarsh", "--module", MODULE, "--passphrase-file", "pin", "--key-uri", uri]
    };
    for (uri, exit, parts) in [
        ("pkcs11:object=saltmarsh", 3, &["several tokens", "lab (serial", "other (serial"][..]),
        ("pkcs11:token=harbour;object=saltmarsh", 3, &["other tokens", "lab (serial"]),
        ("pkcs11:token=lab;object=saltmarsh?pin-value=1234", 2, &["--passphrase-file"]),
        ("pkcs11:token=lab;type=cert", 2, &["a private key is needed"]),
    ] {
        let said = s.run(&words(uri)).expect(exit);
        for part in parts {
            assert!(said.err.contains(part), "{uri}: {}", said.err);
        }
    }
    let unnamed = s
        .run(&["authority", "create", "saltmarsh", "--key-uri", "pkcs11:token=lab", "--passphrase-file", "pin"])
        .expect(2);
    assert!(unnamed.err.contains("--module"), "{}", unnamed.err);
    let nobody = s
        .run(
            &words("pkcs11:token=lab;object=saltmarsh")[..5]
                .iter()
                .chain(&["--key-uri", "pkcs11:token=lab"])
                .copied()
                .collect::<Vec<_>>(),
        )
        .expect(3);
    assert!(nobody.err.contains("needs its PIN"), "{}", nobody.err);
    s.run(&[&words("pkcs11:token=lab")[..], &["--encrypt-key"]].concat()).expect(2);
    assert!(!s.path("data/authorities/saltmarsh").exists());
    // Two keys of one label on the token: neither is chosen.
    for (label, id) in [("first", "%01"), ("second", "%02")] {
        let data = s.path(label);
        let uri = format!("pkcs11:token=lab;object=twin;id={id}");
        let made = ["--data-dir", data.to_str().unwrap(), "authority", "create", label, "--key-uri", &uri];
        s.run(&[&made[..], &["--module", MODULE, "--passphrase-file", "pin"]].concat()).expect(0);
    }
    let two = s.run(&words("pkcs11:token=lab;object=twin")).expect(3);
    assert!(two.err.contains("2 private keys of that name") && two.err.contains("id=%XX"), "{}", two.err);
}

/// The service's intermediate is on the token: servers enroll, and its list is signed there.
#[test]
fn the_lab_enrolls_itself_with_a_key_on_a_token() {
    let Some(s) = with_token() else { return };
    create(&s, "harbour", &[]).expect(0);
    create(&s, "saltmarsh", &["--issuer", "harbour"]).expect(0);
    let service = crate::enrollment::Service::start(&s, &["--passphrase-file", "pin"]);
    let data = s.path("elsewhere");
    let anchor = s.path("data/authorities/harbour/certificate.pem");
    let listen = format!("127.0.0.1:{}", service.http);
    let words = [
        "--data-dir",
        data.to_str().unwrap(),
        "issue",
        "charts.saltmarsh.test",
        "--from",
        &service.directory,
        "--anchor",
        anchor.to_str().unwrap(),
        "--challenge-listen",
        &listen,
    ];
    s.run(&words).expect(0);
    let issued = service.said("issued");
    assert_eq!(issued.len(), 1, "{issued:?}");
}
