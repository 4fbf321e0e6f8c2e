//! Go's extended library: the protocol whole, and a server that enrolls in its first handshake.

use super::{Running, Service, curl, root, until};
use crate::lab;
use std::path::{Path, PathBuf};
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::free_port;

/// The program in `tests/data/enrollment`, built; None without the library.
fn built(s: &Sandbox, name: &str) -> Option<PathBuf> {
    let library = Path::new("/usr/share/gocode/src/golang.org/x/crypto/acme");
    if !has(&["go"]) || !library.is_dir() {
        assert!(std::env::var_os(tamga_testkit::sandbox::COMPLETE).is_none(), "Go's extended library is missing");
        eprintln!("SKIPPED: Go's extended library is not installed");
        return None;
    }
    let program = s.path(name);
    let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/enrollment").join(format!("{name}.go"));
    let made = Command::new("go")
        .args(["build", "-o"])
        .arg(&program)
        .arg(source)
        .envs([("GO111MODULE", "off"), ("GOPATH", "/usr/share/gocode"), ("GOFLAGS", "")])
        .env("GOCACHE", std::env::temp_dir().join("tamga-tests-go"))
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    Some(program)
}

pub(super) fn client(s: &Sandbox, service: &Service, names: &[&str]) -> Option<Command> {
    let mut go = s.around(built(s, "client")?.to_str().unwrap());
    go.arg(&service.directory).arg(root(s)).args([service.http.to_string(), service.tls.to_string()]).args(names);
    Some(go)
}

#[test]
fn the_protocol_whole() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let Some(mut go) = client(&s, &service, &["charts.saltmarsh.test", "archive.saltmarsh.test"]) else { return };
    let got = go.output().unwrap();
    let said = String::from_utf8_lossy(&got.stdout);
    assert!(got.status.success(), "{said}");
    for step in [
        "revoke-by-account: done",
        "revoke-by-key: done",
        "revoke-again: done",
        "key-change: done",
        "after-deactivation: refused",
    ] {
        assert!(said.contains(step), "{step}: {said}");
    }
    // What was issued and revoked is in the ledger, as everything else is.
    let listed = s.json(&["list", "--revoked"]).expect(0).json();
    assert_eq!(listed["certificates"].as_array().unwrap().len(), 2, "{listed}");
    assert_eq!(service.said("issued").len(), 3);
    assert!(service.said("failed").is_empty(), "{:?}", service.said("failed"));
    assert_eq!(service.stop(), 0);
}

#[test]
fn invited_accounts_alone_where_the_service_wants_it() {
    let s = lab();
    let service = Service::start_at(&s, "0.0.0.0:0", free_port(), free_port(), &[]);
    let Some(mut go) = client(&s, &service, &["charts.saltmarsh.test"]) else { return };
    let refused = go.output().unwrap();
    let said = String::from_utf8_lossy(&refused.stdout).into_owned();
    assert!(said.contains("externalAccountRequired"), "{said}");
    let file = s.lab("charts.invitation");
    s.run(&[
        "enrollment",
        "invite",
        "--output",
        file.to_str().unwrap(),
        "--names",
        "charts.saltmarsh.test,127.0.0.1",
        "--uses",
        "1",
    ])
    .expect(0);
    let text = std::fs::read_to_string(&file).unwrap();
    let value = |name: &str| text.lines().find_map(|l| l.strip_prefix(&format!("{name} = "))).unwrap().to_owned();
    let invited = |names: &[&str]| {
        let key = tamga_core::enrollment::from_base64url(&value("key")).unwrap();
        // The library takes the octets; they go through the environment as they are where that can hold them.
        let mut go = client(&s, &service, names).unwrap();
        go.env("KEY_ID", value("key-id")).env("KEY_HEX", key.iter().map(|b| format!("{b:02x}")).collect::<String>());
        String::from_utf8_lossy(&go.output().unwrap().stdout).into_owned()
    };
    let said = invited(&["charts.saltmarsh.test"]);
    assert!(said.contains("after-deactivation: refused"), "{said}");
    let said = invited(&["charts.saltmarsh.test"]);
    assert!(said.contains("used up"), "{said}");
}

#[test]
fn a_server_enrolls_in_its_first_handshake() {
    let s = lab();
    let service = Service::start(&s, &[]);
    let Some(program) = built(&s, "autocert") else { return };
    let mut go = s.around(program.to_str().unwrap());
    go.arg(&service.directory)
        .arg(root(&s))
        .arg(service.tls.to_string())
        .arg(s.lab("cache"))
        .arg("gauge-7.saltmarsh.test");
    let _running = Running::start(&mut go);
    until(
        "the server",
        || curl(&s, "gauge-7.saltmarsh.test", service.tls).starts_with("enrolled"),
        || format!("{:?}", service.said("not-proved")),
    );
    assert_eq!(service.said("issued").len(), 1);
}
