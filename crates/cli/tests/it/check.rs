//! `tamga check` against real servers and real clients.

use crate::{lab, sandbox};
use serde_json::Value;
use std::io::{Read, Write};
use std::net::TcpListener;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_testkit::sample::{self, Identity};
use tamga_testkit::sandbox::{Ran, Sandbox, has};
use tamga_testkit::server::ClosedPort;

const YEAR: i64 = 365 * 86_400;

fn charts(s: &Sandbox) -> Identity {
    Identity {
        certificate: sample::certificate(&s.lab("charts/certificate.pem")),
        key: tamga_core::ca::authority::read_key(&std::fs::read(s.lab("charts/private-key.pem")).unwrap(), "key")
            .unwrap(),
    }
}

fn codes(v: &Value) -> Vec<String> {
    v["targets"][0]["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect()
}

/// Predicted and observed rows of every installed client are the same, error codes included.
#[track_caller]
fn agree(ran: &Ran, clients: &[&str]) -> Vec<(String, String)> {
    let v = ran.json();
    assert!(!codes(&v).contains(&"prediction-differs".to_owned()), "{}", ran.out);
    let rows = v["targets"][0]["clients"].as_array().unwrap();
    clients
        .iter()
        .map(|client| {
            let row = |basis: &str| {
                let found = rows.iter().find(|r| r["client"] == *client && r["basis"] == basis);
                let r = found.unwrap_or_else(|| panic!("{client} has no {basis} row: {}", ran.out));
                (r["verdict"].as_str().unwrap().to_owned(), r["code"].as_str().unwrap_or_default().to_owned())
            };
            let (predicted, observed) = (row("predicted"), row("observed"));
            assert_eq!(predicted, observed, "{client}");
            observed
        })
        .collect()
}

#[test]
fn the_object_has_the_shape_of_the_contract() {
    let s = lab();
    let site = sample::serve(&charts(&s), &[]);
    let url = format!("https://127.0.0.1:{}", site.port);
    let v = s.json(&["check", &url, "--anchor", "charts/root.pem"]).expect(0).json();
    let t = &v["targets"][0];
    assert_eq!((t["kind"].as_str(), t["ok"].as_bool(), v["ok"].as_bool()), (Some("live"), Some(true), Some(true)));
    assert_eq!(t["connections"][0]["protocol"], "TLS 1.3");
    assert_eq!(t["chain"][0]["names"][0], "charts.saltmarsh.test");
    assert_eq!(t["paths"][0].as_array().unwrap().len(), 2);
    assert!(t["redirects"].is_array() && t["findings"].is_array());
    for member in ["client", "place", "basis", "verdict", "code", "findings"] {
        assert!(t["clients"][0].get(member).is_some(), "{member} is missing");
    }
}

#[test]
fn every_fault_of_a_chain_is_named_and_the_exit_code_is_one() {
    let s = lab();
    let root = sample::authority(&s.path("data/authorities/saltmarsh"));
    let server = [Purpose::Server];
    let make = |names: &[&str], purposes: &[Purpose], from, until| {
        sample::leaf(&root, names, purposes, from, until, KeyAlgorithm::P256)
    };
    let foreign = sample::root("harbour");
    let cases = [
        ("expired", make(&["localhost"], &server, -YEAR, -60)),
        ("not-yet-valid", make(&["localhost"], &server, 3_600, YEAR)),
        ("name-not-covered", make(&["archive.saltmarsh.test"], &server, -60, YEAR)),
        ("purpose-missing", make(&["localhost"], &[Purpose::Client], -60, YEAR)),
        ("constraint-violated", make(&["localhost", "x.saltmarsh.org"], &server, -60, YEAR)),
        ("issuer-unknown", sample::leaf(&foreign, &["localhost"], &server, -60, YEAR, KeyAlgorithm::P256)),
    ];
    for (code, identity) in cases {
        let site = sample::serve(&identity, &[]);
        let v = s.json(&["check", &format!("localhost:{}", site.port), "--anchor", "charts/root.pem"]).expect(1).json();
        assert!(codes(&v).contains(&code.to_owned()), "{code} is not among {:?}", codes(&v));
        let standard = &v["targets"][0]["clients"][0];
        assert_eq!((standard["client"].as_str(), standard["verdict"].as_str()), (Some("standard"), Some("refuses")));
    }
    let good = sample::serve(&make(&["localhost"], &server, -60, YEAR), &[]);
    s.run(&["check", &format!("localhost:{}", good.port), "--anchor", "charts/root.pem"]).expect(0);
    let with_root = sample::serve(&make(&["localhost"], &server, -60, YEAR), &[&root.certificate]);
    let v =
        s.json(&["check", &format!("localhost:{}", with_root.port), "--anchor", "charts/root.pem"]).expect(0).json();
    assert!(codes(&v).contains(&"root-served".to_owned()));
}

#[test]
fn a_wrong_certificate_names_the_right_one() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    let root = sample::authority(&s.path("data/authorities/saltmarsh"));
    let stranger = sample::leaf(&root, &["charts.saltmarsh.test"], &[Purpose::Server], -60, YEAR, KeyAlgorithm::P256);
    let site = sample::serve(&stranger, &[]);
    let target = format!("https://charts.saltmarsh.test:{}/", site.port);
    let v = s
        .json(&["check", &target, "--resolve", "charts.saltmarsh.test=127.0.0.1", "--anchor", "charts/root.pem"])
        .json();
    let findings = v["targets"][0]["findings"].as_array().unwrap();
    let f = findings.iter().find(|f| f["code"] == "not-the-issued-certificate").unwrap();
    assert!(f["summary"].as_str().unwrap().contains("charts") && f["remedy"].as_str().unwrap().contains("lab/charts"));
}

/// A listener that answers its first connections with these bytes.
fn answering(bytes: &'static [u8]) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let mut socket = socket;
            let _ = socket.read(&mut [0; 1024]);
            let _ = socket.write_all(bytes);
        }
    });
    port
}

#[test]
fn what_is_no_tls_is_recognized() {
    let s = lab();
    let closed = ClosedPort::new();
    for (port, code, exit) in [
        (answering(b"HTTP/1.1 400 Bad Request\r\n\r\n"), "plain-http-on-tls-port", 1),
        (answering(b"220 mail.saltmarsh.test ESMTP\r\n"), "other-protocol", 1),
        (answering(b"\x15\x03\x01\x00\x02\x02\x46"), "tls-too-old", 1),
        (answering(b"\x15\x03\x03\x00\x02\x02\x28"), "no-common-cipher", 1),
        (closed.number(), "refused-connection", 4),
    ] {
        let v = s.json(&["check", &format!("127.0.0.1:{port}")]).expect(exit).json();
        assert_eq!(codes(&v), [code]);
    }
    let v = s.json(&["check", "nowhere.saltmarsh.test"]).expect(4).json();
    assert_eq!(codes(&v), ["unresolved-name"]);
    let good = sample::serve(&charts(&s), &[]);
    let targets = [&format!("localhost:{}", good.port)[..], &format!("127.0.0.1:{}", closed.number())];
    s.run(&["check", targets[0], targets[1], "--anchor", "charts/root.pem"]).expect(5);
}

#[test]
fn files_are_judged_with_their_key_beside_them() {
    let s = lab();
    let anchored = |target: &str, more: &[&str], code: i32| {
        let words = [&["check", target, "--anchor", "charts/root.pem"], more].concat();
        codes(&s.json(&words).expect(code).json())
    };
    assert_eq!(anchored("charts", &["--name", "localhost"], 0), Vec::<String>::new());
    // What the ledger knows is judged for the ledger's names; what it does not know, for none.
    assert_eq!(anchored("./charts/certificate.pem", &[], 0), Vec::<String>::new());
    std::fs::copy(s.lab("charts/certificate.pem"), s.lab("copy.pem")).unwrap();
    assert_eq!(anchored("copy.pem", &[], 0), Vec::<String>::new());
    let root = sample::authority(&s.path("data/authorities/saltmarsh"));
    let foreign = sample::leaf(&root, &["localhost"], &[Purpose::Server], -60, YEAR, KeyAlgorithm::P256);
    let text = tamga_core::pki::format::pem::write("CERTIFICATE", foreign.certificate.der());
    std::fs::write(s.lab("foreign.pem"), text.as_bytes()).unwrap();
    assert_eq!(anchored("foreign.pem", &[], 0), ["name-not-judged"]);
    // A directory without its key is not good; a file by itself may be.
    std::fs::create_dir(s.lab("keyless")).unwrap();
    std::fs::copy(s.lab("charts/certificate.pem"), s.lab("keyless/certificate.pem")).unwrap();
    assert_eq!(anchored("keyless", &[], 1), ["key-missing"]);
    // What looks like a file and is none is no host; the label counts also where a directory of its name is.
    for typed in ["nosuch.pem", "./nosuch", "certificate.crt"] {
        s.run(&["check", typed]).expect(4);
    }
    let of_label = s.json(&["check", "charts", "--anchor", "charts/root.pem"]).expect(0).json();
    assert_eq!(of_label["targets"][0]["kind"], "label");
    assert!(anchored("charts", &["--name", "localhost", "--at", "2036-01-01"], 1).contains(&"expired".to_owned()));
    s.run(&["issue", "archive.saltmarsh.test"]).expect(0);
    std::fs::copy(s.lab("archive.saltmarsh.test/private-key.pem"), s.lab("charts/private-key.pem")).unwrap();
    assert!(anchored("charts", &["--name", "localhost"], 1).contains(&"key-mismatch".to_owned()));
}

#[test]
fn curl_is_foreseen_whatever_its_stores_and_variables() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let site = sample::serve(&charts(&s), &[]);
    let target = format!("https://127.0.0.1:{}", site.port);
    let other = sample::root("harbour");
    let older = sample::root("saltmarsh");
    let pem = |c: &tamga_core::pki::cert::Certificate| {
        tamga_core::pki::format::pem::write("CERTIFICATE", c.der()).to_string()
    };
    let ours = std::fs::read_to_string(s.lab("charts/root.pem")).unwrap();
    std::fs::write(s.lab("other.pem"), pem(&other.certificate)).unwrap();
    std::fs::write(s.lab("older.pem"), pem(&older.certificate)).unwrap();
    std::fs::write(s.lab("both.pem"), pem(&older.certificate) + &ours).unwrap();
    std::fs::write(s.lab("empty.pem"), "").unwrap();
    std::fs::create_dir(s.lab("flat")).unwrap();
    std::fs::write(s.lab("flat/root.pem"), &ours).unwrap();
    let root = "charts/root.pem";
    let cases: [(&[(&str, &str)], bool); 11] = [
        (&[("SSL_CERT_FILE", root)], true),
        (&[("CURL_CA_BUNDLE", root)], true),
        (&[("SSL_CERT_FILE", "other.pem")], false),
        (&[("SSL_CERT_FILE", "older.pem")], false),
        (&[("SSL_CERT_FILE", "both.pem")], true),
        (&[("CURL_CA_BUNDLE", "other.pem"), ("SSL_CERT_FILE", root)], false),
        (&[("SSL_CERT_DIR", "flat")], false),
        (&[("SSL_CERT_DIR", "flat"), ("SSL_CERT_FILE", root)], false),
        (&[("CURL_CA_BUNDLE", "nowhere.pem")], false),
        (&[("CURL_CA_BUNDLE", "empty.pem")], false),
        (&[("CURL_CA_BUNDLE", root), ("SSL_CERT_DIR", "flat")], true),
    ];
    for (variables, fine) in cases {
        let mut c = s.command(&["check", &target, "--clients", "curl", "--observe", "--format", "json"]);
        // The machine's own files, so that curl's defaults are what Tamga looks at.
        c.envs(variables.iter().copied()).env_remove("TAMGA_ROOT");
        let ran: Ran = c.output().unwrap().into();
        let seen = agree(&ran, &["curl"]).remove(0);
        assert_eq!(seen.0 == "accepts", fine, "{variables:?}: {seen:?}");
        let found = codes(&ran.json());
        assert!(found.contains(&"trust-overridden".to_owned()), "{variables:?}");
        if variables == [("SSL_CERT_FILE", "older.pem")] {
            assert!(found.contains(&"older-root-trusted".to_owned()), "{found:?}");
        }
    }
}

#[test]
fn curl_and_chromium_are_foreseen_fault_by_fault() {
    if has(&["curl", "chromium"]) {
        foreseen(&lab(), "chromium,bundle", &["curl", "chromium"]);
    }
}

#[test]
fn node_and_python_are_foreseen_fault_by_fault() {
    if has(&["node", "python3"]) {
        foreseen(&lab(), "bundle", &["node", "python"]);
    }
}

#[test]
fn node_and_python_tell_a_missing_intermediate_a_served_root_and_an_address_in_their_own_words() {
    if !has(&["node", "python3"]) {
        return;
    }
    let s = lab();
    s.run(&["authority", "create", "web", "--issuer", "saltmarsh"]).expect(0);
    s.run(&["issue", "localhost", "--issuer", "web", "--label", "below"]).expect(0);
    let pem = |path: &str| tamga_core::pki::format::pem::certificates(&std::fs::read(s.lab(path)).unwrap());
    let (chain, root) = (pem("below/certificate.pem"), pem("below/root.pem"));
    let key = tamga_core::pki::format::private_key::read(
        &zeroize::Zeroizing::new(std::fs::read(s.lab("below/private-key.pem")).unwrap()),
        "it",
    );
    let tamga_core::pki::format::private_key::Stored::Open(key) = key.unwrap() else { panic!("it is open") };
    let look = |chain: Vec<Vec<u8>>, host: &str, anchored: bool| {
        let site =
            tamga_host::serve::start(tamga_host::serve::Site::new(&chain, &key, String::new()).unwrap()).unwrap();
        let target = format!("{host}:{}", site.port);
        let resolve = format!("{host}=127.0.0.1");
        let mut c = s.command(&[
            "check",
            &target,
            "--observe",
            "--format",
            "json",
            "--clients",
            "node,python",
            "--resolve",
            &resolve,
        ]);
        if anchored {
            c.env("NODE_EXTRA_CA_CERTS", s.lab("below/root.pem")).env("SSL_CERT_FILE", s.lab("below/root.pem"));
        }
        agree(&c.output().unwrap().into(), &["node", "python"]).into_iter().map(|(_, code)| code).collect::<Vec<_>>()
    };
    let whole: Vec<Vec<u8>> = chain.iter().chain(&root).cloned().collect();
    assert_eq!(look(chain.clone(), "localhost", true), ["", ""]);
    assert_eq!(look(chain[..1].to_vec(), "localhost", true)[0], "UNABLE_TO_VERIFY_LEAF_SIGNATURE");
    assert_eq!(look(chain.clone(), "localhost", false)[0], "UNABLE_TO_GET_ISSUER_CERT_LOCALLY");
    assert_eq!(look(whole, "localhost", false)[0], "SELF_SIGNED_CERT_IN_CHAIN");
    let by_address = look(chain, "127.0.0.1", true);
    assert!(by_address[1].contains("IP address mismatch"), "{by_address:?}");
}

#[test]
fn of_two_faults_each_client_tells_the_one_that_it_is_foreseen_to_tell() {
    if !has(&["node", "python3", "curl", "chromium"]) {
        return;
    }
    let s = lab();
    for fault in ["expired", "not-yet", "wrong-name", "self-signed"] {
        let mut c = s.command(&["serve", "charts", "--fault", fault, "--format", "json"]);
        let mut site = c.stdout(std::process::Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(site.stdout.take().unwrap()), &mut line).unwrap();
        let port = serde_json::from_str::<Value>(&line).unwrap()["port"].as_u64().unwrap();
        let clients = ["curl", "chromium", "node", "python"];
        let target = format!("localhost:{port}");
        // No client trusts the root: that is the second fault.
        let ran = s.json(&["check", &target, "--observe", "--clients", &clients.join(",")]);
        let seen = agree(&ran, &clients);
        assert!(seen.iter().all(|(verdict, _)| verdict != "accepts"), "{fault}: {seen:?}");
        site.kill().unwrap();
        site.wait().unwrap();
    }
}

#[test]
fn firefox_is_foreseen_fault_by_fault() {
    if let Some(s) = crate::firefox::with_firefox() {
        crate::firefox::profile(&s, "a.lab");
        foreseen(&s, "firefox", &["firefox"]);
    }
}

/// What is said beforehand of good and bad certificates is what the clients then say, word for word.
fn foreseen(s: &Sandbox, stores: &str, clients: &[&str]) {
    let root = sample::authority(&s.path("data/authorities/saltmarsh"));
    std::fs::write(s.lab("roots.pem"), "").unwrap();
    s.run(&["trust", "add", "--stores", stores, "--bundle", "roots.pem"]).expect(0);
    let server = [Purpose::Server];
    let make = |names: &[&str], purposes: &[Purpose], from, until, kind| {
        sample::leaf(&root, names, purposes, from, until, kind)
    };
    let p256 = KeyAlgorithm::P256;
    let cases = [
        ("good", make(&["localhost"], &server, -60, YEAR, p256)),
        ("expired", make(&["localhost"], &server, -YEAR, -60, p256)),
        ("not yet valid", make(&["localhost"], &server, 3_600, YEAR, p256)),
        ("another name", make(&["archive.saltmarsh.test"], &server, -60, YEAR, p256)),
        ("another purpose", make(&["localhost"], &[Purpose::Client], -60, YEAR, p256)),
        ("outside the constraints", make(&["localhost", "x.saltmarsh.org"], &server, -60, YEAR, p256)),
        ("P-384", make(&["localhost"], &server, -60, YEAR, KeyAlgorithm::P384)),
        ("RSA", make(&["localhost"], &server, -60, YEAR, KeyAlgorithm::Rsa2048)),
    ];
    for (what, identity) in &cases {
        let site = sample::serve(identity, &[]);
        let target = format!("localhost:{}", site.port);
        let mut c = s.command(&["check", &target, "--observe", "--format", "json", "--clients", &clients.join(",")]);
        for name in ["CURL_CA_BUNDLE", "NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "GIT_SSL_CAINFO"] {
            if name == "CURL_CA_BUNDLE" || !clients.contains(&"curl") {
                c.env(name, s.lab("roots.pem"));
            }
        }
        let seen = agree(&c.output().unwrap().into(), clients);
        // GnuTLS does not hold a purpose against a server unless its program asks it to, and git does not.
        let fine = matches!(*what, "good" | "P-384" | "RSA") || clients == ["git"] && *what == "another purpose";
        assert!(seen.iter().all(|(verdict, _)| (verdict == "accepts") == fine), "{what}: {seen:?}");
    }
}

#[test]
fn a_scheme_without_a_host_is_refused_with_what_was_typed() {
    let s = sandbox();
    for typed in ["imaps://", "https://:8443", "wss:///path", "http://"] {
        let ran = s.run(&["check", typed]).expect(2);
        assert!(ran.err.contains(typed) && ran.err.contains("https://HOST"), "{}", ran.err);
    }
}

#[test]
fn ruby_php_and_git_are_foreseen_fault_by_fault() {
    if has(&["ruby", "php"]) {
        foreseen(&lab(), "bundle", &["ruby", "php"]);
    }
    if !has_git_with_gnutls() {
        return;
    }
    let mut s = lab();
    s.find_first(std::path::Path::new("/usr/bin"));
    foreseen(&s, "bundle", &["git"]);
}

/// Debian's git. Others are judged as what they are made with, and not run.
fn has_git_with_gnutls() -> bool {
    let helper = std::fs::read("/usr/lib/git-core/git-remote-https").unwrap_or_default();
    let there = helper.windows(14).any(|w| w == b"libcurl-gnutls");
    if !there {
        assert!(std::env::var_os("TAMGA_TESTS_COMPLETE").is_none(), "Debian's git must be installed here");
        eprintln!("SKIPPED: no git that is made with GnuTLS");
    }
    there
}

#[test]
fn chromium_is_foreseen_before_and_after_trust_and_with_an_older_root() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    let site = sample::serve(&charts(&s), &[]);
    let target = format!("https://127.0.0.1:{}", site.port);
    let look = || agree(&s.json(&["check", &target, "--clients", "chromium", "--observe"]), &["chromium"]).remove(0);
    let unknown = ("warns".to_owned(), "net::ERR_CERT_AUTHORITY_INVALID".to_owned());
    assert_eq!(look(), unknown);
    // A root of the same name from another data directory: an authority made again.
    s.run(&["--data-dir", "old", "authority", "create", "saltmarsh"]).expect(0);
    s.run(&["--data-dir", "old", "trust", "add"]).expect(0);
    assert_eq!(look(), unknown);
    let v = s.json(&["check", &target, "--clients", "chromium"]).expect(1).json();
    assert!(codes(&v).contains(&"older-root-trusted".to_owned()), "{:?}", codes(&v));
    assert_eq!(s.json(&["trust", "status", "--stores", "chromium"]).expect(1).json()["stores"][0]["state"], "older");
    s.run(&["trust", "add"]).expect(0);
    assert_eq!(look(), ("accepts".to_owned(), String::new()));
    s.run(&["trust", "remove"]).expect(0);
    assert_eq!(look(), unknown);
}
