//! What browsers find in a page behind a certificate that they accept, and what they remember of its host.

use crate::lab;
use serde_json::Value;
use std::process::Command;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::site::{Page, of_files, of_pages};

const HOST: &str = "charts.saltmarsh.test";

/// A lab whose root Chromium trusts, with these pages; gives the port.
fn served(pages: &[Page<'_>]) -> (Sandbox, u16) {
    let s = lab();
    s.run(&["trust", "add", "--stores", "chromium"]).expect(0);
    let port = of_pages(&s.lab("charts"), pages);
    (s, port)
}

fn check(s: &Sandbox, url: &str, clients: &str, code: i32) -> Value {
    let resolved = format!("{HOST}=127.0.0.1");
    let words = ["check", url, "--clients", clients, "--observe", "--resolve", &resolved];
    s.json(&words).expect(code).json()["targets"][0].clone()
}

fn codes(v: &Value) -> Vec<&str> {
    v["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect()
}

#[test]
fn a_page_that_is_whole_is_a_secure_context_and_nothing_is_found() {
    if !has(&["chromium"]) {
        return;
    }
    let (s, port) =
        served(&[("/logbook?day=1", "", "<title>t</title><img src=/a.png><form action=/log></form>".into())]);
    let url = format!("https://{HOST}:{port}/logbook?day=1#top");
    let v = check(&s, &url, "chromium", 0);
    assert_eq!(codes(&v), [""; 0], "{v}");
    let page = &v["page"];
    assert_eq!(page["secure_context"], true, "{v}");
    assert_eq!(page["url"], format!("https://{HOST}:{port}/logbook?day=1"));
    assert_eq!((&page["insecure"], &page["refused"]), (&Value::Array(vec![]), &Value::Array(vec![])));
    let exchange = v["connections"][0]["key_exchange"].as_str().unwrap();
    assert_eq!((exchange, &v["connections"][0]["staple"]), ("X25519", &Value::Bool(false)));
}

#[test]
fn parts_over_plain_http_and_forms_are_found() {
    if !has(&["chromium"]) {
        return;
    }
    let body = format!(
        "<title>t</title><img src='http://{HOST}:1/tide.png'><script src='http://{HOST}:1/wind.js'></script>\
         <iframe src='http://{HOST}:1/map'></iframe><form action='http://{HOST}:1/log'><input type=password></form>\
         <img src='http://127.0.0.1:1/gauge.png'>"
    );
    let (s, port) = served(&[("/", "", body)]);
    let v = check(&s, &format!("https://{HOST}:{port}/"), "chromium", 1);
    let mut found = codes(&v);
    found.sort_unstable();
    assert_eq!(found, ["insecure-form", "mixed-content", "mixed-content", "mixed-content"], "{v}");
    assert_eq!(v["page"]["secure_context"], true, "the padlock says nothing of it");
    let insecure = v["page"]["insecure"].to_string();
    for part in ["tide.png", "wind.js", "map", "log", "gauge.png"] {
        assert!(insecure.contains(part), "{part}: {insecure}");
    }
    let of = |part: &str| {
        let found = v["findings"].as_array().unwrap().iter().find(|f| f["summary"].as_str().unwrap().contains(part));
        found.unwrap_or_else(|| panic!("{part}: {v}")).clone()
    };
    assert!(of("wind.js")["summary"].as_str().unwrap().contains("blocked"), "{v}");
    assert!(of("wind.js")["summary"].as_str().unwrap().contains("/map"), "{v}");
    assert!(of("tide.png")["summary"].as_str().unwrap().contains("missing"), "{v}");
    assert_eq!(of("gauge.png")["severity"], "warning");
    assert_eq!(of("/log")["code"], "insecure-form");
    // The verdict on the certificate is the same as before.
    assert!(v["clients"].as_array().unwrap().iter().all(|c| c["verdict"] == "accepts"), "{v}");
}

#[test]
fn a_part_from_a_server_that_the_browser_refuses_is_found_with_the_server_to_check() {
    if !has(&["chromium"]) {
        return;
    }
    let (s, _) = served(&[]);
    s.run(&["authority", "create", "harbour"]).expect(0);
    s.run(&["issue", "localhost", "--label", "tiles", "--issuer", "harbour"]).expect(0);
    let tiles = of_files(&s.lab("tiles"));
    let port = of_pages(
        &s.lab("charts"),
        &[("/", "", format!("<title>t</title><img src='https://localhost:{tiles}/a.png'>"))],
    );
    let v = check(&s, &format!("https://{HOST}:{port}/"), "chromium", 1);
    assert_eq!(codes(&v), ["subresource-refused"], "{v}");
    assert_eq!(v["findings"][0]["remedy"], format!("tamga check https://localhost:{tiles}"));
    assert_eq!(v["page"]["refused"][0]["code"], "net::ERR_CERT_AUTHORITY_INVALID");
    assert_eq!(v["page"]["insecure"], Value::Array(vec![]));
}

#[test]
fn firefox_tells_what_it_blocks() {
    if !has(&["firefox-esr"]) {
        return;
    }
    let body =
        format!("<title>t</title><script src='http://{HOST}:1/wind.js'></script><img src='http://{HOST}:1/tide.png'>");
    let s = lab();
    std::fs::create_dir_all(s.path("home/.mozilla/firefox/a.lab")).unwrap();
    std::fs::write(s.path("home/.mozilla/firefox/profiles.ini"), "[Profile0]\nIsRelative=1\nPath=a.lab\nDefault=1\n")
        .unwrap();
    s.run(&["trust", "add", "--stores", "firefox"]).expect(0);
    let port = of_pages(&s.lab("charts"), &[("/", "", body), ("/whole", "", "<title>t</title>".into())]);
    let v = check(&s, &format!("https://{HOST}:{port}/"), "firefox", 1);
    assert_eq!(v["page"]["client"], "firefox", "{v}");
    assert!(codes(&v).iter().all(|c| *c == "mixed-content"), "{v}");
    assert!(v["page"]["insecure"].to_string().contains("wind.js"), "{v}");
    let v = check(&s, &format!("https://{HOST}:{port}/whole"), "firefox", 0);
    assert_eq!((codes(&v), &v["page"]["secure_context"]), (vec![], &Value::Bool(true)), "{v}");
}

/// A real Chromium visits a page that sends the header, and ends; what it wrote is then read without it.
#[test]
fn what_chromium_remembers_of_a_host_is_read_from_its_profile() {
    if !has(&["chromium"]) {
        return;
    }
    let header = "Strict-Transport-Security: max-age=31536000; includeSubDomains\r\n";
    let (s, port) = served(&[("/", header, "<title>t</title>".into())]);
    let url = format!("https://{HOST}:{port}/");
    assert_eq!(codes(&check(&s, &url, "chromium", 0)), [""; 0]);
    let profile = s.path("home/.config/chromium");
    let ran = Command::new("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync", "--dump-dom"])
        .arg(format!("--user-data-dir={}", profile.display()))
        .arg(format!("--host-resolver-rules=MAP {HOST} 127.0.0.1"))
        .arg(&url)
        .env("HOME", s.path("home"))
        .env_remove("XDG_DATA_HOME")
        .env_remove("XDG_CONFIG_HOME")
        .output()
        .unwrap();
    assert!(String::from_utf8_lossy(&ran.stdout).contains("<title>t</title>"), "{ran:?}");
    let v = check(&s, &url, "chromium", 0);
    assert_eq!(codes(&v), ["hsts-remembered"], "{v}");
    assert_eq!(v["findings"][0]["severity"], "note");
    // Below the host as well, by the directive; beside it not.
    let resolved = format!("--resolve=a.{HOST}=127.0.0.1");
    let words = ["check", &format!("a.{HOST}:{port}"), "--clients", "chromium", &resolved];
    let v = s.json(&words).expect(1).json()["targets"][0].clone();
    assert_eq!(codes(&v), ["name-not-covered", "hsts-remembered"], "{v}");
    assert_eq!(v["findings"][1]["severity"], "warning", "there is no button to go on");
    let words = ["check", &format!("localhost:{port}"), "--clients", "chromium"];
    assert_eq!(codes(&s.json(&words).expect(0).json()["targets"][0]), [""; 0]);
}

/// A real Firefox does the same, and is stopped as soon as it has written.
#[test]
fn what_firefox_remembers_of_a_host_is_read_from_its_profile() {
    if !has(&["firefox-esr"]) {
        return;
    }
    let header = "Strict-Transport-Security: max-age=31536000; includeSubDomains\r\n";
    let (s, port) = served(&[("/", header, "<title>t</title>".into())]);
    let profile = s.path("home/.mozilla/firefox/a.lab");
    std::fs::create_dir_all(&profile).unwrap();
    std::fs::write(s.path("home/.mozilla/firefox/profiles.ini"), "[Profile0]\nIsRelative=1\nPath=a.lab\nDefault=1\n")
        .unwrap();
    s.run(&["trust", "add", "--stores", "firefox"]).expect(0);
    let url = format!("https://{HOST}:{port}/");
    assert_eq!(codes(&check(&s, &url, "firefox", 0)), [""; 0]);
    let here = format!("user_pref(\"network.dns.localDomains\", \"{HOST}\");\n");
    std::fs::write(profile.join("user.js"), here).unwrap();
    let mut c = Command::new("firefox-esr");
    c.args(["--headless", "--no-remote", "--profile"]).arg(&profile).arg(&url).env("HOME", s.path("home"));
    c.stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
    let mut firefox = c.spawn().unwrap();
    let written = profile.join("SiteSecurityServiceState.bin");
    for _ in 0..600 {
        if std::fs::metadata(&written).is_ok_and(|m| m.len() > 0) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    firefox.kill().unwrap();
    firefox.wait().unwrap();
    let v = check(&s, &url, "firefox", 0);
    assert_eq!(codes(&v), ["hsts-remembered"], "{v}");
    assert!(v["findings"][0]["summary"].to_string().contains("Firefox remembers until"), "{v}");
    let resolved = format!("--resolve=a.{HOST}=127.0.0.1");
    let words = ["check", &format!("a.{HOST}:{port}"), "--clients", "firefox,chromium", &resolved];
    let v = s.json(&words).expect(1).json()["targets"][0].clone();
    let remembered = v["findings"].as_array().unwrap().iter().find(|f| f["code"] == "hsts-remembered").unwrap();
    assert_eq!((&remembered["severity"], &remembered["clients"]), (&"warning".into(), &serde_json::json!(["firefox"])));
}

/// The same file, written here: who types http:// is led to a port that speaks no TLS.
#[test]
fn a_remembered_host_is_not_reached_over_plain_http() {
    let s = lab();
    let plain = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = plain.local_addr().unwrap().port();
    std::thread::spawn(move || {
        use std::io::{Read, Write};
        for mut socket in plain.incoming().flatten() {
            let _ = socket.read(&mut [0; 1024]);
            let _ = socket.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n");
        }
    });
    // SHA-256 of \x06charts\x09saltmarsh\x04test\x00, base64.
    let hashed = "KdzQQeYdm6KM+6JgsEOr2HwcGuWG1BmG78dOOHB1XxQ=";
    let file = s.path("home/.config/chromium/Default/TransportSecurity");
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    let entry = serde_json::json!({"host": hashed, "mode": "force-https", "expiry": 4e9, "sts_include_subdomains": false,
        "sts_observed": 1.0});
    std::fs::write(&file, serde_json::json!({"sts": [entry], "version": 2}).to_string()).unwrap();
    let resolved = format!("--resolve={HOST}=127.0.0.1");
    let look = |clients: &str| {
        let words = ["check", &format!("http://{HOST}:{port}"), "--clients", clients, &resolved];
        s.json(&words).expect(1).json()["targets"][0].clone()
    };
    let v = look("chromium");
    assert!(codes(&v).contains(&"hsts-remembered"), "{v}");
    assert!(v.to_string().contains(&format!("it asks https://{HOST}:{port} instead")), "{v}");
    assert!(!codes(&look("curl")).contains(&"hsts-remembered"), "curl was not asked about a browser's memory");
}
