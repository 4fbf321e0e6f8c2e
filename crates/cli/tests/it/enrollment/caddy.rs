//! The Caddy web server: one order for each name, in parallel; alternates and status asked for.

use super::{Running, Service, curl, root, until};
use crate::lab;
use std::process::Stdio;
use tamga_testkit::sandbox::has;

#[test]
fn it_gets_a_certificate_for_each_name_and_serves_them() {
    if !has(&["caddy", "curl"]) {
        return;
    }
    let s = lab();
    let service = Service::start(&s, &["--publish-listen", "127.0.0.1:0"]);
    let names = ["charts.saltmarsh.test", "gauge-7.saltmarsh.test"];
    let settings = serde_json::json!({
        "admin": { "disabled": true },
        "storage": { "module": "file_system", "root": s.lab("caddy") },
        "apps": {
            "http": { "http_port": service.http, "https_port": service.tls, "servers": { "lab": {
                "listen": [format!("127.0.0.1:{}", service.tls)],
                "routes": [{ "match": [{ "host": names }], "terminal": true,
                             "handle": [{ "handler": "static_response", "body": "enrolled " }] }],
            } } },
            "tls": { "automation": { "policies": [{ "issuers": [{
                "module": "acme", "ca": service.directory, "email": "lab-operator@saltmarsh.test",
                "trusted_roots_pem_files": [root(&s)],
            }] }] } },
        },
    });
    let file = s.lab("caddy.json");
    std::fs::write(&file, settings.to_string()).unwrap();
    let mut command = s.around("caddy");
    command.arg("run").arg("--config").arg(&file).stdout(Stdio::null()).stderr(Stdio::null());
    let _running = Running::start(&mut command);
    for name in names {
        until(
            "what it serves",
            || curl(&s, name, service.tls).starts_with("enrolled"),
            || format!("{:?}", service.said("not-proved")),
        );
    }
    service.waits_for("issued", 2);
    assert!(service.said("failed").is_empty() && service.said("refused").is_empty(), "{:?}", service.said("refused"));
    // A browser too, once the root is in its store.
    if has(&["chromium"]) {
        s.run(&["trust", "add", "saltmarsh", "--stores", "chromium"]).expect(0);
        let target = format!("https://charts.saltmarsh.test:{}", service.tls);
        let resolve = ["--resolve", "charts.saltmarsh.test=127.0.0.1", "--clients", "chromium", "--observe"];
        let seen = s.json(&[&["check", target.as_str()][..], &resolve].concat()).expect(0).json();
        let clients = seen["targets"][0]["clients"].as_array().unwrap();
        let visited = clients.iter().any(|c| c["basis"] == "observed" && c["verdict"] == "accepts");
        assert!(visited, "{seen}");
    }
}
