//! PostgreSQL, MariaDB, Redis: each as its own account, which reads its own copy of the key.

use super::{is_explained, lab_for, nobody_warns, renewed, serves, with_a_wrong_key};
use std::path::{Path, PathBuf};
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::server::{Recipe, Server, as_account, free_port, is_root};

/// The lab, a directory that the account owns, and the recipe with its files brought.
fn prepared(server: &str, account: &str, port: u16) -> (Sandbox, PathBuf, Recipe) {
    let s = lab_for(server);
    s.open_to_others();
    let own = s.lab(server);
    std::fs::create_dir(&own).unwrap();
    let (port, into) = (port.to_string(), own.join("tls").display().to_string());
    let words = [server, "charts", "--port", &port, "--address", "127.0.0.1", "--into", &into];
    let file = own.join("server.conf").display().to_string();
    let r = Recipe::of(&s, &[&words[..], &["--owner", account, "--output", &file]].concat());
    let chown = Command::new("chown").args(["-R", account]).arg(&own).status().unwrap();
    assert!(chown.success());
    r.bring(&s);
    (s, own, r)
}

/// Debian keeps PostgreSQL's programs by version.
fn postgres_programs() -> Option<PathBuf> {
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    versions.map(|v| v.path().join("bin")).find(|b| b.join("initdb").is_file())
}

#[test]
fn postgresql() {
    if !has(&["psql", "setpriv"]) || !is_root() {
        return;
    }
    let programs = postgres_programs().unwrap();
    let port = free_port();
    let (s, own, r) = prepared("postgresql", "postgres", port);
    let (data, log) = (own.join("data"), own.join("log"));
    let postgres = |name: &str| {
        let mut c = as_account("postgres", &programs.join(name));
        c.current_dir("/");
        c
    };
    let made = postgres("initdb").args(["-A", "trust", "-N", "-D"]).arg(&data).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let more = format!("\nunix_socket_directories = ''\ninclude '{}'\n", own.join("server.conf").display());
    let conf = data.join("postgresql.conf");
    std::fs::write(&conf, std::fs::read_to_string(&conf).unwrap() + &more).unwrap();
    let tested = postgres("postgres").arg("-D").arg(&data).args(["-C", "ssl_cert_file"]).output().unwrap();
    assert!(String::from_utf8_lossy(&tested.stdout).contains("certificate.pem"), "{tested:?}");
    let mut command = postgres("postgres");
    command.arg("-D").arg(&data);
    let server = Server::start(command, &log);
    let target = format!("postgres://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    let psql = |sql: &str| {
        let root = s.lab("charts/root.pem").display().to_string();
        let place = format!(
            "host=localhost hostaddr=127.0.0.1 port={port} user=postgres sslmode=verify-full sslrootcert={root}"
        );
        let out = Command::new("psql").args([&place, "-Atc", sql]).output().unwrap();
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).trim().to_owned()
    };
    assert_eq!(psql("select ssl from pg_stat_ssl where pid = pg_backend_pid()"), "t", "verified by its own client");
    assert_eq!(psql("select count(*) from pg_file_settings where error is not null"), "0");
    foreseen_by_psql(&s, port);
    let new = renewed(&s);
    r.bring_again(&s);
    psql("select pg_reload_conf()");
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&log, &line);
    }
    // Without TLS it says so, and that is distinguished from a server that is not there.
    with_a_wrong_key(&s, &own.join("tls/private-key.pem"));
    psql("select pg_reload_conf()");
    server.waits_for(&log, "SSL configuration was not reloaded");
    is_explained(&s, &server.said(), "key-mismatch");
    std::fs::write(own.join("server.conf"), format!("port = {port}\nlisten_addresses = '127.0.0.1'\nssl = off\n"))
        .unwrap();
    psql("select pg_reload_conf()");
    let mut found = String::new();
    for _ in 0..100 {
        let ran = s.json(&["check", &target, "--resolve", "charts.saltmarsh.test=127.0.0.1"]);
        found = ran.out;
        if found.contains("tls-on-plain-port") {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    panic!("{found}");
}

/// psql is judged and run where PostgreSQL's protocol is spoken, and nowhere else.
fn foreseen_by_psql(s: &tamga_testkit::sandbox::Sandbox, port: u16) {
    let rows = |target: &str, root: Option<&str>| -> Vec<(String, String, String)> {
        let resolve = ["--resolve", "charts.saltmarsh.test=127.0.0.1", "--resolve", "tide.saltmarsh.test=127.0.0.1"];
        let mut c = s.command(&[&["check", target, "--observe", "--format", "json"], &resolve[..]].concat());
        c.envs(root.map(|r| ("PGSSLROOTCERT", s.lab(r))));
        let v: serde_json::Value = serde_json::from_slice(&c.output().unwrap().stdout).unwrap();
        let text = |v: &serde_json::Value| v.as_str().unwrap_or_default().to_owned();
        let all = v["targets"][0]["clients"].as_array().unwrap().iter();
        all.filter(|r| r["client"] == "psql")
            .map(|r| (text(&r["basis"]), text(&r["verdict"]), text(&r["code"])))
            .collect()
    };
    let both = |verdict: &str, code: &str| -> Vec<(String, String, String)> {
        ["predicted", "observed"].map(|b| (b.to_owned(), verdict.to_owned(), code.to_owned())).to_vec()
    };
    let target = format!("postgres://charts.saltmarsh.test:{port}");
    assert_eq!(rows(&target, Some("charts/root.pem")), both("accepts", ""));
    let other = format!("postgres://tide.saltmarsh.test:{port}");
    let words = "server certificate for \"charts.saltmarsh.test\" (and 2 other names) does not match host name \"tide.saltmarsh.test\"";
    assert_eq!(rows(&other, Some("charts/root.pem")), both("refuses", words));
    // Without a file of roots it verifies nothing, and says so.
    let own = s.path("home/.postgresql/root.crt").display().to_string();
    assert_eq!(rows(&target, None), both("refuses", &format!("root certificate file \"{own}\" does not exist")));
    // The same in the person's own file.
    std::fs::create_dir(s.path("home/.postgresql")).unwrap();
    std::fs::copy(s.lab("charts/root.pem"), &own).unwrap();
    assert_eq!(rows(&target, None), both("accepts", ""));
    assert_eq!(rows(&format!("https://charts.saltmarsh.test:{port}"), Some("charts/root.pem")), []);
}

#[test]
fn mariadb() {
    if !has(&["mariadbd", "mariadb-install-db", "mariadb"]) || !is_root() {
        return;
    }
    let port = free_port();
    let (s, own, r) = prepared("mysql", "mysql", port);
    let (data, log, socket) = (own.join("data"), own.join("log"), own.join("socket"));
    let made = Command::new("mariadb-install-db")
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db", "--user=mysql"])
        .arg(format!("--datadir={}", data.display()))
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let main = format!(
        "[mysqld]\nuser=mysql\ndatadir={}\nsocket={}\npid-file={}\n!include {}\n",
        data.display(),
        socket.display(),
        own.join("pid").display(),
        own.join("server.conf").display()
    );
    let defaults = own.join("main.cnf");
    std::fs::write(&defaults, main).unwrap();
    let mariadbd = || {
        let mut c = Command::new("mariadbd");
        c.arg(format!("--defaults-file={}", defaults.display()));
        c
    };
    let tested = mariadbd().args(["--help", "--verbose"]).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let server = Server::start(mariadbd(), &log);
    let target = format!("mysql://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    let new = renewed(&s);
    r.bring_again(&s);
    let flushed = Command::new("mariadb")
        .args(["--no-defaults", "-u", "root", "-e", "FLUSH SSL"])
        .arg(format!("--socket={}", socket.display()))
        .output()
        .unwrap();
    assert!(flushed.status.success(), "{}", String::from_utf8_lossy(&flushed.stderr));
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&log, &line);
    }
}

#[test]
fn redis() {
    if !has(&["redis-server", "redis-cli", "setpriv"]) || !is_root() {
        return;
    }
    let port = free_port();
    let (s, own, r) = prepared("redis", "redis", port);
    let log = own.join("log");
    let conf = own.join("server.conf");
    let redis = || {
        let mut c = as_account("redis", Path::new("redis-server"));
        c.arg(&conf).args(["--dir", &own.display().to_string(), "--save", ""]);
        c
    };
    let server = Server::start(redis(), &log);
    let target = format!("charts.saltmarsh.test:{port}");
    nobody_warns(&s, &server, &target);
    let new = renewed(&s);
    r.bring_again(&s);
    let reload = r.0["renewal"].as_array().unwrap().last().unwrap().as_str().unwrap();
    assert!(reload.contains("CONFIG SET tls-cert-file"), "{reload}");
    let here = reload.replace("-h charts.saltmarsh.test", "-h 127.0.0.1 --sni charts.saltmarsh.test");
    let reply = tamga_testkit::server::type_in(&s, &[&here]).expect(0);
    // A refusal would end with 0 by itself: what it says counts.
    assert_eq!(reply.err.trim(), "OK");
    serves(&s, &server, &target, &new);
    for line in r.proof() {
        server.waits_for(&log, &line);
    }
    drop(server);
    with_a_wrong_key(&s, &own.join("tls/private-key.pem"));
    let refused = redis().output().unwrap();
    assert!(!refused.status.success());
    is_explained(&s, &String::from_utf8_lossy(&refused.stdout), "key-mismatch");
}
