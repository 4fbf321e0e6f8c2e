//! Other forms: written here, read by others and again by Tamga.

use crate::{lab, sandbox};
use std::process::Command;
use tamga_testkit::sandbox::{COMPLETE, Sandbox, has};

/// A lab with an intermediate, a certificate under it (`charts.saltmarsh.test`), and a passphrase in `secret`.
fn served() -> Sandbox {
    let s = sandbox().without_clients();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["authority", "create", "web", "--issuer", "saltmarsh"]).expect(0);
    s.run(&["issue", "charts.saltmarsh.test", "--issuer", "web"]).expect(0);
    std::fs::write(s.lab("secret"), "spring tide 7\n").unwrap();
    s
}

fn sha256(s: &Sandbox, label: &str) -> String {
    s.json(&["show", label]).expect(0).json()["objects"][0]["sha256"].as_str().unwrap().to_owned()
}

const PROTECTED: [&str; 2] = ["--new-passphrase-file", "secret"];

#[test]
fn every_form_holds_what_was_asked_for_and_keys_are_private() {
    use std::os::unix::fs::PermissionsExt;
    let s = served();
    let leaf = sha256(&s, "charts.saltmarsh.test");
    for (form, file, key, certificates) in [
        ("pem", "pem", false, 2),
        ("combined-pem", "combined.pem", true, 2),
        ("der", "cer", false, 1),
        ("pkcs8", "pk8", true, 0),
        ("pkcs12", "p12", true, 2),
        ("pkcs7", "p7b", false, 3),
        ("mobileconfig", "mobileconfig", false, 1),
        ("kubernetes-secret", "yaml", true, 2),
    ] {
        let made = s.json(&["export", "charts.saltmarsh.test", "--as", form]).expect(0).json()["exports"][0].clone();
        let file = s.lab(&format!("charts.saltmarsh.test.{file}"));
        assert_eq!((made["form"].as_str(), made["has_key"].as_bool()), (Some(form), Some(key)));
        let mode = std::fs::metadata(&file).unwrap().permissions().mode() & 0o777;
        assert_eq!(mode, if key { 0o600 } else { 0o644 }, "{form}");
        // A key store gets a passphrase of its own; every other form with a key is open, and says so.
        let (open, store) = (key && form != "pkcs12", form == "pkcs12");
        assert_eq!(open, made["notes"].to_string().contains("anyone who has this file has the private key"), "{form}");
        assert_eq!(made["passphrase_file"].is_string(), store, "{form}");
        let mut show = vec!["show".to_owned(), file.display().to_string()];
        if store {
            show.extend(["--passphrase-file".to_owned(), made["passphrase_file"].as_str().unwrap().to_owned()]);
        }
        let show: Vec<&str> = show.iter().map(String::as_str).collect();
        let shown = s.json(&show).expect(0).json();
        let of = |kind: &str| shown["objects"].as_array().unwrap().iter().filter(|o| o["kind"] == kind).count();
        assert_eq!((of("certificate"), of("private-key")), (certificates, usize::from(key)), "{form}: {shown}");
        if form != "mobileconfig" && certificates > 0 {
            assert!(shown.to_string().contains(&leaf), "{form}");
        }
    }
    let spelled = s.json(&["export", "charts.saltmarsh.test", "--as", "fingerprint"]).expect(0).json();
    assert_eq!(spelled["exports"][0]["fingerprints"][0]["value"], leaf.as_str());
    let line = s.run(&["export", "charts.saltmarsh.test", "--as", "base64"]).expect(0).out;
    std::fs::write(s.lab("line.txt"), line).unwrap();
    assert!(s.json(&["show", "line.txt"]).expect(0).out.contains(&leaf));
    let history = s.run(&["show", "charts.saltmarsh.test", "--history"]).expect(0).out;
    assert!(history.contains("exported") && history.contains("pkcs12 into"), "{history}");
}

#[test]
fn what_cannot_be_is_refused_and_nothing_is_overwritten() {
    let s = served();
    let refused = |words: &[&str], code: i32| s.json(&[&["export"], words].concat()).expect(code).json();
    assert!(refused(&["saltmarsh", "--as", "pkcs8"], 3)["error"]["why"].to_string().contains("no private key"));
    refused(&["charts.saltmarsh.test", "--as", "der", "--new-passphrase-file", "secret"], 3);
    refused(&["charts.saltmarsh.test", "--as", "pem", "--legacy"], 2);
    refused(&["charts.saltmarsh.test", "--as", "pkcs11"], 2);
    assert_eq!(refused(&["nothing.test", "--as", "pem"], 3)["error"]["code"], "label-unknown");
    std::fs::write(s.lab("mine.p12"), "mine").unwrap();
    refused(&["charts.saltmarsh.test", "--as", "pkcs12", "--output", "mine.p12"], 3);
    assert_eq!(std::fs::read(s.lab("mine.p12")).unwrap(), b"mine");
    s.run(&["export", "charts.saltmarsh.test", "--as", "pkcs12", "--output", "mine.p12", "--yes"]).expect(0);
    s.run(&["export", "charts.saltmarsh.test", "--as", "pkcs12", "--output", "dry.p12", "--dry-run"]).expect(0);
    assert!(!s.lab("dry.p12").exists());
    // Another certificate's key is not put beside it.
    s.run(&["issue", "archive.saltmarsh.test", "--issuer", "web"]).expect(0);
    let words =
        ["charts.saltmarsh.test", "--as", "combined-pem", "--key-file", "archive.saltmarsh.test/private-key.pem"];
    assert_eq!(refused(&words, 3)["error"]["code"], "key-mismatch");
}

#[test]
fn a_foreign_file_is_converted_and_its_passphrase_is_needed() {
    let s = served();
    let p12 = ["export", "charts.saltmarsh.test", "--as", "pkcs12", "--legacy", "--output", "device.p12"];
    s.run(&[&p12[..], &PROTECTED].concat()).expect(0);
    std::fs::write(s.lab("wrong"), "neap tide\n").unwrap();
    let convert = ["export", "device.p12", "--as", "combined-pem", "--output", "device.pem"];
    s.run(&convert).expect(3);
    s.run(&[&convert[..], &["--passphrase-file", "wrong"]].concat()).expect(3);
    assert!(!s.lab("device.pem").exists());
    s.run(&[&convert[..], &["--passphrase-file", "secret"]].concat()).expect(0);
    let matched = s.json(&["match", "device.pem", "charts.saltmarsh.test/private-key.pem"]).expect(0).out;
    assert!(matched.contains("device.pem"), "{matched}");
    // The chain of a directory that other programs filled: leaf first, whatever the order in the file.
    let pem = std::fs::read_to_string(s.lab("charts.saltmarsh.test/certificate.pem")).unwrap();
    let (leaf, above) = pem.split_at(pem.find("-----END CERTIFICATE-----\n").unwrap() + 26);
    let root = std::fs::read_to_string(s.lab("charts.saltmarsh.test/root.pem")).unwrap();
    std::fs::write(s.lab("odd.pem"), [&root, above, leaf].concat()).unwrap();
    s.run(&["export", "odd.pem", "--as", "pem", "--output", "chain.pem"]).expect(0);
    assert_eq!(std::fs::read_to_string(s.lab("chain.pem")).unwrap(), pem);
}

#[test]
fn a_key_in_a_version_controlled_folder_is_ignored_or_warned_of() {
    let s = served();
    std::fs::create_dir_all(s.lab(".git")).unwrap();
    s.run(&["export", "charts.saltmarsh.test", "--as", "pem"]).expect(0);
    assert!(!s.lab(".gitignore").exists());
    for (form, ending) in [("pkcs12", "p12"), ("pkcs8", "pk8")] {
        s.run(&["export", "charts.saltmarsh.test", "--as", form]).expect(0);
        let ignored = std::fs::read_to_string(s.lab(".gitignore")).unwrap();
        assert!(ignored.lines().any(|l| l == format!("/charts.saltmarsh.test.{ending}")), "{ignored}");
    }
    std::fs::write(s.lab(".gitignore"), "target\n").unwrap();
    let warned = s.run(&["export", "charts.saltmarsh.test", "--as", "combined-pem"]).expect(0).out;
    assert!(warned.contains("add the line /charts.saltmarsh.test.combined.pem"), "{warned}");
    assert_eq!(std::fs::read_to_string(s.lab(".gitignore")).unwrap(), "target\n");
}

/// What Java finds in a store: alias, kind, length of the chain, SHA-256.
fn java(s: &Sandbox, kind: &str, file: &str, passphrase: &str) -> Result<String, String> {
    let words = ["-Xshare:auto", "-XX:TieredStopAtLevel=1", "ReadStore", kind];
    let mut command = Command::new("java");
    let ran = command.arg("-cp").arg(s.lab("")).args(words).arg(s.lab(file)).arg(passphrase).output().unwrap();
    match ran.status.success() {
        true => Ok(String::from_utf8(ran.stdout).unwrap()),
        false => Err(String::from_utf8_lossy(&ran.stderr).into_owned()),
    }
}

#[test]
fn java_opens_key_stores_and_trust_stores() {
    if !has(&["java", "javac"]) {
        return;
    }
    let s = served();
    let leaf = sha256(&s, "charts.saltmarsh.test");
    let root = sha256(&s, "saltmarsh");
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/java/ReadStore.java");
    assert!(Command::new("javac").arg("-d").arg(s.lab("")).arg(source).status().unwrap().success());
    let words = |form: &'static str| vec!["export", "charts.saltmarsh.test", "--as", form, "--yes"];
    for (form, kind, legacy) in [("pkcs12", "PKCS12", false), ("pkcs12", "PKCS12", true), ("jks", "JKS", false)] {
        let mut typed = [&words(form)[..], &PROTECTED, &["--output", "store"]].concat();
        if legacy {
            typed.push("--legacy");
        }
        s.run(&typed).expect(0);
        let found = java(&s, kind, "store", "spring tide 7").unwrap();
        assert_eq!(found.trim(), format!("charts.saltmarsh.test key fits 2 {leaf}"), "{form} {legacy}");
        assert!(java(&s, kind, "store", "neap tide").unwrap_err().contains("password was incorrect"));
    }
    s.run(&["export", "saltmarsh", "--as", "pkcs12"]).expect(0);
    s.run(&["export", "saltmarsh", "--as", "jks"]).expect(0);
    let trusted = format!("saltmarsh trusted 0 {root}");
    for passphrase in ["-", "changeit", "anything"] {
        assert_eq!(java(&s, "PKCS12", "saltmarsh.p12", passphrase).unwrap().trim(), trusted);
    }
    for passphrase in ["-", "changeit"] {
        assert_eq!(java(&s, "JKS", "saltmarsh.jks", passphrase).unwrap().trim(), trusted);
    }
}

/// Python's cryptography library as Debian packages it.
#[test]
fn pythons_library_opens_what_was_written() {
    let python = "/usr/bin/python3";
    let there = Command::new(python).args(["-c", "import cryptography"]).output().is_ok_and(|o| o.status.success());
    if !there {
        assert!(std::env::var_os(COMPLETE).is_none(), "python3-cryptography must be installed here");
        eprintln!("SKIPPED: python3-cryptography is not installed");
        return;
    }
    let s = lab();
    std::fs::write(s.lab("secret"), "spring tide 7\n").unwrap();
    for kind in ["p256", "rsa2048", "ed25519"] {
        let label = format!("{kind}.saltmarsh.test");
        s.run(&["issue", &label, "--key-algorithm", kind]).expect(0);
        // The newer protection takes its time: once is enough.
        let ways = [(false, true), (true, true), (true, false)];
        for (legacy, protected) in ways.into_iter().skip(usize::from(kind != "p256")) {
            let mut words = vec!["export", &label, "--as", "pkcs12", "--output", "store.p12", "--yes"];
            words.extend(if legacy { &["--legacy"][..] } else { &[] });
            words.extend(if protected { &PROTECTED[..] } else { &[] });
            s.run(&words).expect(0);
            let script = "import sys\n\
                from cryptography.hazmat.primitives.serialization import pkcs12, Encoding, PublicFormat\n\
                from cryptography.hazmat.primitives import hashes\n\
                word = sys.argv[2].encode() or None\n\
                p = pkcs12.load_pkcs12(open(sys.argv[1], 'rb').read(), word)\n\
                spki = lambda k: k.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)\n\
                assert spki(p.key.public_key()) == spki(p.cert.certificate.public_key())\n\
                print(p.cert.friendly_name.decode(), p.cert.certificate.fingerprint(hashes.SHA256()).hex())\n";
            let made = || std::fs::read_to_string(s.lab("store.p12.passphrase")).unwrap();
            let word = if protected { "spring tide 7".to_owned() } else { made() };
            let ran = Command::new(python).args(["-c", script]).arg(s.lab("store.p12")).arg(word).output().unwrap();
            let said = String::from_utf8_lossy(&ran.stdout).into_owned();
            let errors = String::from_utf8_lossy(&ran.stderr).into_owned();
            assert_eq!(said.trim(), format!("{label} {}", sha256(&s, &label)), "{kind} {legacy}: {errors}");
        }
    }
}
