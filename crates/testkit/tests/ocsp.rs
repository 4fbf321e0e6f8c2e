//! OCSP with a library that we did not write: Python's cryptography asks, and reads and verifies what is answered.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use std::path::Path;
use std::process::Command;
use tamga_core::ca::authority::create::{self, Request as Wanted};
use tamga_core::ca::issue::{self, Holder, Signer};
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::pki::ocsp::{Request, Responder, Standing, question};
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::reason::Reason;
use tamga_host::entropy::{System, now};
use tamga_testkit::sandbox;

const ASK: &str = r#"
import sys
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.x509 import ocsp
read = lambda p: x509.load_der_x509_certificate(open(p, "rb").read())
b = ocsp.OCSPRequestBuilder().add_certificate(read(sys.argv[1]), read(sys.argv[2]), getattr(hashes, sys.argv[4])())
if sys.argv[5]:
    b = b.add_extension(x509.OCSPNonce(sys.argv[5].encode()), False)
from cryptography.hazmat.primitives.serialization import Encoding
open(sys.argv[3], "wb").write(b.build().public_bytes(Encoding.DER))
"#;

const READ: &str = r#"
import sys
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding
from cryptography.x509 import ocsp
r = ocsp.load_der_ocsp_response(open(sys.argv[1], "rb").read())
issuer = x509.load_der_x509_certificate(open(sys.argv[2], "rb").read())
if r.response_status != ocsp.OCSPResponseStatus.SUCCESSFUL:
    print(r.response_status.name)
    sys.exit()
key = (r.certificates[0] if r.certificates else issuer).public_key()
if isinstance(key, ec.EllipticCurvePublicKey):
    key.verify(r.signature, r.tbs_response_bytes, ec.ECDSA(r.signature_hash_algorithm))
elif isinstance(key, ed25519.Ed25519PublicKey):
    key.verify(r.signature, r.tbs_response_bytes)
else:
    key.verify(r.signature, r.tbs_response_bytes, padding.PKCS1v15(), r.signature_hash_algorithm)
nonces = [e.value.nonce.decode() for e in r.extensions if isinstance(e.value, x509.OCSPNonce)]
print(r.certificate_status.name, "%x" % r.serial_number, r.revocation_reason and r.revocation_reason.name, nonces, len(r.certificates),
      r.next_update > r.this_update)
"#;

fn python(script: &str, arguments: &[&Path], words: &[&str]) -> String {
    let ended = Command::new("/usr/bin/python3")
        .args(["-W", "ignore", "-c", script])
        .args(arguments)
        .args(words)
        .output()
        .unwrap();
    assert!(ended.status.success(), "{}", String::from_utf8_lossy(&ended.stderr));
    String::from_utf8(ended.stdout).unwrap().trim().to_owned()
}

/// True if the judge is there; else it is said that the test is skipped.
fn has_cryptography() -> bool {
    let has =
        Command::new("/usr/bin/python3").args(["-c", "import cryptography"]).output().is_ok_and(|o| o.status.success());
    assert!(has || std::env::var_os(sandbox::COMPLETE).is_none(), "python3-cryptography must be installed here");
    if !has {
        eprintln!("SKIPPED: no python3-cryptography");
    }
    has
}

#[test]
fn another_library_asks_and_believes_the_answer() {
    if !has_cryptography() {
        return;
    }
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name);
    for algorithm in [KeyAlgorithm::P256, KeyAlgorithm::P384, KeyAlgorithm::Ed25519, KeyAlgorithm::Rsa2048] {
        let key = PrivateKey::generate(algorithm, &System).unwrap();
        let wanted = Wanted::plain("saltmarsh".parse().unwrap());
        let root = create::root(&wanted, &key, "saltmarsh".into(), now(), &System).unwrap().authority;
        let host: Name = "charts.saltmarsh.test".parse().unwrap();
        let leaf_key = PrivateKey::generate(KeyAlgorithm::P256, &System).unwrap();
        let asked = issue::Request::server(vec![host.clone()], host.label().unwrap(), "charts".into());
        let signer = Signer::Authority(&root, &key);
        let leaf =
            issue::make(&asked, &Holder::Key(&leaf_key, None), &signer, b"", now(), &System).unwrap().certificate;
        std::fs::write(path("leaf"), leaf.der()).unwrap();
        std::fs::write(path("root"), root.certificate.der()).unwrap();
        let revoked = Standing::Revoked { at: now().plus(-60), reason: Reason::KeyCompromise };
        let unspecified = Standing::Revoked { at: now().plus(-60), reason: Reason::Unspecified };
        for (hash, nonce, standing, wanted) in [
            ("SHA1", "", Standing::Good, "GOOD"),
            ("SHA256", "tide-and-time", Standing::Good, "GOOD"),
            ("SHA1", "n", revoked, "REVOKED"),
            ("SHA1", "", unspecified, "REVOKED"),
            ("SHA1", "", Standing::Unknown, "UNKNOWN"),
        ] {
            python(ASK, &[&path("leaf"), &path("root"), &path("request")], &[hash, nonce]);
            let request = Request::read(&std::fs::read(path("request")).unwrap()).unwrap();
            assert!(request.asked[0].is_of(&root.certificate) && request.asked[0].serial == leaf.serial);
            let responder = Responder {
                certificate: &root.certificate,
                key: &key,
                is_delegated: false,
                this_update: now(),
                next_update: now().plus(43_200),
            };
            let answers = [(request.asked[0].clone(), standing)];
            let answer = responder.answer(&answers, request.nonce.as_deref(), &System).unwrap();
            std::fs::write(path("answer"), answer).unwrap();
            let reason = if standing == revoked { "key_compromise" } else { "None" };
            let nonces = if nonce.is_empty() { "[]".to_owned() } else { format!("['{nonce}']") };
            let serial = leaf.serial.trim_start_matches('0');
            let said = python(READ, &[&path("answer"), &path("root")], &[]);
            assert_eq!(said, format!("{wanted} {serial} {reason} {nonces} 0 True"), "{algorithm:?} {hash} {nonce}");
        }
        // Our own question is the one that they write.
        python(ASK, &[&path("leaf"), &path("root"), &path("request")], &["SHA1", ""]);
        assert_eq!(std::fs::read(path("request")).unwrap(), question(&leaf, &root.certificate));
    }
}
