//! The site that `tamga serve` shows, met by curl.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use tamga_testkit::sandbox::{Sandbox, has};

/// A running site; stopped when dropped.
struct Site {
    child: Child,
    lines: BufReader<std::process::ChildStdout>,
    port: u64,
    redirect: u64,
}

impl Site {
    fn start(s: &Sandbox, words: &[&str]) -> Site {
        let words = [&["serve", "charts", "--format", "json"], words].concat();
        let mut child = s.command(&words).stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap());
        let mut line = String::new();
        lines.read_line(&mut line).unwrap();
        let v: Value = serde_json::from_str(&line).unwrap();
        Site { child, lines, port: v["port"].as_u64().unwrap(), redirect: v["redirect_port"].as_u64().unwrap_or(0) }
    }

    /// The next event that it tells.
    fn event(&mut self) -> Value {
        let mut line = String::new();
        self.lines.read_line(&mut line).unwrap();
        serde_json::from_str(&line).unwrap()
    }

    fn curl(&self, s: &Sandbox, path: &str, more: &[&str]) -> (String, String) {
        let address = format!("https://localhost:{}{path}", self.port);
        let base = ["-sS", "--path-as-is", "--max-time", "15", "-w", "\n%{http_code}", "--cacert"];
        let mut c = Command::new("curl");
        c.args(base).arg(s.lab("charts/root.pem")).args(more).arg(address);
        let out = c.output().unwrap();
        let text = String::from_utf8_lossy(&out.stdout).into_owned();
        let (body, code) = text.rsplit_once('\n').unwrap();
        (code.to_owned(), format!("{body}{}", String::from_utf8_lossy(&out.stderr)))
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-INT", &self.child.id().to_string()]).status();
        let _ = self.child.wait();
    }
}

#[test]
fn a_folder_is_shown_and_nothing_outside_it_nor_keys() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    std::fs::create_dir_all(s.lab("site/.git")).unwrap();
    let big: Vec<u8> = (0..3_000_000_u32).map(|i| i as u8).collect();
    for (name, bytes) in [
        ("site/index.html", &b"<h1>tides</h1>"[..]),
        ("site/a b.json", b"{}"),
        ("site/big.bin", &big),
        ("site/.git/config", b"hidden"),
        ("site/private-key.pem", b"secret"),
        ("outside.txt", b"outside"),
    ] {
        std::fs::write(s.lab(name), bytes).unwrap();
    }
    std::os::unix::fs::symlink("../outside.txt", s.lab("site/way-out.txt")).unwrap();
    let mut site = Site::start(&s, &["--folder", "site"]);
    assert_eq!(site.curl(&s, "/", &[]), ("200".into(), "<h1>tides</h1>".into()));
    let told = site.event();
    assert_eq!((told["event"].as_str(), told["status"].as_u64()), (Some("request"), Some(200)));
    assert_eq!((told["length"].as_u64(), told["protocol"].as_str()), (Some(14), Some("TLS 1.3")));
    let (code, head) = site.curl(&s, "/a%20b.json", &["-D", "-"]);
    assert!(code == "200" && head.contains("application/json"), "{head}");
    site.curl(&s, "/big.bin", &["-o", &s.lab("got.bin").display().to_string()]);
    assert_eq!(std::fs::read(s.lab("got.bin")).unwrap(), big);
    for bad in ["/../outside.txt", "/%2e%2e/outside.txt", "/way-out.txt", "/.git/config", "/private-key.pem", "/none"] {
        assert_eq!(site.curl(&s, bad, &[]).0, "404", "{bad}");
    }
    assert_eq!(site.curl(&s, "/", &["-X", "POST"]).0, "405");
    s.run(&["serve", "charts", "--folder", "outside.txt"]).expect(4);
}

#[test]
fn plain_http_is_sent_to_https_and_old_protocols_are_refused() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let site = Site::start(&s, &["--redirect-from", "0", "--tls-minimum", "1.3"]);
    let address = format!("http://localhost:{}/a?b=c", site.redirect);
    let words = ["-sS", "-o", "/dev/null", "-w", "%{http_code} %{redirect_url}", &address];
    let said = String::from_utf8(Command::new("curl").args(words).output().unwrap().stdout).unwrap();
    assert_eq!(said, format!("307 https://localhost:{}/a?b=c", site.port));
    assert_eq!(site.curl(&s, "/", &[]).0, "200");
    let (code, why) = site.curl(&s, "/", &["--tls-max", "1.2"]);
    assert!(code == "000" && why.contains("protocol version"), "{why}");
}

#[test]
fn only_clients_of_the_authority_are_let_in() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    s.run(&["issue", "operator.saltmarsh.test", "--purpose", "client"]).expect(0);
    s.run(&["authority", "create", "harbour"]).expect(0);
    s.run(&["issue", "stranger.saltmarsh.test", "--purpose", "client", "--issuer", "harbour"]).expect(0);
    let site = Site::start(&s, &["--client-authority", "saltmarsh"]);
    let shown = |who: &str| {
        let file = |name: &str| s.lab(&format!("{who}.saltmarsh.test/{name}.pem")).display().to_string();
        site.curl(&s, "/", &["--cert", &file("certificate"), "--key", &file("private-key")]).0
    };
    assert_eq!((shown("operator").as_str(), shown("stranger").as_str()), ("200", "000"));
    assert_eq!(site.curl(&s, "/", &[]).0, "000");
    s.run(&["serve", "charts", "--client-authority", "nobody"]).expect(3);
}

#[test]
fn a_renewed_certificate_is_served_without_a_restart() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let mut site = Site::start(&s, &[]);
    let renewed = s.json(&["renew", "charts"]).expect(0).json()["certificates"][0]["sha256"].clone();
    let told = site.event();
    assert_eq!((told["event"].as_str(), &told["sha256"]), (Some("renewed"), &renewed));
    let v = s.json(&["check", &format!("localhost:{}", site.port), "--anchor", "charts/root.pem"]).expect(0).json();
    assert_eq!(v["targets"][0]["chain"][0]["sha256"], renewed);
}

#[test]
fn clients_that_say_nothing_or_nonsense_keep_nobody_out() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let site = Site::start(&s, &[]);
    let to = ("127.0.0.1", u16::try_from(site.port).unwrap());
    let silent: Vec<TcpStream> = (0..200).map(|_| TcpStream::connect(to).unwrap()).collect();
    for nonsense in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0x16, 3, 1, 0xff, 0xff], &[0; 300]] {
        TcpStream::connect(to).unwrap().write_all(nonsense).unwrap();
    }
    // curl gives up before the site gives up the silent ones: nobody waits for them.
    assert_eq!(site.curl(&s, "/", &[]).0, "200");
    drop(silent);
}
