//! Servers that take only what Tamga's own TLS does not speak, or what few clients still offer: the chain is read all the same, and each
//! client does what it is foreseen to do.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::process::{Child, Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};

/// A server of Python's with one list of ciphers, one group, one version; says its port.
const SERVER: &str = "\
import ssl, sys, socket, threading
folder, ciphers, group, version = sys.argv[1:5]
c = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
c.load_cert_chain(folder + '/certificate.pem', folder + '/private-key.pem')
if version == '1.2': c.maximum_version = ssl.TLSVersion.TLSv1_2
if version == '1.3': c.minimum_version = ssl.TLSVersion.TLSv1_3
if ciphers != '-': c.set_ciphers(ciphers + ':@SECLEVEL=0')
if group != '-': c.set_ecdh_curve(group)
s = socket.create_server(('127.0.0.1', 0))
print(s.getsockname()[1], flush=True)
def one(k):
    try:
        with c.wrap_socket(k, server_side=True) as t:
            t.recv(4096)
            t.sendall(b'HTTP/1.1 200 OK\\r\\nContent-Length: 0\\r\\nConnection: close\\r\\n\\r\\n')
    except OSError:
        pass
while True:
    threading.Thread(target=one, args=(s.accept()[0],), daemon=True).start()
";

struct Served(Child, u16);

impl Drop for Served {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn served(s: &Sandbox, label: &str, how: [&str; 3]) -> Served {
    let mut c = Command::new("python3");
    c.args(["-c", SERVER]).arg(s.lab(label)).args(how).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = c.spawn().unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
    Served(child, line.trim().parse().unwrap())
}

/// Verdict and words of each client, predicted or observed.
fn said(v: &Value, basis: &str) -> Vec<String> {
    let all = v["targets"][0]["clients"].as_array().unwrap().iter().filter(|c| c["basis"] == basis);
    all.map(|c| format!("{} {} {}", c["client"], c["verdict"], c["code"])).collect()
}

#[test]
fn the_chain_of_a_server_that_ours_cannot_meet_is_judged_and_each_client_does_as_foreseen() {
    if !has(&["python3", "curl", "node", "go", "ruby", "php"]) {
        return;
    }
    let s = lab();
    s.run(&["issue", "localhost", "--label", "rsa", "--key-algorithm", "rsa2048"]).expect(0);
    s.run(&["issue", "localhost", "--label", "ec"]).expect(0);
    let root = s.lab("ec/root.pem").display().to_string();
    let all = [
        ("rsa", ["AES128-GCM-SHA256", "-", "1.2"], "TLS_RSA_WITH_AES_128_GCM_SHA256", "go"),
        ("rsa", ["ECDHE-RSA-AES128-SHA", "-", "1.2"], "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", "go"),
        ("rsa", ["ECDHE-RSA-AES128-SHA256", "-", "1.2"], "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256", "python"),
        ("ec", ["ECDHE-ECDSA-AES128-SHA256", "-", "1.2"], "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256", "python"),
        ("ec", ["-", "secp521r1", "1.2"], "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", "go"),
        ("ec", ["-", "secp521r1", "1.3"], "TLS13_AES_256_GCM_SHA384", "go"),
    ];
    for (label, how, cipher, takes_it) in all {
        let server = served(&s, label, how);
        let target = format!("localhost:{}", server.1);
        let words = [
            "check",
            &target,
            "--resolve",
            "localhost=127.0.0.1",
            "--clients",
            "curl,python,node,go,ruby,php",
            "--observe",
        ];
        let mut c = s.command(&[&words[..], &["--format", "json"]].concat());
        c.env("SSL_CERT_FILE", &root).env("NODE_EXTRA_CA_CERTS", &root);
        let v: Value = serde_json::from_slice(&c.output().unwrap().stdout).unwrap();
        assert_eq!(v["targets"][0]["connections"][0]["cipher"], cipher, "{how:?}: {v}");
        assert_eq!(v["targets"][0]["chain"][0]["names"][0], "localhost", "{how:?}");
        assert_eq!(said(&v, "predicted"), said(&v, "observed"), "{how:?}");
        assert!(
            said(&v, "observed").iter().any(|t| t.starts_with(&format!("\"{takes_it}\" \"accepts\""))),
            "{how:?}: {v}"
        );
    }
    // A browser that lacks the group is judged so, though nobody ran it.
    let server = served(&s, "ec", ["-", "secp521r1", "1.3"]);
    let target = format!("localhost:{}", server.1);
    let words =
        ["check", &target, "--resolve", "localhost=127.0.0.1", "--clients", "chromium", "--anchor", "ec/root.pem"];
    let v = s.json(&words).expect(1).json();
    assert_eq!(v["targets"][0]["clients"][0]["code"], "net::ERR_SSL_VERSION_OR_CIPHER_MISMATCH");
    assert_eq!(v["targets"][0]["findings"][0]["code"], "no-common-cipher");
}
