//! What a hostile file may cost: bounded processor time and memory, an answer with exit code 3, never a panic.

use crate::lab;
use std::os::unix::process::CommandExt;
use tamga_testkit::matrix::chain::{Key, Pool};
use tamga_testkit::matrix::make::{Hash, Recipe, basic, bits, constraints, id, name, names, usage};
use tamga_testkit::sandbox::{Ran, Sandbox};

/// Seconds of processor time that any of these may take, and kilobytes of address space.
const SECONDS: u64 = 12;
const MEMORY: u64 = 700_000;

/// Runs a command under these ceilings: the kernel ends it where it asks for more.
fn bounded(s: &Sandbox, words: &[&str]) -> Ran {
    let mut c = s.command(words);
    // SAFETY: between fork and exec only plain system calls are made.
    unsafe {
        c.pre_exec(|| {
            use nix::sys::resource::{Resource, setrlimit};
            setrlimit(Resource::RLIMIT_CPU, SECONDS, SECONDS + 1)?;
            setrlimit(Resource::RLIMIT_AS, MEMORY << 10, MEMORY << 10)?;
            Ok(())
        });
    }
    let out = c.output().unwrap();
    assert!(out.status.code().is_some(), "tamga {} was ended by the kernel: {:?}", words.join(" "), out.status);
    out.into()
}

fn tlv(tag: u8, parts: &[&[u8]]) -> Vec<u8> {
    let body = parts.concat();
    let mut out = vec![tag];
    match body.len() {
        n if n < 128 => out.push(u8::try_from(n).unwrap()),
        n => {
            let bytes = n.to_be_bytes();
            let short = &bytes[bytes.iter().position(|b| *b != 0).unwrap()..];
            out.push(0x80 | u8::try_from(short.len()).unwrap());
            out.extend_from_slice(short);
        }
    }
    [out, body].concat()
}

fn integer(n: u64) -> Vec<u8> {
    let bytes = [&[0], &n.to_be_bytes()[..]].concat();
    let first = bytes.iter().position(|b| *b != 0).unwrap_or(bytes.len() - 1);
    let from = if bytes[first] & 0x80 != 0 { first - 1 } else { first };
    tlv(2, &[&bytes[from..]])
}

const PBES2: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x05\x0d";
const PBKDF2: &[u8] = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x05\x0c";
const SCRYPT: &[u8] = b"\x06\x09\x2b\x06\x01\x04\x01\xda\x47\x04\x0b";
const AES: &[u8] = b"\x06\x09\x60\x86\x48\x01\x65\x03\x04\x01\x2a";

/// An encrypted PKCS#8 key whose key derivation is this.
fn locked(kdf: &[u8]) -> Vec<u8> {
    let cipher = tlv(0x30, &[AES, &tlv(4, &[&[7; 16]])]);
    let algorithm = tlv(0x30, &[PBES2, &tlv(0x30, &[kdf, &cipher])]);
    tlv(0x30, &[&algorithm, &tlv(4, &[&[9; 64]])])
}

fn scrypt(n: u64, r: u64, p: u64) -> Vec<u8> {
    let settings = tlv(0x30, &[&tlv(4, &[&[7; 16]]), &integer(n), &integer(r), &integer(p)]);
    locked(&tlv(0x30, &[SCRYPT, &settings]))
}

fn pbkdf2(rounds: u64) -> Vec<u8> {
    let settings = tlv(0x30, &[&tlv(4, &[&[7; 16]]), &integer(rounds)]);
    locked(&tlv(0x30, &[PBKDF2, &settings]))
}

#[test]
fn a_key_derivation_that_makes_no_sense_or_takes_for_ever_is_refused() {
    let s = lab();
    std::fs::write(s.lab("pass"), "x\n").unwrap();
    for (what, bytes) in [
        ("scrypt with N = 0", scrypt(0, 8, 1)),
        ("scrypt with N = 1", scrypt(1, 8, 1)),
        ("scrypt with N = 3", scrypt(3, 8, 1)),
        ("scrypt with r = 0", scrypt(1 << 14, 0, 1)),
        ("scrypt with p = 0", scrypt(1 << 14, 8, 0)),
        ("scrypt with p = 60000", scrypt(1 << 14, 8, 60_000)),
        ("scrypt of 16 GiB", scrypt(1 << 24, 8, 1)),
        ("scrypt with N = 2^63", scrypt(1 << 63, 8, 1)),
        ("PBKDF2 with 0 rounds", pbkdf2(0)),
        ("PBKDF2 with 4,000,000,000 rounds", pbkdf2(4_000_000_000)),
    ] {
        std::fs::write(s.lab("key.der"), &bytes).unwrap();
        for words in [
            &["show", "key.der", "--passphrase-file", "pass"][..],
            &["issue", "x.test", "--key-file", "key.der", "--passphrase-file", "pass"],
            &["export", "key.der", "--as", "pkcs8", "--passphrase-file", "pass", "--output", "x"],
        ] {
            let ran = bounded(&s, words);
            assert!(matches!(ran.code, 2 | 3), "{what}, {words:?}: {} {}{}", ran.code, ran.out, ran.err);
            assert!(!ran.err.contains("a bug in"), "{what}: {}", ran.err);
        }
    }
}

/// Thousands of names against thousands of constraints: no client compares them all, and neither do we.
#[test]
fn many_names_against_many_constraints_come_to_an_answer() {
    let s = lab();
    let pool = Pool::new();
    let bases: Vec<String> = (0..5_000).map(|n| format!("b{n}.test")).collect();
    let all: Vec<String> = (0..5_000).map(|n| format!("n{n}.saltmarsh.test")).collect();
    fn refs(v: &[String]) -> Vec<&str> {
        v.iter().map(String::as_str).collect()
    }
    let part = |subject: Vec<u8>, ca: bool| {
        let mut r = Recipe {
            subject,
            from: -86_400,
            until: 86_400 * 90,
            extensions: Vec::new(),
            hash: Hash::Usual,
            spoilt: false,
        };
        r.set(id::BASIC, true, basic(ca, None));
        r.set(id::USAGE, true, usage(if ca { bits::CERT_SIGN } else { bits::DIGITAL_SIGNATURE }));
        r
    };
    let mut root = part(name("crowd"), true);
    root.set(id::CONSTRAINTS, true, constraints(&[], &refs(&bases)));
    let (above, below) = (pool.get(Key::P256(1)), pool.get(Key::P256(0)));
    let root_der = root.sign(above.public(), &root.subject, above, &[1]);
    let mut leaf = part(name("leaf"), false);
    leaf.set(id::NAMES, false, names(&refs(&all)));
    let leaf_der = leaf.sign(below.public(), &root.subject, above, &[2]);
    std::fs::write(s.lab("root.der"), root_der).unwrap();
    std::fs::write(s.lab("leaf.der"), leaf_der).unwrap();
    let words = ["check", "leaf.der", "--anchor", "root.der", "--name", "n1.saltmarsh.test", "--format", "json"];
    let clients = ["--clients", "standard,curl,chromium,firefox,java,go,gnutls,node,python"];
    let ran = bounded(&s, &[&words[..], &clients].concat());
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(ran.out.contains("budget-exhausted"), "{}", &ran.out[..ran.out.len().min(2_000)]);
}

/// Each parser, fed with what grows without end in the way that its format allows.
#[test]
fn no_parser_takes_more_than_its_share() {
    let s = lab();
    let deep = |n: usize| -> Vec<u8> { (0..n).fold(vec![5, 0], |inner, _| tlv(0x30, &[&inner])) };
    let certificate = std::fs::read_to_string(s.lab("charts/certificate.pem")).unwrap();
    let many = certificate.repeat(4_000);
    let octets = tlv(0x30, &[&tlv(0x04, &[&vec![0; 1 << 20]])]);
    let zeros = vec![0; 30 << 20];
    let dashes = "-----BEGIN CERTIFICATE-----\n".repeat(400_000);
    let base64 = format!("-----BEGIN CERTIFICATE-----\n{}\n-----END CERTIFICATE-----\n", "A".repeat(20 << 20));
    let yaml = format!("kind: Secret\ndata:\n{}", "  tls.crt: LS0tLS1CRUdJTg==\n".repeat(200_000));
    let jks =
        [&[0xfe, 0xed, 0xfe, 0xed, 0, 0, 0, 2, 0xff, 0xff, 0xff, 0xff][..], &[0, 0, 0, 2].repeat(1 << 20)].concat();
    for (file, bytes) in [
        ("deep.der", deep(20_000)),
        ("many.pem", many.into_bytes()),
        ("octets.der", octets),
        ("zeros.p12", zeros),
        ("dashes.pem", dashes.into_bytes()),
        ("base64.pem", base64.into_bytes()),
        ("secret.yaml", yaml.into_bytes()),
        ("store.jks", jks),
    ] {
        std::fs::write(s.lab(file), bytes).unwrap();
        for words in [
            &["show", file][..],
            &["sign", file],
            &["check", file, "--name", "x.test", "--clients", "standard"],
            &["trust", "add", file, "--stores", "bundle", "--bundle", "b.pem"],
            &["export", file, "--as", "pem", "--output", "out.pem", "--yes"],
        ] {
            let ran = bounded(&s, words);
            assert!(ran.code != 70 && ran.code >= 0, "{words:?}: {}", ran.err);
        }
    }
    // Text files that Tamga reads line by line.
    let lines = |line: &str| line.repeat(300_000);
    for (words, text) in [
        (&["issue", "--list", "text"][..], lines("\"")),
        (&["apply", "text"], lines("[[certificate]]\n")),
        (&["apply", "text"], format!("a = {}", "[".repeat(200_000))),
        (&["hosts", "status", "--file", "text"], lines("127.0.0.1 a\n")),
        (&["check", "--list", "text", "--clients", "standard"], lines("#\n")),
    ] {
        std::fs::write(s.lab("text"), &text).unwrap();
        let ran = bounded(&s, words);
        assert!(ran.code != 70 && ran.code >= 0, "{words:?}: {}", ran.err);
    }
}
