//! Signed requests of a library that we did not write: Python's cryptography makes keys and signs with each algorithm, its hmac binds external
//! accounts; what is changed by one bit is refused.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use serde_json::{Value, json};
use std::process::Command;
use tamga_core::enrollment::binding::Binding;
use tamga_core::enrollment::jwk::{ALGORITHMS, Jwk};
use tamga_core::enrollment::jws::{Request, Signer};
use tamga_core::enrollment::problem::ProblemType;
use tamga_testkit::sandbox;

const SIGN: &str = r#"
import base64, hashlib, hmac, json
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa, utils
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
b64 = lambda b: base64.urlsafe_b64encode(b).decode().rstrip("=")
url = "https://enroll.saltmarsh.test/new-account"
def octets(n, length=None):
    return n.to_bytes(length or (n.bit_length() + 7) // 8, "big")
def curve(c, h, crv, size):
    key = ec.generate_private_key(c)
    n = key.public_key().public_numbers()
    jwk = {"kty": "EC", "crv": crv, "x": b64(octets(n.x, size)), "y": b64(octets(n.y, size))}
    def sign(m):
        r, s = utils.decode_dss_signature(key.sign(m, ec.ECDSA(h)))
        return octets(r, size) + octets(s, size)
    return key, jwk, sign
def edwards():
    key = ed25519.Ed25519PrivateKey.generate()
    x = key.public_key().public_bytes(Encoding.Raw, PublicFormat.Raw)
    return key, {"kty": "OKP", "crv": "Ed25519", "x": b64(x)}, key.sign
def modulus():
    key = rsa.generate_private_key(65537, 2048)
    n = key.public_key().public_numbers()
    return key, {"kty": "RSA", "n": b64(octets(n.n)), "e": b64(octets(n.e))}, lambda m: key.sign(m, padding.PKCS1v15(), hashes.SHA256())
def flattened(header, payload, sign):
    protected, payload = b64(json.dumps(header).encode()), b64(payload)
    return {"protected": protected, "payload": payload, "signature": b64(sign(f"{protected}.{payload}".encode()))}
out = []
for alg, (key, jwk, sign) in {
    "ES256": curve(ec.SECP256R1(), hashes.SHA256(), "P-256", 32),
    "ES384": curve(ec.SECP384R1(), hashes.SHA384(), "P-384", 48),
    "ES512": curve(ec.SECP521R1(), hashes.SHA512(), "P-521", 66),
    "EdDSA": edwards(),
    "RS256": modulus(),
}.items():
    canonical = json.dumps(jwk, sort_keys=True, separators=(",", ":")).encode()
    bindings = {}
    for name, digest in [("HS256", "sha256"), ("HS384", "sha384"), ("HS512", "sha512")]:
        header = {"alg": name, "kid": "gauge-7", "url": url}
        bindings[name] = flattened(header, json.dumps(jwk).encode(), lambda m: hmac.new(b"tide" * 8, m, digest).digest())
    header = {"alg": alg, "jwk": jwk, "nonce": b64(b"nonce"), "url": url}
    spki = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    body = flattened(header, json.dumps({"termsOfServiceAgreed": True}).encode(), sign)
    out.append({"alg": alg, "jwk": jwk, "thumbprint": b64(hashlib.sha256(canonical).digest()), "body": body,
                "spki": b64(spki), "bindings": bindings})
print(json.dumps(out))
"#;

const URL: &str = "https://enroll.saltmarsh.test/new-account";

/// What the other library made: for each algorithm a key, a signed request, and external accounts.
fn made() -> Option<Vec<Value>> {
    let ended = Command::new("/usr/bin/python3").args(["-W", "ignore", "-c", SIGN]).output().ok();
    let text = ended.filter(|e| e.status.success()).map(|e| String::from_utf8(e.stdout).unwrap());
    assert!(
        text.is_some() || std::env::var_os(sandbox::COMPLETE).is_none(),
        "python3-cryptography must be installed here"
    );
    if text.is_none() {
        eprintln!("SKIPPED: no python3-cryptography");
    }
    serde_json::from_str(&text?).unwrap()
}

/// The same text with another letter somewhere, which is base64url all the same.
fn changed(text: &str, at: usize) -> String {
    let mut octets = text.as_bytes().to_vec();
    octets[at] = if octets[at] == b'A' { b'B' } else { b'A' };
    String::from_utf8(octets).unwrap()
}

#[test]
fn requests_that_another_library_signs_are_read_and_verified() {
    let Some(all) = made() else { return };
    assert_eq!(all.iter().map(|m| m["alg"].as_str().unwrap()).collect::<Vec<_>>(), ALGORITHMS);
    for m in &all {
        let key = Jwk::parse(&m["jwk"]).unwrap();
        assert_eq!(key.thumbprint(), m["thumbprint"], "{}", m["alg"]);
        assert_eq!(key.algorithm().word(), m["alg"]);
        let spki = tamga_core::enrollment::from_base64url(m["spki"].as_str().unwrap()).unwrap();
        assert_eq!(Jwk::of_spki(&spki).as_ref(), Some(&key), "{}", m["alg"]);
        let request = Request::parse(m["body"].to_string().as_bytes()).unwrap();
        assert_eq!((&request.signer, request.url.as_str()), (&Signer::Key(key.clone()), URL));
        assert_eq!(request.verify(&key), Ok(()), "{}", m["alg"]);
        assert_eq!(request.object().unwrap()["termsOfServiceAgreed"], true);
        // Another bit of the signature or of what was signed.
        let signature = m["body"]["signature"].as_str().unwrap();
        for at in [0, signature.len() / 3, signature.len() / 2] {
            let mut body = m["body"].clone();
            body["signature"] = json!(changed(signature, at));
            let request = Request::parse(body.to_string().as_bytes()).unwrap();
            assert_eq!(request.verify(&key).unwrap_err().kind, ProblemType::Malformed, "{} {at}", m["alg"]);
        }
        let mut body = m["body"].clone();
        body["payload"] = json!(tamga_core::enrollment::base64url(b"{\"termsOfServiceAgreed\":false}"));
        assert!(Request::parse(body.to_string().as_bytes()).unwrap().verify(&key).is_err());
        body["signature"] = json!("");
        assert!(Request::parse(body.to_string().as_bytes()).unwrap().verify(&key).is_err());
    }
    // The key of one is not that of another, whatever the algorithm.
    for (a, b) in all.iter().zip(all.iter().skip(1)) {
        let request = Request::parse(a["body"].to_string().as_bytes()).unwrap();
        assert!(request.verify(&Jwk::parse(&b["jwk"]).unwrap()).is_err());
    }
}

#[test]
fn external_accounts_are_bound_by_the_invitation_to_this_key_and_place() {
    let Some(all) = made() else { return };
    let refused = |value: &Value, url: &str, key: &Jwk| Binding::parse(value, url, key).map(drop).unwrap_err().kind;
    for m in &all {
        let key = Jwk::parse(&m["jwk"]).unwrap();
        for (name, value) in m["bindings"].as_object().unwrap() {
            let binding = Binding::parse(value, URL, &key).unwrap();
            assert_eq!(binding.kid, "gauge-7");
            assert_eq!(binding.verify(&b"tide".repeat(8)), Ok(()), "{name}");
            for wrong in [&b""[..], b"tide", &b"tide".repeat(9)] {
                assert_eq!(binding.verify(wrong).unwrap_err().kind, ProblemType::Unauthorized, "{name}");
            }
            assert_eq!(refused(value, "https://enroll.saltmarsh.test/new-order", &key), ProblemType::Malformed);
            let mut cut = value.clone();
            cut["signature"] = json!("");
            assert!(Binding::parse(&cut, URL, &key).unwrap().verify(&b"tide".repeat(8)).is_err());
        }
    }
    // Somebody else's key; a request in the place of a binding; no binding at all.
    let (one, other) = (&all[0], Jwk::parse(&all[1]["jwk"]).unwrap());
    assert_eq!(refused(&one["bindings"]["HS256"], URL, &other), ProblemType::Malformed);
    let key = Jwk::parse(&one["jwk"]).unwrap();
    for value in [&one["body"], &json!(null), &json!({}), &json!([1])] {
        assert_eq!(refused(value, URL, &key), ProblemType::Malformed, "{value}");
    }
}
