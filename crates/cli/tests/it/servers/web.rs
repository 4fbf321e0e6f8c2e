//! nginx, Apache, HAProxy.

use super::{is_explained, lab_for, nobody_warns, redirects, renewed, serves, status, with_a_wrong_key};
use nix::sys::signal::Signal;
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::{Recipe, Server, free_port};

fn recipe(s: &Sandbox, server: &str, port: u16, plain: u16, more: &[&str]) -> Recipe {
    let (port, redirect) = (port.to_string(), format!("--redirect={plain}"));
    let words =
        [server, "charts", "--port", &port, "--address", "127.0.0.1", &redirect, "--output", "server.conf", "--yes"];
    let r = Recipe::of(s, &[&words[..], more].concat());
    r.bring(s);
    r
}

#[test]
fn nginx() {
    if !has(&["nginx", "curl"]) {
        return;
    }
    let s = lab_for("nginx");
    let (port, plain) = (free_port(), free_port());
    let r = recipe(&s, "nginx", port, plain, &[]);
    let own = s.lab("nginx");
    std::fs::create_dir(&own).unwrap();
    let log = own.join("error.log");
    let temporary: String = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
        .iter()
        .map(|k| format!("{k}_temp_path {}/{k};\n", own.display()))
        .collect();
    let main = format!(
        "daemon off;\npid {0}/pid;\nerror_log {0}/error.log notice;\nevents {{}}\nhttp {{\naccess_log off;\n{temporary}include {1};\n}}\n",
        own.display(),
        s.lab("server.conf").display()
    );
    std::fs::write(own.join("nginx.conf"), main).unwrap();
    let nginx = |words: &[&str]| {
        let mut c = Command::new("nginx");
        c.arg("-p").arg(&own).arg("-c").arg(own.join("nginx.conf")).args(words);
        c
    };
    let tested = nginx(&["-t"]).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let server = Server::start(nginx(&[]), &own.join("out"));
    let target = format!("https://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    redirects(plain, port);
    let new = renewed(&s);
    r.bring_again(&s);
    assert!(nginx(&["-s", "reload"]).status().unwrap().success());
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&log, &line);
    }
    // Mutual TLS, and a key with a passphrase in its own file: taken up by the same reload.
    s.run(&["issue", "operator.saltmarsh.test", "--purpose", "client", "--label", "operator"]).expect(0);
    recipe(&s, "nginx", port, plain, &["--client-authority", "saltmarsh", "--tls-minimum", "1.3"]);
    assert!(nginx(&["-t"]).status().unwrap().success());
    assert!(nginx(&["-s", "reload"]).status().unwrap().success());
    let shown = ["--cert", "operator/certificate.pem", "--key", "operator/private-key.pem"];
    let mut answers = (String::new(), String::new());
    for _ in 0..100 {
        answers = (status(&s, port, &[]), status(&s, port, &shown));
        if answers.0 == "400" {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    assert!(answers.0 == "400" && answers.1 != "400" && answers.1 != "000", "{answers:?}");
    // A worker from before the reload may take a connection for a moment longer.
    let old = || status(&s, port, &[&["--tls-max", "1.2"], &shown[..]].concat());
    let refused = (0..100).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(50));
        old() == "000"
    });
    assert!(refused, "TLS 1.2 is still spoken: {}", old());
    with_a_wrong_key(&s, &s.lab("charts/private-key.pem"));
    let refused = nginx(&["-t"]).output().unwrap();
    assert!(!refused.status.success());
    is_explained(&s, &String::from_utf8_lossy(&refused.stderr), "key-mismatch");
}

#[test]
fn nginx_with_a_passphrase_in_a_file() {
    if !has(&["nginx"]) {
        return;
    }
    let s = crate::sandbox();
    std::fs::write(s.lab("secret"), "spring tide\n").unwrap();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["issue", "localhost", "--label", "charts", "--new-passphrase-file", "secret"]).expect(0);
    let port = free_port();
    let r = recipe(&s, "nginx", port, free_port(), &[]);
    let named = r.0["content"].as_str().unwrap().lines().find(|l| l.contains("ssl_password_file")).unwrap().to_owned();
    let place = named.trim().trim_start_matches("ssl_password_file ").trim_end_matches(';').to_owned();
    std::fs::copy(s.lab("secret"), place).unwrap();
    let main = format!(
        "pid {0}/pid;\nerror_log {0}/error.log;\nevents {{}}\nhttp {{\naccess_log off;\ninclude {0}/server.conf;\n}}\n",
        s.lab("").display().to_string().trim_end_matches('/')
    );
    std::fs::write(s.lab("nginx.conf"), main).unwrap();
    let tested = Command::new("nginx").arg("-t").arg("-c").arg(s.lab("nginx.conf")).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let found = s.json(&["check", "charts", "--clients", "standard"]).json();
    assert!(found["targets"][0]["findings"].to_string().contains("key-asks-passphrase"), "{found}");
}

#[test]
fn apache() {
    if !has(&["apache2", "curl"]) {
        return;
    }
    let s = lab_for("apache");
    let (port, plain) = (free_port(), free_port());
    let r = recipe(&s, "apache", port, plain, &[]);
    let modules: String = [
        ("mpm_event", "mpm_event"),
        ("authz_core", "authz_core"),
        ("alias", "alias"),
        ("socache_shmcb", "socache_shmcb"),
        ("ssl", "ssl"),
        ("http2", "http2"),
    ]
    .iter()
    .map(|(word, file)| format!("LoadModule {word}_module /usr/lib/apache2/modules/mod_{file}.so\n"))
    .collect();
    let own = s.lab("apache");
    std::fs::create_dir(&own).unwrap();
    let main = format!(
        "ServerRoot {0}\nServerName localhost\nPidFile {0}/pid\nDefaultRuntimeDir {0}\nMutex file:{0}\nErrorLog {0}/error.log\n{modules}\
         User www-data\nGroup www-data\nInclude {1}\n",
        own.display(),
        s.lab("server.conf").display()
    );
    let conf = own.join("apache2.conf");
    std::fs::write(&conf, main).unwrap();
    let apache = |words: &[&str]| {
        let mut c = Command::new("apache2");
        c.arg("-f").arg(&conf).args(words);
        c
    };
    let tested = apache(&["-t"]).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let server = Server::start(apache(&["-D", "FOREGROUND"]), &own.join("out"));
    let target = format!("https://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    redirects(plain, port);
    let new = renewed(&s);
    r.bring_again(&s);
    assert!(apache(&["-k", "graceful"]).status().unwrap().success());
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&own.join("error.log"), &line);
    }
    drop(server);
    with_a_wrong_key(&s, &s.lab("charts/private-key.pem"));
    assert!(apache(&["-t"]).status().unwrap().success(), "its own check looks at last: the recipe may say so");
    let refused = apache(&["-D", "FOREGROUND"]).output().unwrap();
    assert!(!refused.status.success());
    is_explained(&s, &std::fs::read_to_string(own.join("error.log")).unwrap(), "key-mismatch");
}

#[test]
fn haproxy() {
    if !has(&["haproxy", "curl"]) {
        return;
    }
    let s = lab_for("haproxy");
    let (port, plain) = (free_port(), free_port());
    let into = s.lab("haproxy").display().to_string();
    let owner = ["--into", &into, "--owner", "root"];
    if !tamga_testkit::server::is_root() {
        return;
    }
    let r = recipe(&s, "haproxy", port, plain, &owner);
    let haproxy = |words: &[&str]| {
        let mut c = Command::new("haproxy");
        c.arg("-f").arg(s.lab("server.conf")).args(words);
        c
    };
    let tested = haproxy(&["-c"]).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let log = s.lab("haproxy.log");
    let server = Server::start(haproxy(&["-W", "-db"]), &log);
    let target = format!("https://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    redirects(plain, port);
    let new = renewed(&s);
    r.bring_again(&s);
    // Its worker serves before its master listens to signals.
    server.waits_for(&log, "Loading success");
    for _ in 0..5 {
        server.signal(Signal::SIGUSR2);
        let heard = || std::fs::read_to_string(&log).unwrap().matches("Loading success").count() > 1;
        let mut waited = 0;
        while !heard() && waited < 40 {
            std::thread::sleep(std::time::Duration::from_millis(50));
            waited += 1;
        }
        if heard() {
            break;
        }
    }
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&log, &line);
    }
    let pem = std::fs::read_to_string(s.lab("haproxy/charts.combined.pem")).unwrap();
    let alone = pem.split("-----BEGIN CERTIFICATE-----").nth(1).unwrap();
    std::fs::write(s.lab("haproxy/charts.combined.pem"), format!("-----BEGIN CERTIFICATE-----{alone}")).unwrap();
    let refused = haproxy(&["-c"]).output().unwrap();
    assert!(!refused.status.success());
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    let reply = s.json(&["explain", &said]).expect(0).json();
    assert!(reply["servers"].as_array().unwrap().iter().any(|k| k["server"] == "haproxy"), "{said}\n{reply}");
}
