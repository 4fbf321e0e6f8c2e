//! Our client against a service that somebody else wrote: `tests/data/enrollment/service.py`, from the standard's text, in Python's library alone.

use super::{Running, until};
use crate::sandbox;
use std::path::Path;
use std::process::{Command, Stdio};
use tamga_testkit::sandbox::has;
use tamga_testkit::server::free_port;

#[test]
fn every_challenge_of_another_service_is_answered() {
    if !has(&["python3", "named"]) {
        return;
    }
    let s = sandbox();
    let directory = s.lab("other");
    std::fs::create_dir(&directory).unwrap();
    let (port, http, tls) = (free_port(), free_port(), free_port());
    let bind = super::bind::Bind::start(&s, "");
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/enrollment/service.py");
    let mut command = Command::new("python3");
    command.arg(source).arg(&directory).args([port, http, tls, bind.port].map(|p| p.to_string()));
    let log = std::fs::File::create(s.lab("log")).unwrap();
    let _running = Running::start(command.stdout(Stdio::null()).stderr(log));
    let root = directory.join("root.pem");
    until("the service", || root.exists(), || std::fs::read_to_string(s.lab("log")).unwrap());
    until("its port", || std::net::TcpStream::connect(("127.0.0.1", port)).is_ok(), String::new);
    let from = format!("https://localhost:{port}/dir");
    let invitation = s.lab("invitation");
    // As another service's administrator would hand them out.
    std::fs::write(&invitation, "key-id = lab\nkey = MDEyMzQ1Njc4OWFiY2RlZjAxMjM0NTY3ODlhYmNkZWY\n").unwrap();
    let ask = |names: &[&str], more: &[&str]| {
        let own = ["--from", from.as_str(), "--anchor", root.to_str().unwrap()];
        s.run(&[&["issue"], names, &own, more].concat())
    };
    let (http, tls) = (format!("127.0.0.1:{http}"), format!("127.0.0.1:{tls}"));
    let terms = ask(&["charts.saltmarsh.test"], &["--challenge-listen", &http]).expect(3);
    assert!(terms.err.contains("--agree-to-terms") && terms.err.contains("/terms"), "{}", terms.err);
    let uninvited = ask(&["charts.saltmarsh.test"], &["--challenge-listen", &http, "--agree-to-terms"]).expect(3);
    assert!(uninvited.err.contains("--invitation"), "{}", uninvited.err);
    let all =
        ["--agree-to-terms", "--invitation", invitation.to_str().unwrap(), "--contact", "lab-operator@saltmarsh.test"];
    ask(&["charts.saltmarsh.test", "archive.saltmarsh.test"], &[&all[..], &["--challenge-listen", &http]].concat())
        .expect(0);
    ask(&["gauge-7.saltmarsh.test"], &["--challenge", "tls-alpn-01", "--challenge-listen", &tls]).expect(0);
    let (at, key) = (bind.at(), bind.key.display().to_string());
    ask(&["*.buoys.saltmarsh.test", "tides.saltmarsh.test"], &["--dns-update", &at, "--dns-key-file", &key]).expect(0);
    for (directory, name) in [
        ("charts.saltmarsh.test", "archive.saltmarsh.test"),
        ("gauge-7.saltmarsh.test", "gauge-7.saltmarsh.test"),
        ("wildcard.buoys.saltmarsh.test", "7.buoys.saltmarsh.test"),
    ] {
        let file = format!("{directory}/certificate.pem");
        s.run(&["check", &file, "--name", name, "--clients", "standard", "--anchor", root.to_str().unwrap()]).expect(0);
    }
    // Nobody answers: it says so, and the next run goes on with the same key.
    let refused = ask(&["quay.saltmarsh.test"], &["--challenge-dir", s.path("lab").to_str().unwrap()]).expect(3);
    assert!(refused.err.contains("control of quay.saltmarsh.test was not proved by http-01"), "{}", refused.err);
    assert!(
        !s.lab("quay.saltmarsh.test").exists()
            && !s.lab(".well-known/acme-challenge").read_dir().unwrap().any(|_| true)
    );
    let renewed = s.run(&["renew", "charts.saltmarsh.test"]).expect(0);
    assert!(renewed.out.contains("renewed"), "{}", renewed.out);
}
