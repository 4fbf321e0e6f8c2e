//! Forms that Tamga writes, opened by the libraries for which they are meant: Node.js, PHP, GnuTLS, NSS, and readers of property lists and YAML.

use crate::sandbox;
use std::process::Command;
use tamga_testkit::sandbox::{COMPLETE, Sandbox, has};

const NODE: &str = r"
const [file, passphrase] = process.argv.slice(1);
const { readFileSync } = require('node:fs'), { createHash } = require('node:crypto');
const { context } = require('node:tls').createSecureContext({ pfx: readFileSync(file), passphrase });
console.log(createHash('sha256').update(context.getCertificate()).digest('hex'), context.getIssuer() ? 2 : 1);
";

const PHP: &str = r#"
if (!openssl_pkcs12_read(file_get_contents($argv[1]), $found, $argv[2])) exit(openssl_error_string() . "\n");
if (!openssl_x509_check_private_key($found["cert"], $found["pkey"])) exit("the key is another's\n");
echo openssl_x509_fingerprint($found["cert"], "sha256"), " ", 1 + count($found["extracerts"] ?? []), "\n";
"#;

/// GnuTLS has no library of its own for Python: its functions are called as they are (gnutls/pkcs12.h).
const GNUTLS: &str = r#"
import ctypes, sys
g = ctypes.CDLL("libgnutls.so.30")
class Datum(ctypes.Structure):
    _fields_ = [("data", ctypes.c_char_p), ("size", ctypes.c_uint)]
def must(code):
    if code < 0:
        g.gnutls_strerror.restype = ctypes.c_char_p
        sys.exit(g.gnutls_strerror(code).decode())
with open(sys.argv[1], "rb") as file:
    data = file.read()
word = sys.argv[2].encode()
store, key, chain, length = ctypes.c_void_p(), ctypes.c_void_p(), ctypes.POINTER(ctypes.c_void_p)(), ctypes.c_uint()
must(g.gnutls_pkcs12_init(ctypes.byref(store)))
must(g.gnutls_pkcs12_import(store, ctypes.byref(Datum(data, len(data))), 0, 0))
must(g.gnutls_pkcs12_verify_mac(store, word))
must(g.gnutls_pkcs12_simple_parse(store, word, ctypes.byref(key), ctypes.byref(chain), ctypes.byref(length), None, None, None, 0))
size, print_ = ctypes.c_size_t(32), ctypes.create_string_buffer(32)
must(g.gnutls_x509_crt_get_fingerprint(ctypes.c_void_p(chain[0]), 6, print_, ctypes.byref(size)))
print(print_.raw.hex(), length.value)
"#;

/// NSS, as Firefox and Chromium on Linux use it (nss/p12.h); the label is the name under which it finds the certificate again.
const NSS: &str = r#"
import ctypes, hashlib, sys, tempfile, time
nss, smime = ctypes.CDLL("libnss3.so"), ctypes.CDLL("libsmime3.so")
P = ctypes.c_void_p
class Item(ctypes.Structure):
    _fields_ = [("type", ctypes.c_uint), ("data", ctypes.c_char_p), ("len", ctypes.c_uint)]
class Certificate(ctypes.Structure):
    # Its beginning, to the encoded certificate (nss/certt.h).
    _fields_ = [("before", P * 3), ("wrap", Item * 4), ("der_type", ctypes.c_uint), ("der", P), ("der_len", ctypes.c_uint)]
for library, name in [(nss, "PK11_GetInternalKeySlot"), (smime, "SEC_PKCS12DecoderStart"), (nss, "PK11_FindKeyByAnyCert"), (nss, "CERT_FindCertIssuer")]:
    getattr(library, name).restype = P
nss.PK11_FindCertFromNickname.restype = ctypes.POINTER(Certificate)
def must(code, what):
    if code != 0:
        sys.exit(f"{what}: {ctypes.CDLL('libnspr4.so').PR_GetError()}")
with open(sys.argv[1], "rb") as file:
    data = file.read()
must(nss.NSS_InitReadWrite(b"sql:" + tempfile.mkdtemp().encode()), "init")
slot = P(nss.PK11_GetInternalKeySlot())
must(nss.PK11_InitPin(slot, None, b""), "pin")
word = sys.argv[2].encode("utf-16-be") + b"\0\0"
decoder = P(smime.SEC_PKCS12DecoderStart(ctypes.byref(Item(0, word, len(word))), slot, None, None, None, None, None, None))
must(smime.SEC_PKCS12DecoderUpdate(decoder, data, ctypes.c_ulong(len(data))), "update")
must(smime.SEC_PKCS12DecoderVerify(decoder), "verify")
collide = ctypes.CFUNCTYPE(P, P, P, P)(lambda *_: None)
must(smime.SEC_PKCS12DecoderValidateBags(decoder, collide), "validate")
must(smime.SEC_PKCS12DecoderImportBags(decoder), "import")
found = nss.PK11_FindCertFromNickname(sys.argv[3].encode(), None)
der = ctypes.string_at(found.contents.der, found.contents.der_len)
if not nss.PK11_FindKeyByAnyCert(found, None):
    sys.exit("no key belongs to it")
issuer = nss.CERT_FindCertIssuer(found, ctypes.c_int64(int(time.time() * 1e6)), 1)
print(hashlib.sha256(der).hexdigest(), 2 if issuer else 1)
"#;

/// A lab with an intermediate and certificates of three kinds of keys under it.
fn made() -> Sandbox {
    let s = sandbox().without_clients();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["authority", "create", "web", "--issuer", "saltmarsh"]).expect(0);
    for kind in ["p256", "rsa2048", "ed25519"] {
        s.run(&["issue", "charts.saltmarsh.test", "--issuer", "web", "--label", kind, "--key-algorithm", kind])
            .expect(0);
    }
    s
}

fn sha256(s: &Sandbox, label: &str) -> String {
    s.json(&["show", label]).expect(0).json()["objects"][0]["sha256"].as_str().unwrap().to_owned()
}

/// What a program says of a store: the SHA-256 of the certificate with the key, and how many it sends; else why not.
fn said(words: &[&str], script: &str, store: &std::path::Path, words_after: [&str; 2]) -> String {
    let mut command = Command::new(words[0]);
    let out = command.args(&words[1..]).arg(script).arg(store).args(words_after).output().unwrap();
    format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr))
}

#[test]
fn node_php_gnutls_and_nss_open_the_stores_that_are_written() {
    if !has(&["node", "php", "python3"]) {
        return;
    }
    let s = made();
    std::fs::write(s.lab("secret"), "spring tide 7\n").unwrap();
    let mut opened = 0;
    for label in ["p256", "rsa2048", "ed25519"] {
        let leaf = sha256(&s, label);
        // A passphrase of its own has few rounds; one that a person chose has many; the older encryption.
        for more in [&[][..], &["--new-passphrase-file", "secret"], &["--legacy"]] {
            let words = ["export", label, "--as", "pkcs12", "--output", "store.p12", "--yes"];
            let _ = std::fs::remove_file(s.lab("store.p12.passphrase"));
            s.run(&[&words[..], more].concat()).expect(0);
            let file = if more.contains(&"secret") { "secret" } else { "store.p12.passphrase" };
            let passphrase = std::fs::read_to_string(s.lab(file)).unwrap();
            let store = s.lab("store.p12");
            for (program, script, marks) in [
                (&["node", "-e"][..], NODE, "mac verify failure"),
                (&["php", "-r"], PHP, "mac verify failure"),
                (&["python3", "-c"], GNUTLS, "Authentication Code verification failed"),
                (&["python3", "-c"], NSS, "verify: -8177"),
            ] {
                let found = said(program, script, &store, [passphrase.trim(), label]);
                if script == NSS && label == "ed25519" {
                    // NSS 3.87 has no keys of this kind; later ones may.
                    opened += usize::from(found.trim() == format!("{leaf} 2") || found.contains("import: -8099"));
                    continue;
                }
                assert_eq!(found.trim(), format!("{leaf} 2"), "{program:?}, {label} {more:?}");
                opened += 1;
                if label == "p256" {
                    let refused = said(program, script, &store, ["neap tide", label]);
                    assert!(refused.contains(marks), "{program:?}: {refused}");
                }
            }
        }
    }
    assert_eq!(opened, 36);
}

#[test]
fn profiles_and_manifests_hold_the_certificates() {
    let python = "/usr/bin/python3";
    let there = Command::new(python).args(["-c", "import yaml"]).output().is_ok_and(|o| o.status.success());
    if !there {
        assert!(std::env::var_os(COMPLETE).is_none(), "python3-yaml must be installed here");
        eprintln!("SKIPPED: python3-yaml not installed");
        return;
    }
    let s = made();
    s.run(&["export", "saltmarsh", "--as", "mobileconfig", "--output", "lab.mobileconfig"]).expect(0);
    s.run(&["export", "p256", "--as", "kubernetes-secret", "--output", "secret.yaml"]).expect(0);
    let script = r#"
import base64, plistlib, ssl, yaml
with open("lab.mobileconfig", "rb") as file:
    profile = plistlib.load(file)
roots = [p["PayloadContent"] for p in profile["PayloadContent"] if p["PayloadType"] == "com.apple.security.root"]
assert [ssl.DER_cert_to_PEM_cert(r).split() for r in roots] == [open("p256/root.pem").read().split()], profile
ids = [profile["PayloadUUID"]] + [p["PayloadUUID"] for p in profile["PayloadContent"]]
assert profile["PayloadType"] == "Configuration" and len(set(ids)) == len(ids), ids
secret = yaml.safe_load(open("secret.yaml"))
assert (secret["kind"], secret["type"]) == ("Secret", "kubernetes.io/tls"), secret
for key, file in (("tls.crt", "certificate.pem"), ("tls.key", "private-key.pem")):
    assert base64.b64decode(secret["data"][key]) == open("p256/" + file, "rb").read(), key
print("good")
"#;
    let out = Command::new(python).args(["-c", script]).current_dir(s.lab("")).output().unwrap();
    let errors = String::from_utf8_lossy(&out.stderr);
    assert_eq!(String::from_utf8_lossy(&out.stdout).trim(), "good", "{errors}");
}
