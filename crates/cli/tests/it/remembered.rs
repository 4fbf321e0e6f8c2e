//! What stands beside the stores: remembered exceptions, settings and variables that lead elsewhere or look away.

use crate::lab;
use serde_json::Value;
use std::path::Path;
use tamga_testkit::chromium;
use tamga_testkit::sandbox::has;

fn write(path: &Path, text: &str) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    std::fs::write(path, text).unwrap();
}

fn found(v: &Value) -> Vec<(String, String)> {
    let word = |f: &Value, k: &str| f[k].as_str().unwrap().to_owned();
    v["findings"].as_array().unwrap().iter().map(|f| (word(f, "code"), word(f, "about"))).collect()
}

const TAIL: &str = "\tOID.2.16.840.1.101.3.4.2.1\tAA:BB\tU\tAAAA\n";

#[test]
fn exceptions_for_names_of_ours_are_reported_and_exactly_one_is_removed() {
    let s = lab();
    let file = s.path("home/.mozilla/firefox/a.lab/cert_override.txt");
    let head = "# PSM Certificate Override Settings file\n# This is a generated file!  Do not edit.\n";
    let line = |place: &str| format!("{place}{TAIL}");
    let text = format!(
        "{head}{}{}{}",
        line("charts.saltmarsh.test:8443:"),
        line("localhost:9443:"),
        line("other.example:443:")
    );
    write(&file, &text);
    write(&s.path("home/.mozilla/firefox/profiles.ini"), "[Profile0]\nIsRelative=1\nPath=a.lab\n");
    let chromium = s.path("home/.config/chromium/Default/Preferences");
    let decisions = r#"{"profile":{"content_settings":{"exceptions":{"ssl_cert_decisions":{"https://charts.saltmarsh.test:443,*":{"setting":{"cert_exceptions_map":{"-202x":1}}}}}}}}"#;
    write(&chromium, decisions);
    let status = || found(&s.json(&["trust", "status"]).json());
    let remembered = |place: &str| ("exception-remembered".to_owned(), place.to_owned());
    let reply = status();
    for place in ["charts.saltmarsh.test:8443", "localhost:9443", "charts.saltmarsh.test:443"] {
        assert!(reply.contains(&remembered(place)), "{place}: {reply:?}");
    }
    assert!(!reply.iter().any(|f| f.1.contains("other.example")), "not ours: {reply:?}");
    s.run(&["trust", "remove", "--exception", "charts.saltmarsh.test:8443", "--dry-run"]).expect(0);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), text);
    s.run(&["trust", "remove", "--exception", "charts.saltmarsh.test:8443"]).expect(0);
    let left = format!("{head}{}{}", line("localhost:9443:"), line("other.example:443:"));
    assert_eq!(std::fs::read_to_string(&file).unwrap(), left);
    // Chromium's is its own to forget: said, with the way, and nothing is changed.
    let said = s.run(&["trust", "remove", "--exception", "charts.saltmarsh.test:443"]).expect(5).out;
    assert!(said.contains("Turn on warnings"), "{said}");
    assert_eq!(std::fs::read_to_string(&chromium).unwrap(), decisions);
    s.run(&["trust", "remove", "--exception", "nobody.test:1"]).expect(2);
    s.run(&["leave", "--yes"]);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), format!("{head}{}", line("other.example:443:")));
}

#[test]
fn settings_that_look_away_or_lead_elsewhere_are_named_with_the_line_to_delete() {
    let s = lab();
    write(&s.path("home/.gitconfig"), "[http]\n\tsslVerify = false\n");
    write(&s.path("home/.npmrc"), "strict-ssl=false\ncafile=/nowhere/ca.pem\n");
    write(&s.path("home/.config/pip/pip.conf"), "[global]\ntrusted-host = pypi.saltmarsh.test\n");
    write(&s.path("home/.wgetrc"), "# check_certificate = off\n");
    let run = |variables: &[(&str, &str)]| {
        let mut c = s.command(&["trust", "status", "--format", "json"]);
        c.envs(variables.iter().copied());
        let out = c.output().unwrap();
        found(&serde_json::from_slice(&out.stdout).unwrap())
    };
    let reply = run(&[("NODE_TLS_REJECT_UNAUTHORIZED", "0"), ("REQUESTS_CA_BUNDLE", "/nowhere.pem")]);
    let count = |code: &str| reply.iter().filter(|f| f.0 == code).count();
    assert_eq!(count("verification-off"), 4, "{reply:?}");
    assert_eq!(count("trust-overridden"), 2, "{reply:?}");
    assert!(!reply.iter().any(|f| f.1.contains("wgetrc")), "a comment is no setting: {reply:?}");
    // A file with the root in it leads nobody astray.
    let root = s.path("data/authorities/saltmarsh/certificate.pem").display().to_string();
    let reply = run(&[("NODE_EXTRA_CA_CERTS", &root), ("NODE_TLS_REJECT_UNAUTHORIZED", "1")]);
    assert!(!reply.iter().any(|f| f.1.starts_with("NODE")), "{reply:?}");
}

#[test]
fn the_browsers_own_manager_is_read_and_the_real_browser_agrees() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    let root = s.path("data/authorities/saltmarsh/certificate.pem");
    let site = tamga_testkit::site::Site::start(&s, &["charts"]);
    let target = format!("localhost:{}", site.port);
    let manager = |trust: u8| {
        let der = tamga_core::pki::format::pem::certificates(&std::fs::read(&root).unwrap()).remove(0);
        chromium::keep(&s.path("home"), &[&der], trust);
    };
    let check = |code: i32| {
        let v = s.json(&["check", &target, "--clients", "chromium", "--observe"]).expect(code).json();
        let codes: Vec<String> = v["targets"][0]["findings"]
            .as_array()
            .unwrap()
            .iter()
            .map(|f| f["code"].as_str().unwrap().into())
            .collect();
        assert!(!codes.contains(&"prediction-differs".to_owned()), "{v}");
        v
    };
    // Imported by hand: the browser accepts although no store has the root.
    manager(3);
    check(0);
    let said = s.run(&["trust", "remove", "--stores", "chromium"]).expect(0).out;
    assert!(said.contains("imported by hand") && said.contains("certificate-manager"), "{said}");
    // Distrusted there, whatever the store says.
    s.run(&["trust", "add", "--stores", "chromium"]).expect(0);
    check(0);
    manager(2);
    check(1);
    let status = s.json(&["trust", "status"]).json();
    assert!(found(&status).iter().any(|f| f.0 == "trust-overridden" && f.1.starts_with("tamga-saltmarsh")), "{status}");
}
