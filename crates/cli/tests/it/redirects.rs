//! From plain HTTP to HTTPS: every redirect is reported, and what is wrong with it.

use crate::lab;
use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::process::Stdio;
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::server::ClosedPort;

/// A server for plain HTTP that answers each path as the function says: status and Location.
fn plain(answer: impl Fn(&str, u16) -> (u16, Option<String>) + Send + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let mut socket = BufReader::new(socket);
            let mut head = String::new();
            while !head.ends_with("\r\n\r\n") && socket.read_line(&mut head).is_ok_and(|n| n > 0) {}
            let path = head.split(' ').nth(1).unwrap_or("/").to_owned();
            let (status, location) = answer(&path, port);
            let location = location.map(|l| format!("Location: {l}\r\n")).unwrap_or_default();
            let _ = write!(socket.get_mut(), "HTTP/1.1 {status} x\r\n{location}Content-Length: 0\r\n\r\n");
        }
    });
    port
}

fn checked(s: &Sandbox, port: u16) -> (i32, Value, Vec<String>) {
    let target = format!("http://localhost:{port}/start");
    let words =
        ["check", &target, "--anchor", "charts/root.pem", "--clients", "standard", "--resolve", "localhost=127.0.0.1"];
    let ran = s.json(&words);
    let v = ran.json()["targets"][0].clone();
    let codes = v["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap().to_owned()).collect();
    (ran.code, v, codes)
}

#[test]
fn a_site_is_checked_as_a_browser_finds_it_by_the_bare_name() {
    let s = lab();
    let words = ["serve", "charts", "--redirect-from", "0", "--format", "json"];
    let mut site = s.command(&words).stdout(Stdio::piped()).spawn().unwrap();
    let mut line = String::new();
    BufReader::new(site.stdout.take().unwrap()).read_line(&mut line).unwrap();
    let reply: Value = serde_json::from_str(&line).unwrap();
    let (from, to) = (reply["redirect_port"].as_u64().unwrap(), reply["port"].as_u64().unwrap());
    let (code, v, codes) = checked(&s, u16::try_from(from).unwrap());
    assert_eq!((code, codes.len()), (0, 0), "{v}");
    assert_eq!(v["redirects"][0]["status"], 307);
    assert_eq!(v["redirects"][0]["to"], format!("https://localhost:{to}/start"));
    assert_eq!(v["connections"][0]["protocol"], "TLS 1.3", "and what it leads to was judged");
    site.kill().unwrap();
    site.wait().unwrap();
}

#[test]
fn every_wrong_way_has_its_own_name() {
    let s = lab();
    let (code, v, codes) = checked(&s, plain(|_, _| (200, None)));
    assert_eq!((code, codes), (1, vec!["plain-http-open".to_owned()]), "{v}");
    let (code, _, codes) = checked(&s, plain(|_, _| (404, None)));
    assert_eq!((code, codes), (1, vec!["redirect-missing".to_owned()]));
    let circle = plain(|path, port| {
        (302, Some(format!("http://localhost:{port}{}", if path == "/start" { "/b" } else { "/start" })))
    });
    let (code, v, codes) = checked(&s, circle);
    assert_eq!((code, codes), (1, vec!["redirect-loop".to_owned()]), "{v}");
    assert_eq!(v["redirects"].as_array().unwrap().len(), 2);
    // Relative, and without end.
    let endless = plain(|path, _| (302, Some(format!("{}x", path.rsplit('/').next().unwrap()))));
    let (_, v, codes) = checked(&s, endless);
    assert_eq!(codes, ["redirect-loop"], "{v}");
    assert_eq!(v["redirects"].as_array().unwrap().len(), 10);
    // A permanent one to another host, at which nobody listens.
    let away = plain(|_, _| (301, Some("https://127.0.0.1:1/".into())));
    let (_, v, codes) = checked(&s, away);
    for code in ["redirect-elsewhere", "redirect-remembered", "refused-connection"] {
        assert!(codes.iter().any(|c| c == code), "{code}: {v}");
    }
}

#[test]
fn what_is_no_plain_http_is_recognized() {
    let s = lab();
    let nobody = ClosedPort::new();
    let (code, _, codes) = checked(&s, nobody.number());
    assert_eq!((code, codes), (4, vec!["refused-connection".to_owned()]));
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let mut socket = listener.accept().unwrap().0;
        let _ = socket.read(&mut [0; 512]);
        // An alert, as a server for TLS gives it.
        let _ = socket.write_all(&[0x15, 3, 3, 0, 2, 2, 70]);
    });
    let (code, v, codes) = checked(&s, port);
    assert_eq!((code, codes), (4, vec!["other-protocol".to_owned()]), "{v}");
    assert!(v["findings"][0]["summary"].as_str().unwrap().contains("it speaks TLS"), "{v}");
    s.run(&["check", "http://"]).expect(2);
    s.run(&["check", "http://a b/"]).expect(3);
}
