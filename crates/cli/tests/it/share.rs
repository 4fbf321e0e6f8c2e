//! `tamga trust share`: the root for phones and other machines, and nothing else.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::{container, pem};
use tamga_testkit::sandbox::{Sandbox, has};

/// A page that is shared; ends when dropped.
struct Shared {
    child: Child,
    reply: Value,
}

impl Shared {
    fn start(s: &Sandbox, more: &[&str]) -> Shared {
        let words = [&["trust", "share", "--address", "127.0.0.1", "--format", "json"], more].concat();
        let mut child = s.command(&words).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        Shared { child, reply: serde_json::from_str(&line).unwrap_or_else(|e| panic!("{e}: {line}")) }
    }

    fn url(&self) -> &str {
        self.reply["url"].as_str().unwrap()
    }

    /// Status line, headers, body.
    fn says(&self, request: &[u8]) -> (String, String, Vec<u8>) {
        let at = self.url().trim_start_matches("http://").trim_end_matches('/');
        let mut socket = TcpStream::connect(at).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        let _ = socket.write_all(request);
        let mut all = Vec::new();
        let _ = socket.read_to_end(&mut all);
        let end = all.windows(4).position(|w| w == b"\r\n\r\n").map_or(all.len(), |at| at + 4);
        let head = String::from_utf8_lossy(&all[..end]).into_owned();
        let (first, headers) = head.split_once("\r\n").unwrap_or((&head, ""));
        (first.to_owned(), headers.to_ascii_lowercase(), all[end..].to_vec())
    }

    fn get(&self, path: &str) -> (String, String, Vec<u8>) {
        self.says(format!("GET {path} HTTP/1.1\r\nHost: lab\r\n\r\n").as_bytes())
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn root(s: &Sandbox) -> Certificate {
    let text = std::fs::read(s.path("data/authorities/saltmarsh/certificate.pem")).unwrap();
    Certificate::read(&pem::certificates(&text)[0], "root").unwrap()
}

#[test]
fn the_root_is_there_in_every_form_with_its_type_and_nothing_private() {
    let s = lab();
    let shared = Shared::start(&s, &[]);
    let root = root(&s);
    assert_eq!(shared.reply["sha256"], root.sha256().as_str());
    for (path, kind) in [
        ("/root.crt", "application/x-x509-ca-cert"),
        ("/root.pem", "application/x-pem-file"),
        ("/root.mobileconfig", "application/x-apple-aspen-config"),
        ("/root.p12", "application/x-pkcs12"),
        ("/root.p7b", "application/x-pkcs7-certificates"),
    ] {
        let (first, headers, body) = shared.get(path);
        assert!(
            first.contains(" 200 ") && headers.contains(&format!("content-type: {kind}\r\n")),
            "{path}: {first} {headers}"
        );
        assert!(headers.contains("nosniff") && headers.contains("no-store"), "{path}: {headers}");
        assert_eq!(headers.contains("attachment"), path != "/root.mobileconfig", "{path}");
        let found = container::open(&body, None, path).unwrap();
        assert!(found.keys.is_empty(), "{path} has a key");
        assert_eq!(found.certificates[0].thing, root.der(), "{path}");
    }
    let (_, headers, page) = shared.get("/");
    let page = String::from_utf8(page).unwrap();
    assert!(headers.contains("text/html") && headers.contains("default-src 'none'"));
    assert!(
        page.contains("Compare the SHA-256 fingerprint") && !page.contains(root.sha256().as_str()),
        "a page cannot vouch for itself"
    );
    assert!(page.find("iPhone").unwrap() < page.find("Windows").unwrap(), "phones first");
    assert!(!page.contains("<script"));
}

#[test]
fn whatever_else_is_asked_is_refused() {
    let s = lab();
    let shared = Shared::start(&s, &[]);
    let long = format!("GET /{} HTTP/1.1\r\nHost: a\r\n\r\n", "a".repeat(40_000));
    let headers = format!("GET / HTTP/1.1\r\n{}\r\n", "X: y\r\n".repeat(20_000));
    for request in [
        "GET /../../etc/passwd HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /%2e%2e/ledger.sqlite HTTP/1.1\r\nHost: a\r\n\r\n",
        "GET /private-key.pem HTTP/1.1\r\nHost: a\r\n\r\n",
        "POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 3\r\n\r\nabc",
        "PUT /root.pem HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n",
        "CONNECT a:443 HTTP/1.1\r\nHost: a:443\r\n\r\n",
        "GET http://elsewhere/ledger HTTP/1.1\r\nHost: elsewhere\r\n\r\n",
        "no request at all\r\n\r\n",
        "\x16\x03\x01\x02\x00",
        &long,
        &headers,
    ] {
        let (first, _, body) = shared.says(request.as_bytes());
        let shown = &request[..request.len().min(60)];
        assert!(
            first.is_empty() || first.starts_with("HTTP/1.1 4") || first.starts_with("HTTP/1.0 4"),
            "{shown:?}: {first}"
        );
        assert!(body.len() < 100, "{shown:?}: {}", String::from_utf8_lossy(&body));
    }
    // It is still there for those who ask rightly.
    assert!(shared.get("/root.pem").0.contains(" 200 "));
    assert!(shared.says(b"HEAD / HTTP/1.1\r\nHost: a\r\n\r\n").2.is_empty());
}

#[test]
fn it_ends_by_itself_and_another_machine_takes_the_root_from_it() {
    let s = lab();
    let (shared, other) = (Shared::start(&s, &[]), crate::sandbox());
    std::fs::write(other.lab("roots.pem"), "").unwrap();
    let add = |print: &str| {
        let words =
            ["trust", "add", "--from", shared.url(), "--sha256", print, "--stores", "bundle", "--bundle", "roots.pem"];
        other.run(&words)
    };
    add(&"0".repeat(64)).expect(3);
    assert!(std::fs::read(other.lab("roots.pem")).unwrap().is_empty());
    add(&root(&s).sha256()).expect(0);
    let held = pem::certificates(&std::fs::read(other.lab("roots.pem")).unwrap());
    assert_eq!(held, [root(&s).der().to_vec()]);
    let mut short = Shared::start(&s, &["--stop-after", "1m"]);
    assert!(short.get("/").0.contains(" 200 ") && short.child.try_wait().unwrap().is_none());
    // Asked to end, it ends in good order.
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(short.child.id() as i32), nix::sys::signal::Signal::SIGTERM)
        .unwrap();
    let since = Instant::now();
    let code = loop {
        match short.child.try_wait().unwrap() {
            Some(ended) => break ended.code(),
            None => assert!(since.elapsed() < Duration::from_secs(10), "it does not end"),
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    assert_eq!(code, Some(0));
    assert_eq!(s.json(&["trust", "share", "--stop-after", "soon"]).expect(2).json()["error"]["code"], "word-unknown");
}

#[test]
fn the_page_in_a_real_browser_and_its_code_by_an_independent_reader() {
    if !has(&["chromium", "zbarimg"]) {
        return;
    }
    let s = lab();
    let shared = Shared::start(&s, &[]);
    for (size, name) in [("1280,1600", "desktop.png"), ("500,4000", "phone.png")] {
        let picture = s.lab(name);
        let mut c = Command::new("chromium");
        c.args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--hide-scrollbars",
        ]);
        c.args(["--disable-background-networking", "--disable-component-update", "--disable-sync"]);
        c.arg(format!("--user-data-dir={}", s.path(name).display())).arg(format!("--window-size={size}"));
        c.arg(format!("--screenshot={}", picture.display())).arg(shared.url()).env("HOME", s.path("home"));
        assert!(c.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().success());
        let read = Command::new("zbarimg").args(["--quiet", "--raw"]).arg(&picture).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&read.stdout).trim(), shared.url(), "{size}");
    }
}

/// Connections that say nothing hold up nobody who asks.
#[test]
fn silent_connections_do_not_delay_the_others() {
    let s = lab();
    let shared = Shared::start(&s, &[]);
    let address = shared.url().trim_start_matches("http://").trim_end_matches('/').to_owned();
    let silent: Vec<_> = (0..200).filter_map(|_| std::net::TcpStream::connect(&address).ok()).collect();
    assert!(silent.len() > 64);
    let begun = std::time::Instant::now();
    // From another address of loopback, as another machine would come.
    let other = std::process::Command::new("curl")
        .args(["-sS", "--interface", "127.0.0.9", "--max-time", "10"])
        .arg(format!("http://{address}/root.pem"))
        .output();
    if let Ok(out) = other
        && address.starts_with("127.")
    {
        assert!(
            String::from_utf8_lossy(&out.stdout).contains("BEGIN CERTIFICATE"),
            "{}",
            String::from_utf8_lossy(&out.stderr)
        );
        assert!(begun.elapsed() < std::time::Duration::from_secs(2), "{:?}", begun.elapsed());
    }
    drop(silent);
    // The server sees the closed connections one after the other; then this address is served again.
    let until = std::time::Instant::now() + std::time::Duration::from_secs(10);
    while !shared.get("/root.pem").0.contains(" 200 ") {
        assert!(std::time::Instant::now() < until, "still refused");
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
}
