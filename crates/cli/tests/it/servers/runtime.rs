//! Programs that speak TLS themselves: Node.js, Python, a JVM.

use super::{lab_for, nobody_warns, redirects, renewed, serves};
use nix::sys::signal::Signal;
use std::process::Command;
use tamga_testkit::sandbox::has;
use tamga_testkit::server::{Recipe, Server, free_port};

/// The recipe's program runs as written, and reads the renewed certificate at a signal.
fn runs(server: &str, program: &str, file: &str, syntax: &[&str]) {
    let s = lab_for(server);
    let (port, plain) = (free_port(), free_port());
    let (port_word, redirect) = (port.to_string(), format!("--redirect={plain}"));
    let words = [server, "charts", "--port", &port_word, "--address", "127.0.0.1", &redirect, "--output", file];
    let r = Recipe::of(&s, &words);
    r.bring(&s);
    let tested = s.around(program).args(syntax).arg(file).output().unwrap();
    assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stderr));
    let mut command = s.around(program);
    command.arg(file);
    let log = s.lab("said");
    let site = Server::start(command, &log);
    let target = format!("https://charts.saltmarsh.test:{port}");
    nobody_warns(&s, &site, &target);
    redirects(plain, port);
    let new = renewed(&s);
    r.bring_again(&s);
    site.signal(Signal::SIGHUP);
    serves(&s, &site, &target, &new);
    for line in r.proof() {
        site.waits_for(&log, &line);
    }
}

#[test]
fn node() {
    if has(&["node", "curl"]) {
        runs("node", "node", "server.mjs", &["--check"]);
    }
}

#[test]
fn python() {
    if has(&["python3", "curl"]) {
        runs("python", "python3", "server.py", &["-m", "py_compile"]);
    }
}

/// Reads the properties as a JVM application does, with the passphrase from the environment.
const JAVA: &str = include_str!("../carried/Https.java");

#[test]
fn jvm() {
    if !has(&["java"]) {
        return;
    }
    let s = lab_for("jvm");
    let port = free_port();
    let port_word = port.to_string();
    let file = "application.properties";
    let words = ["jvm", "charts", "--port", &port_word, "--address", "127.0.0.1", "--output", file];
    let r = Recipe::of(&s, &words);
    r.bring(&s);
    std::fs::write(s.lab("Https.java"), JAVA).unwrap();
    let log = s.lab("said");
    let start = || {
        // As the recipe starts it: the passphrase by the environment, from the file beside the store.
        let line = r.0["renewal"].as_array().unwrap().last().unwrap().as_str().unwrap();
        assert!(line.starts_with("KEY_STORE_PASSPHRASE=") && line.ends_with("java -jar application.jar"), "{line}");
        let mut shell = s.around("sh");
        shell.arg("-c").arg(line.replace("java -jar application.jar", "exec java Https.java application.properties"));
        Server::start(shell, &log)
    };
    let target = format!("https://charts.saltmarsh.test:{port}");
    let site = start();
    nobody_warns(&s, &site, &target);
    drop(site);
    let new = renewed(&s);
    r.bring_again(&s);
    let site = start();
    serves(&s, &site, &target, &new);
    for line in r.proof() {
        site.waits_for(&log, &line);
    }
    // A wrong passphrase is explained from the JVM's own words.
    let wrong = Command::new("java")
        .current_dir(s.lab(""))
        .args(["Https.java", file])
        .env("KEY_STORE_PASSPHRASE", "neap tide")
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&wrong.stderr).into_owned();
    let reply = s.json(&["explain", &said]).expect(0).json();
    assert!(reply["servers"].as_array().unwrap().iter().any(|k| k["server"] == "jvm"), "{said}\n{reply}");
}
