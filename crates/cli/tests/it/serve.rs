//! The site that `tamga serve` shows, met by curl.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
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
    let reply = site.event();
    assert_eq!((reply["event"].as_str(), reply["status"].as_u64()), (Some("request"), Some(200)));
    assert_eq!((reply["length"].as_u64(), reply["protocol"].as_str()), (Some(14), Some("TLS 1.3")));
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
    let reply = site.event();
    assert_eq!((reply["event"].as_str(), &reply["sha256"]), (Some("renewed"), &renewed));
    let v = s.json(&["check", &format!("localhost:{}", site.port), "--anchor", "charts/root.pem"]).expect(0).json();
    assert_eq!(v["targets"][0]["chain"][0]["sha256"], renewed);
    let (_, page) = site.curl(&s, "/", &[]);
    assert!(page.contains(renewed.as_str().unwrap()), "the page tells of the old one: {page}");
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

#[test]
fn both_versions_of_http_and_an_echo_over_web_socket() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let mut site = Site::start(&s, &[]);
    let version = |site: &Site, words: &[&str]| {
        let more = [&["-o", "/dev/null", "-w", "\n%{http_version}"], words].concat();
        site.curl(&s, "/", &more).0
    };
    let (two, one) = (version(&site, &["--http2"]), version(&site, &["--http1.1"]));
    assert_eq!((two.as_str(), one.as_str()), ("2", "1.1"));
    let reply = (site.event(), site.event());
    assert_eq!((reply.0["http"].as_str(), reply.1["http"].as_str()), (Some("HTTP/2"), Some("HTTP/1.1")));
    assert_eq!(echoed(&s, u16::try_from(site.port).unwrap(), "/"), "spring tide");
    assert_eq!(site.event()["status"], 101);
}

/// Sends one text over a WebSocket whose TLS is verified with the root, and gives back what came.
fn echoed(s: &Sandbox, port: u16, path: &str) -> String {
    let root = tamga_core::pki::format::pem::certificates(&std::fs::read(s.lab("charts/root.pem")).unwrap()).remove(0);
    let mut tls = tamga_testkit::mutual::visit(&root, "localhost", port);
    let ask = format!(
        "GET {path} HTTP/1.1\r\nHost: localhost:{port}\r\nConnection: keep-alive, Upgrade\r\nUpgrade: websocket\r\n\
         Sec-WebSocket-Version: 13\r\nSec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\n\r\n"
    );
    tls.write_all(ask.as_bytes()).unwrap();
    let mut lines = BufReader::new(tls);
    let mut head = String::new();
    while !head.ends_with("\r\n\r\n") {
        assert!(lines.read_line(&mut head).unwrap() > 0, "{head}");
    }
    // The answer to the key of RFC 6455 §1.3.
    assert!(head.starts_with("HTTP/1.1 101") && head.contains("s3pPLMBiTxaQ9kYGzzhZRbK+xOo="), "{head}");
    // One masked text frame (§5.2), with a mask of zeros.
    let text = b"spring tide";
    let frame = [&[0x81, 0x80 | text.len() as u8, 0, 0, 0, 0], &text[..]].concat();
    lines.get_mut().write_all(&frame).unwrap();
    let mut back = vec![0; 2 + text.len()];
    lines.read_exact(&mut back).unwrap();
    assert_eq!(back[..2], [0x81, text.len() as u8]);
    String::from_utf8(back[2..].to_vec()).unwrap()
}

#[test]
fn an_application_behind_it_gets_requests_and_web_sockets() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    // The application: says what it was asked, and goes over to WebSocket where that is wanted.
    let listener = std::net::TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let behind = listener.local_addr().unwrap().port();
    let application = std::thread::spawn(move || {
        for socket in listener.incoming().take(3) {
            let mut socket = BufReader::new(socket.unwrap());
            let mut head = String::new();
            while !head.ends_with("\r\n\r\n") {
                assert!(socket.read_line(&mut head).unwrap() > 0);
            }
            let length =
                head.lines().find_map(|l| l.to_lowercase().strip_prefix("content-length: ")?.parse::<usize>().ok());
            let mut body = vec![0; length.unwrap_or(0)];
            socket.read_exact(&mut body).unwrap();
            if head.contains("upgrade: websocket") {
                let answer = "HTTP/1.1 101 Switching Protocols\r\nConnection: Upgrade\r\nUpgrade: websocket\r\n\
                              Sec-WebSocket-Accept: s3pPLMBiTxaQ9kYGzzhZRbK+xOo=\r\n\r\n";
                socket.get_mut().write_all(answer.as_bytes()).unwrap();
                let mut frame = [0; 17];
                socket.read_exact(&mut frame).unwrap();
                let back = [&[0x81, 11], &frame[6..]].concat();
                socket.get_mut().write_all(&back).unwrap();
            } else {
                let body = format!("{head}{}", String::from_utf8_lossy(&body));
                let answer = format!(
                    "HTTP/1.1 201 Created\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}",
                    body.len()
                );
                socket.get_mut().write_all(answer.as_bytes()).unwrap();
            }
        }
    });
    let site = Site::start(&s, &["--proxy-to", &format!("http://127.0.0.1:{behind}")]);
    for version in ["--http2", "--http1.1"] {
        let words = ["-X", "POST", "--data", "level=7", "-H", "Connection: x-mine", "-H", "X-Mine: 1", version];
        let (code, got) = site.curl(&s, "/gauge?x=y", &words);
        let lower = got.to_lowercase();
        assert!(code == "201" && got.starts_with("POST /gauge?x=y HTTP/1.1\r\n") && got.ends_with("level=7"), "{got}");
        assert!(lower.contains("x-forwarded-proto: https") && lower.contains("x-forwarded-for: 127.0.0.1"), "{got}");
        assert!(lower.contains(&format!("host: localhost:{}", site.port)), "{got}");
        assert!(version == "--http2" || !lower.contains("x-mine"), "{got}");
    }
    assert_eq!(echoed(&s, u16::try_from(site.port).unwrap(), "/live"), "spring tide");
    application.join().unwrap();
    let (code, why) = site.curl(&s, "/", &[]);
    assert!(code == "502" && why.contains("does not answer"), "{why}");
    s.run(&["serve", "charts", "--proxy-to", "https://127.0.0.1"]).expect(2);
}

#[test]
fn a_server_broken_on_purpose_is_refused_for_just_that_reason() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    for (fault, code, curl) in [
        ("expired", "expired", "certificate has expired"),
        ("not-yet", "not-yet-valid", "not yet valid"),
        ("wrong-name", "name-not-covered", "does not match"),
        ("no-intermediate", "issuer-unknown", "unable to get local issuer"),
        ("old-root", "issuer-unknown", "unable to get local issuer"),
        ("self-signed", "self-signed-leaf", "self-signed"),
        ("weak-key", "weak-key", "key too weak"),
    ] {
        let site = Site::start(&s, &["--fault", fault]);
        let target = format!("localhost:{}", site.port);
        let v = s.json(&["check", &target, "--anchor", "charts/root.pem", "--clients", "curl"]).expect(1).json();
        assert_eq!(v["targets"][0]["clients"][0]["findings"], serde_json::json!([code]), "{fault}: {v}");
        let (status, said) = site.curl(&s, "/", &[]);
        let matches = said.contains(curl) || (fault == "wrong-name" && said.contains("no alternative certificate"));
        assert!(status == "000" && matches, "{fault}: {said}");
    }
    // The ledger records the broken certificate as an event only, never under the label.
    let listed = s.json(&["list"]).expect(0).json();
    assert_eq!(listed["certificates"].as_array().unwrap().len(), 1);
    s.run(&["serve", "charts", "--fault", "tired"]).expect(2);
    s.run(&["issue", "alone.test", "--self-signed", "--label", "alone"]).expect(0);
    s.run(&["serve", "alone", "--fault", "expired"]).expect(2);
}

#[test]
fn a_port_in_use_or_without_rights_gets_its_three_lines() {
    let s = lab();
    let taken = std::net::TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let said = s.run(&["serve", "charts", "--port", &port]).expect(4).err;
    assert!(said.contains(&port) && said.contains("why:") && said.contains("do:"), "{said}");
    if !has(&["setpriv"]) || !tamga_testkit::server::is_root() {
        return;
    }
    // As an account that may not take ports below 1024.
    s.open_to_others();
    let own = Command::new("chown").arg("-R").arg("www-data").args([s.path("data"), s.lab("")]).status().unwrap();
    assert!(own.success());
    let mut c = s.around("setpriv");
    let program = env!("CARGO_BIN_EXE_tamga");
    let copy = s.path("lab/tamga");
    assert!(Command::new("cp").arg(program).arg(&copy).status().unwrap().success());
    c.args(["--reuid", "www-data", "--regid", "www-data", "--clear-groups", "--"])
        .arg(&copy)
        .args(["serve", "charts", "--port", "442"]);
    let out = c.output().unwrap();
    let said = String::from_utf8_lossy(&out.stderr);
    // Some machines let everybody take them: then there is nothing to say.
    let lowest = std::fs::read_to_string("/proc/sys/net/ipv4/ip_unprivileged_port_start").unwrap_or_default();
    if lowest.trim().parse::<u16>().unwrap_or(1024) > 442 {
        assert_eq!(out.status.code(), Some(4), "{said}");
        assert!(said.contains("1024") && said.contains("do:"), "{said}");
    }
}

/// Every form in which a key may lie in a directory, under names that say nothing.
#[test]
fn a_folder_hands_out_no_private_key_in_any_form() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    std::fs::create_dir(s.lab("site")).unwrap();
    std::fs::write(s.lab("pass"), "a passphrase for the way\n").unwrap();
    let key = s.lab("charts/private-key.pem");
    let export = |form: &str, name: &str, more: &[&str]| {
        let output = format!("site/{name}");
        s.run(&[&["export", "charts", "--as", form, "--output", &output], more].concat()).expect(0);
    };
    let protected = ["--new-passphrase-file", "pass"];
    export("pkcs8", "a.txt", &[]);
    export("pkcs8", "b.txt", &protected);
    export("combined-pem", "c.txt", &[]);
    export("pkcs12", "d.txt", &protected);
    export("pkcs12", "d2.txt", &["--new-passphrase-file", "pass", "--legacy"]);
    export("jks", "e.txt", &protected);
    export("kubernetes-secret", "f.txt", &[]);
    export("archive", "g.txt", &protected);
    std::fs::hard_link(&key, s.lab("site/h.txt")).unwrap();
    let text = std::fs::read_to_string(&key).unwrap();
    let der = tamga_core::pki::format::pem::read(text.as_bytes()).0.remove(0).der;
    std::fs::write(s.lab("site/i.txt"), &der[..]).unwrap();
    std::fs::write(s.lab("site/j.html"), format!("<pre>{text}</pre>")).unwrap();
    std::fs::write(s.lab("site/k.bin"), [&vec![7; 6 << 20][..], text.as_bytes(), &vec![7; 1 << 20]].concat()).unwrap();
    let utf16: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    std::fs::write(s.lab("site/l.txt"), utf16).unwrap();
    std::fs::write(s.lab("site/m.json"), r#"{"kty":"EC","crv":"P-256","x":"a","y":"b","d":"c"}"#).unwrap();
    s.run(&["issue", "rsa.saltmarsh.test", "--key-algorithm", "rsa2048"]).expect(0);
    std::fs::copy(s.lab("rsa.saltmarsh.test/private-key.pem"), s.lab("site/n.txt")).unwrap();
    let keys: Vec<String> =
        std::fs::read_dir(s.lab("site")).unwrap().flatten().map(|e| e.file_name().into_string().unwrap()).collect();
    assert!(keys.len() >= 14, "{keys:?}");
    // What holds no key is handed out, stores of roots included.
    s.run(&["export", "saltmarsh", "--as", "pkcs12", "--output", "site/root.p12"]).expect(0);
    s.run(&["export", "saltmarsh", "--as", "jks", "--output", "site/root.jks"]).expect(0);
    s.run(&["export", "saltmarsh", "--as", "mobileconfig", "--output", "site/root.mobileconfig"]).expect(0);
    std::fs::copy(s.lab("charts/certificate.pem"), s.lab("site/certificate.pem")).unwrap();
    std::fs::write(s.lab("site/index.html"), "<p>How to keep a private key</p>").unwrap();
    let site = Site::start(&s, &["--folder", "site"]);
    for name in &keys {
        assert_eq!(site.curl(&s, &format!("/{name}"), &["-o", "/dev/null"]).0, "404", "{name} is handed out");
    }
    for name in ["root.p12", "root.jks", "root.mobileconfig", "certificate.pem", "index.html"] {
        assert_eq!(site.curl(&s, &format!("/{name}"), &["-o", "/dev/null"]).0, "200", "{name} is kept back");
    }
}

#[test]
fn a_request_names_one_host_and_a_signal_ends_what_is_under_way_in_order() {
    if !has(&["curl"]) {
        return;
    }
    let s = lab();
    let mut site = Site::start(&s, &["--redirect-from", "0"]);
    assert_eq!(site.curl(&s, "/", &[]).0, "200");
    assert_eq!(site.curl(&s, "/", &["--http1.1", "-H", "Host:"]).0, "400", "without a Host");
    for head in ["GET / HTTP/1.1\r\n\r\n", "GET / HTTP/1.1\r\nHost: a\r\nHost: b\r\n\r\n"] {
        let mut plain = TcpStream::connect(("127.0.0.1", u16::try_from(site.redirect).unwrap())).unwrap();
        plain.write_all(head.as_bytes()).unwrap();
        let mut answer = [0; 12];
        plain.read_exact(&mut answer).unwrap();
        assert_eq!(&answer, b"HTTP/1.1 400", "{head:?}");
    }
    assert!(Command::new("kill").args(["-TERM", &site.child.id().to_string()]).status().unwrap().success());
    assert_eq!(site.child.wait().unwrap().code(), Some(0));
}
