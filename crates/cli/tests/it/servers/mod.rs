//! Recipes with the real servers: each starts as written, is checked, gets a renewed certificate, and its log is searched for success
//! in the words that the recipe promised.

mod data;
mod runtime;
mod web;

use serde_json::Value;
use std::path::Path;
use std::process::Command;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::server::Server;

/// Every server that a test here runs and that is not carried out on a machine of its own; the recipes must claim just these all.
const RUN: [&str; 4] = ["jvm", "postgresql", "mysql", "redis"];

/// The lab with a certificate made for one kind of server.
fn lab_for(server: &str) -> Sandbox {
    let s = crate::sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    let words = ["issue", "charts.saltmarsh.test", "localhost", "127.0.0.1", "--label", "charts", "--for", server];
    s.run(&words).expect(0);
    s
}

/// The server's answer to a check: nobody would warn. Gives the fingerprint of what it serves.
#[track_caller]
fn nobody_warns(s: &Sandbox, server: &Server, target: &str) -> String {
    let words = ["check", target, "--anchor", "charts/root.pem", "--clients", "standard,curl,chromium"];
    let resolve = ["--resolve", "charts.saltmarsh.test=127.0.0.1"];
    let mut ran = s.json(&[&words[..], &resolve[..]].concat());
    // It is still starting.
    for _ in 0..400 {
        if ran.code != 4 && !(ran.code == 1 && ran.out.contains("\"chain\":[]")) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
        ran = s.json(&[&words[..], &resolve[..]].concat());
    }
    assert_eq!(ran.code, 0, "{}\n{}\nthe server said:\n{}", ran.out, ran.err, server.said());
    let v: Value = ran.json();
    assert!(v["targets"][0]["clients"].as_array().unwrap().iter().all(|c| c["verdict"] == "accepts"), "{v}");
    v["targets"][0]["chain"][0]["sha256"].as_str().unwrap().to_owned()
}

/// Waits until the server serves this certificate.
#[track_caller]
fn serves(s: &Sandbox, server: &Server, target: &str, sha256: &str) {
    for _ in 0..100 {
        if nobody_warns(s, server, target) == sha256 {
            return;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    panic!("the renewed certificate is not served:\n{}", server.said());
}

fn renewed(s: &Sandbox) -> String {
    s.json(&["renew", "charts"]).expect(0).json()["certificates"][0]["sha256"].as_str().unwrap().to_owned()
}

/// Plain HTTP is sent to HTTPS with 307, path and question kept.
#[track_caller]
fn redirects(plain: u16, port: u16) {
    let address = format!("http://charts.saltmarsh.test:{plain}/a?b=c");
    let resolve = format!("charts.saltmarsh.test:{plain}:127.0.0.1");
    let words = ["-q", "-sS", "-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", "--resolve", &resolve, &address];
    let ran = Command::new("curl").args(words).env_remove("http_proxy").output().unwrap();
    assert_eq!(String::from_utf8_lossy(&ran.stdout), format!("307 https://charts.saltmarsh.test:{port}/a?b=c"));
}

/// The status that curl gets with the root alone.
fn status(s: &Sandbox, port: u16, more: &[&str]) -> String {
    let address = format!("https://localhost:{port}/");
    let words = ["-q", "-sS", "-o", "/dev/null", "-w", "%{http_code}", "--noproxy", "*", "--cacert", "charts/root.pem"];
    let out = s.around("curl").args(words).args(more).arg(address).output().unwrap();
    String::from_utf8_lossy(&out.stdout).into_owned()
}

/// What the server writes about a key that is not the certificate's is explained as just that.
#[track_caller]
fn is_explained(s: &Sandbox, said: &str, code: &str) {
    let reply = s.json(&["explain", said]).expect(0).json();
    let codes: Vec<&str> = reply["servers"].as_array().unwrap().iter().filter_map(|k| k["code"].as_str()).collect();
    assert!(codes.contains(&code), "{said}\n{codes:?}");
}

/// Puts another key beside the certificate.
fn with_a_wrong_key(s: &Sandbox, file: &Path) {
    s.run(&["issue", "other.saltmarsh.test", "--label", "other"]).expect(0);
    std::fs::copy(s.lab("other/private-key.pem"), file).unwrap();
}

#[test]
fn the_recipes_claim_what_is_run_here_and_nothing_else() {
    let all = crate::sandbox().json(&["recipe"]).expect(0).json();
    let mut claimed: Vec<&str> = all["recipes"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r["tried"]["by"] == "run")
        .map(|r| r["server"].as_str().unwrap())
        .collect();
    claimed.sort_unstable();
    let mut run: Vec<&str> = RUN.into_iter().chain(crate::carried::RUN.iter().map(|(name, ..)| *name)).collect();
    run.sort_unstable();
    run.dedup();
    assert_eq!(claimed, run);
}
