//! What a meeting tells beside the chain: client certificates, other addresses, exceptions, what was renewed and not deployed.

use crate::lab;
use serde_json::Value;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::site::{Site, of_files, of_files_at};

fn check(s: &Sandbox, target: &str, more: &[&str], code: i32) -> (Vec<String>, String) {
    let words = [&["check", target, "--clients", "standard", "--anchor", "charts/root.pem"], more].concat();
    let v = s.json(&words).expect(code).json();
    let codes: Vec<String> = v["targets"][0]["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f: &Value| f["code"].as_str().unwrap().to_owned())
        .collect();
    (codes, v.to_string())
}

#[test]
fn a_client_certificate_is_shown_and_the_answer_of_the_server_is_reported() {
    let s = lab();
    s.run(&["authority", "create", "harbour"]).expect(0);
    s.run(&["issue", "gauge-7.saltmarsh.test", "--purpose", "client", "--label", "gauge", "--issuer", "saltmarsh"])
        .expect(0);
    s.run(&["issue", "buoy.saltmarsh.test", "--purpose", "client", "--label", "buoy", "--issuer", "harbour"]).expect(0);
    let site = Site::start(&s, &["charts", "--client-authority", "saltmarsh"]);
    let target = format!("localhost:{}", site.port);
    let (codes, text) = check(&s, &target, &[], 1);
    assert_eq!(codes, ["client-certificate-wanted"]);
    assert!(text.contains("demands a client certificate and was shown none"), "{text}");
    assert_eq!(check(&s, &target, &["--client-certificate", "gauge"], 0).0, [""; 0]);
    let (codes, text) = check(&s, &target, &["--client-certificate", "buoy"], 1);
    assert_eq!(codes, ["client-certificate-wanted"]);
    assert!(text.contains("does not take the client certificate"), "{text}");
    let words = ["check", &target, "--anchor", "charts/root.pem", "--clients", "standard", "--client-certificate"];
    assert!(s.run(&[&words[..], &["gauge"]].concat()).expect(0).out.contains("took the one shown"));
    s.run(&[&words[..], &["nobody"]].concat()).expect(3);
    // A server that does not ask is shown nothing.
    let open = Site::start(&s, &["charts"]);
    let target = format!("localhost:{}", open.port);
    let said = s.run(&["check", &target, "--client-certificate", "gauge", "--clients", "standard"]).out;
    assert!(said.contains("none was shown"), "{said}");
}

#[test]
fn every_address_of_a_name_is_checked() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
    let port = of_files_at(&s.lab("charts"), "127.0.0.1:0").unwrap();
    // The same port of another loopback address is served with a certificate for another name.
    let Some(_) = of_files_at(&s.lab("archive"), &format!("127.0.0.2:{port}")) else {
        eprintln!("SKIPPED: this system has one loopback address");
        return;
    };
    let name = format!("charts.saltmarsh.test:{port}");
    let one = ["--resolve", "charts.saltmarsh.test=127.0.0.1"];
    let two = [&one[..], &["--resolve", "charts.saltmarsh.test=127.0.0.2"]].concat();
    assert_eq!(check(&s, &name, &one, 0).0, [""; 0]);
    let (codes, text) = check(&s, &name, &two, 1);
    assert!(codes.contains(&"name-not-covered".to_owned()) && text.contains("at 127.0.0.2"), "{text}");
    let said = s.run(&[&["check", &name, "--clients", "standard", "--anchor", "charts/root.pem"], &two[..]].concat());
    assert!(said.expect(1).out.contains("shows another certificate than 127.0.0.1"));
}

#[test]
fn what_was_renewed_but_is_not_served_is_reported_as_that() {
    let s = lab();
    std::fs::create_dir(s.lab("server")).unwrap();
    for file in ["certificate.pem", "private-key.pem"] {
        std::fs::copy(s.lab("charts").join(file), s.lab("server").join(file)).unwrap();
    }
    let chain = of_files(&s.lab("server"));
    assert_eq!(check(&s, &format!("localhost:{chain}"), &[], 0).0, [""; 0]);
    s.run(&["renew", "charts"]).expect(0);
    let (codes, text) = check(&s, &format!("localhost:{chain}"), &[], 0);
    assert_eq!(codes, ["renewed-not-deployed"], "{text}");
    assert!(text.contains("reload the server"), "{text}");
}

#[test]
fn an_exception_of_this_very_host_is_reported_by_the_check() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    let file = s.path("home/.mozilla/firefox/a.lab/cert_override.txt");
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    let line = format!("localhost:{}:\tOID.2.16.840.1.101.3.4.2.1\tAA:BB\tU\tAAAA\n", site.port);
    std::fs::write(&file, line).unwrap();
    std::fs::write(s.path("home/.mozilla/firefox/profiles.ini"), "[Profile0]\nIsRelative=1\nPath=a.lab\n").unwrap();
    let target = format!("localhost:{}", site.port);
    let of = |clients: &str| {
        let v = s.json(&["check", &target, "--clients", clients, "--anchor", "charts/root.pem"]).json();
        v["targets"][0]["findings"].as_array().unwrap().iter().any(|f| f["code"] == "exception-remembered")
    };
    assert!(of("firefox"));
    assert!(!of("curl"), "curl remembers nothing");
}

#[test]
fn a_server_with_another_key_than_its_certificates_is_no_good_server() {
    let s = lab();
    s.run(&["issue", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
    std::fs::create_dir(s.lab("mixed")).unwrap();
    std::fs::copy(s.lab("charts/certificate.pem"), s.lab("mixed/certificate.pem")).unwrap();
    std::fs::copy(s.lab("archive/private-key.pem"), s.lab("mixed/private-key.pem")).unwrap();
    let port = of_files(&s.lab("mixed"));
    let (codes, text) = check(&s, &format!("localhost:{port}"), &[], 1);
    assert_eq!(codes, ["key-mismatch"], "{text}");
}

#[test]
fn the_page_holds_all_and_obeys_nothing_that_a_certificate_says() {
    let s = lab();
    let evil = "<script>alert(1)</script>\u{202e}\u{1b}[31m\"'&";
    let made = s.run(&["issue", "gauge-7.saltmarsh.test", "--self-signed", "--label", "evil", "--organization", evil]);
    assert!(made.code == 0 || made.code == 3, "{}", made.err);
    let target = if made.code == 0 { "evil/certificate.pem" } else { "charts/certificate.pem" };
    let words = ["check", target, "charts", "--clients", "standard,curl", "--anchor", "charts/root.pem"];
    let ran = s.run(&[&words[..], &["--report", "page.html"]].concat());
    assert!(ran.out.contains("page: page.html"), "{}", ran.out);
    let page = std::fs::read_to_string(s.lab("page.html")).unwrap();
    assert!(page.contains("default-src 'none'") && !page.contains("<script") && !page.contains('\u{1b}'));
    assert!(!page.contains('\u{202e}') && !page.contains("src=") && !page.contains("href="), "it loads something");
    // Everything that the JSON tells is there to read.
    let v = s.json(&words).json();
    for t in v["targets"].as_array().unwrap() {
        for f in t["findings"].as_array().unwrap() {
            assert!(page.contains(f["code"].as_str().unwrap()), "{f}");
        }
        for c in t["clients"].as_array().unwrap() {
            assert!(page.contains(&format!("<td>{}</td>", c["client"].as_str().unwrap())), "{c}");
        }
        for c in t["chain"].as_array().unwrap() {
            assert!(page.contains(&c["sha256"].as_str().unwrap()[..16]), "{c}");
        }
    }
    assert_eq!(page.matches("<section>").count(), 2);
    s.run(&[&words[..], &["--report", "nowhere/page.html"]].concat()).expect(4);
}
