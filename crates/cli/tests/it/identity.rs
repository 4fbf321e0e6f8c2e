//! Identities in browsers: shown by the real Chromium to a server that asks, and gone again with their keys.

use crate::lab;
use serde_json::Value;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::site::Site;

fn rows(v: &Value) -> Vec<(String, String)> {
    let word = |r: &Value, k: &str| r[k].as_str().unwrap().to_owned();
    v["stores"].as_array().unwrap().iter().map(|r| (word(r, "state"), word(r, "change"))).collect()
}

fn is(state: &str, change: &str) -> Vec<(String, String)> {
    vec![(state.to_owned(), change.to_owned())]
}

/// A server that lets in only clients of the lab's authority.
fn site(s: &Sandbox) -> Site {
    Site::start(s, &["charts", "--client-authority", "saltmarsh"])
}

#[test]
fn chromium_shows_it_to_a_server_that_asks_until_it_is_removed() {
    if !has(&["chromium"]) {
        return;
    }
    for algorithm in ["p256", "rsa2048"] {
        let s = lab();
        let words = [
            "issue",
            "operator.saltmarsh.test",
            "--purpose",
            "client",
            "--label",
            "operator",
            "--key-algorithm",
            algorithm,
        ];
        s.run(&words).expect(0);
        s.run(&["trust", "add", "--stores", "chromium"]).expect(0);
        let stores = ["--stores", "chromium"];
        let said = |verb: &str, code: i32| {
            s.json(&[&["identity", verb, "operator"], &stores[..]].concat()).expect(code).json()
        };
        assert_eq!(rows(&said("status", 0)), is("absent", "none"));
        assert_eq!(rows(&said("add", 0)), is("present", "added"));
        assert_eq!(rows(&said("add", 0)), is("present", "none"));
        assert_eq!(rows(&said("status", 0)), is("present", "none"));
        let site = site(&s);
        // Headless, nobody can choose: a policy of this view of the file system does.
        let policy = s.path("root/etc/chromium/policies/managed/choose.json");
        std::fs::create_dir_all(policy.parent().unwrap()).unwrap();
        let choice = format!(
            "{{\"AutoSelectCertificateForUrls\": [\"{{\\\"pattern\\\":\\\"https://localhost:{}\\\",\\\"filter\\\":{{}}}}\"]}}",
            site.port
        );
        std::fs::write(&policy, choice).unwrap();
        let visited = || {
            let mut c = crate::policies::overlaid(&s)?;
            let target = format!("https://localhost:{}", site.port);
            let own = s.command(&["check", &target, "--clients", "chromium", "--observe", "--format", "json"]);
            c.arg(own.get_program()).args(own.get_args()).current_dir(s.lab(""));
            c.env_clear().envs(own.get_envs().filter_map(|(k, v)| Some((k, v?))));
            let v: Value = serde_json::from_slice(&c.output().unwrap().stdout).unwrap();
            let clients = v["targets"][0]["clients"].as_array().unwrap().clone();
            let seen = clients.iter().find(|c| c["basis"] == "observed").unwrap_or_else(|| panic!("{v}")).clone();
            Some((seen["verdict"].as_str().unwrap().to_owned(), seen["code"].to_string()))
        };
        if let Some((verdict, code)) = visited() {
            assert_eq!(verdict, "accepts", "{algorithm}: {code}");
        }
        // A renewed one takes the older one's place.
        s.run(&["renew", "operator"]).expect(0);
        assert_eq!(rows(&said("status", 1)), is("older", "none"));
        assert_eq!(rows(&said("add", 0)), is("present", "added"));
        assert_eq!(rows(&said("remove", 0)), is("absent", "removed"));
        assert_eq!(rows(&said("remove", 0)), is("absent", "none"));
        if let Some((verdict, code)) = visited() {
            assert!(verdict != "accepts", "{algorithm}: {code}");
        }
        // leave finds what has the mark, without a ledger.
        s.run(&[&["identity", "add", "operator"], &stores[..]].concat()).expect(0);
        std::fs::remove_dir_all(s.path("data")).unwrap();
        let reply = s.run(&["leave", "--yes"]).out;
        assert!(reply.contains("removed 1 identities"), "{reply}");
    }
}

#[test]
fn what_cannot_be_added_is_reported() {
    if !has(&["chromium"]) {
        return;
    }
    let s = lab();
    s.run(&["identity", "add"]).expect(2);
    s.run(&["issue", "a.test", "--purpose", "client", "--label", "a", "--key-algorithm", "ed25519"]).expect(0);
    let v = s.json(&["identity", "add", "--stores", "chromium"]).expect(4).json();
    assert!(v["stores"][0]["remedy"].to_string().contains("--key-algorithm p256"), "{v}");
    // Nothing of it was left behind.
    assert_eq!(
        s.json(&["identity", "status", "a", "--stores", "chromium"]).expect(0).json()["stores"][0]["state"],
        "absent"
    );
    std::fs::remove_file(s.lab("a/private-key.pem")).unwrap();
    s.run(&["identity", "add", "a", "--stores", "chromium"]).expect(3);
    s.run(&["identity", "add", "nobody"]).expect(3);
    s.run(&["identity", "add", "a", "--stores", "system"]).expect(2);
}

#[test]
fn an_account_is_asked_for_only_where_a_store_knows_accounts() {
    let s = lab();
    s.run(&["issue", "gauge-7.saltmarsh.test", "--purpose", "client", "--label", "gauge"]).expect(0);
    let ran = s.run(&["identity", "add", "gauge", "--account", "www-data"]).expect(2);
    assert!(ran.err.contains("tamga check LABEL --account"), "{}", ran.err);
}
