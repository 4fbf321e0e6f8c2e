//! A device that makes its own request, as a program of Python plays it: the default certificate, the signed one, the root that is missing.

use crate::sandbox;
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};

/// Makes a key, a request and a certificate of its own; shows a certificate at a port that it prints.
const DEVICE: &str = r#"
import datetime, socket, ssl, sys
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID

def named(text):
    return x509.Name([x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Gauge Works"), x509.NameAttribute(NameOID.COMMON_NAME, text)])

def write(path, data):
    with open(path, "wb") as file:
        file.write(data)

if sys.argv[1] == "make":
    pem = serialization.Encoding.PEM
    for name in ("default", "device"):
        key = rsa.generate_private_key(65537, 2048)
        write(name + ".key", key.private_bytes(pem, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()))
        if name == "default":
            begin = datetime.datetime(2020, 1, 1)
            builder = x509.CertificateBuilder().subject_name(named("device")).issuer_name(named("device")).serial_number(1)
            builder = builder.public_key(key.public_key()).not_valid_before(begin).not_valid_after(begin + datetime.timedelta(9125))
            write("default.pem", builder.sign(key, hashes.SHA256()).public_bytes(pem))
        else:
            request = x509.CertificateSigningRequestBuilder().subject_name(named("gauge-7.saltmarsh.test"))
            write("request.csr", request.sign(key, hashes.SHA256()).public_bytes(pem))
else:
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(*sys.argv[1:3])
    server = socket.create_server(("127.0.0.1", 0))
    print(server.getsockname()[1], flush=True)
    while True:
        plain, _ = server.accept()
        try:
            with context.wrap_socket(plain, server_side=True) as tls:
                tls.recv(4096)
                tls.sendall(b"HTTP/1.0 200 OK\r\n\r\n4.2 m")
        except OSError:
            pass
"#;

struct Shown(Child, u16);

impl Drop for Shown {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn device(s: &Sandbox, words: &[&str]) -> Command {
    let mut command = Command::new("/usr/bin/python3");
    command.args(["-c", DEVICE]).args(words).current_dir(s.lab(""));
    command
}

fn shows(s: &Sandbox, certificate: &str, key: &str) -> Shown {
    let mut child = device(s, &[certificate, key]).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    Shown(child, line.trim().parse().unwrap())
}

#[test]
fn a_default_certificate_and_a_missing_root_are_two_findings() {
    let there = || {
        Command::new("/usr/bin/python3").args(["-c", "import cryptography"]).output().is_ok_and(|o| o.status.success())
    };
    if !has(&["/usr/bin/python3"]) || !there() {
        let complete = std::env::var_os(tamga_testkit::sandbox::COMPLETE).is_some();
        assert!(!complete, "python3-cryptography must be installed here");
        eprintln!("SKIPPED: python3-cryptography not installed");
        return;
    }
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    assert!(device(&s, &["make"]).status().unwrap().success());
    s.run(&["sign", "request.csr", "gauge-7.saltmarsh.test"]).expect(0);
    let check = |port: u16, more: &[&str]| {
        let target = format!("https://gauge-7.saltmarsh.test:{port}");
        let words = ["check", &target, "--resolve", "gauge-7.saltmarsh.test=127.0.0.1", "--clients", "standard"];
        s.json(&[&words[..], more].concat()).json()["targets"][0].clone()
    };
    let found = |target: &serde_json::Value, code: &str| {
        target["findings"].as_array().unwrap().iter().find(|f| f["code"] == code).cloned()
    };

    // Uploaded, and not chosen.
    let shown = shows(&s, "default.pem", "default.key");
    let target = check(shown.1, &[]);
    let first = &target["findings"][0];
    assert_eq!(first["code"], "not-the-issued-certificate", "{target}");
    assert!(
        first["summary"].as_str().unwrap().contains("a certificate of its own (CN=device, O=Gauge Works)"),
        "{first}"
    );
    let chosen = "choose the certificate of gauge-7.saltmarsh.test for its web service";
    for code in ["not-the-issued-certificate", "self-signed-leaf", "name-not-covered"] {
        let f = found(&target, code).unwrap_or_else(|| panic!("{code}: {target}"));
        assert!(f["remedy"].as_str().unwrap().contains(chosen), "one step fixes all: {f}");
    }
    drop(shown);

    // Chosen; this machine lacks the root.
    let shown = shows(&s, "gauge-7.saltmarsh.test/certificate.pem", "device.key");
    let target = check(shown.1, &[]);
    assert!(found(&target, "not-the-issued-certificate").is_none(), "{target}");
    let f = found(&target, "issuer-unknown").unwrap_or_else(|| panic!("{target}"));
    assert!(f["remedy"].as_str().unwrap().contains("tamga trust add"), "{f}");

    // With the root.
    let target = check(shown.1, &["--anchor", "gauge-7.saltmarsh.test/root.pem"]);
    assert_eq!(target["clients"][0]["verdict"], "accepts", "{target}");
}
