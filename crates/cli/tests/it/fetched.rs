//! A root that another machine hands out over plain HTTP.

use crate::lab;
use std::io::{Read, Write};
use std::net::TcpListener;
use tamga_testkit::sandbox::Sandbox;

/// Hands out these bytes to anyone who asks; gives its address.
fn hands_out(answer: Vec<u8>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut socket in listener.incoming().flatten() {
            let mut request = [0; 1024];
            let n = socket.read(&mut request).unwrap_or(0);
            let asked = String::from_utf8_lossy(&request[..n]).into_owned();
            if asked.starts_with("GET /root.pem ") {
                let _ = socket.write_all(&answer);
            } else {
                let _ = socket.write_all(b"HTTP/1.1 404 Not Found\r\n\r\n");
            }
        }
    });
    format!("http://127.0.0.1:{port}")
}

fn ok(body: &[u8]) -> Vec<u8> {
    [format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\n\r\n", body.len()).as_bytes(), body].concat()
}

/// A root of another machine: its PEM and its fingerprint.
fn elsewhere(s: &Sandbox) -> (Vec<u8>, String) {
    let made = s.json(&["--data-dir", "other", "authority", "create", "harbour"]).expect(0).json();
    let sha256 = made["authorities"][0]["sha256"].as_str().unwrap().to_owned();
    (std::fs::read(s.lab("other/authorities/harbour/certificate.pem")).unwrap(), sha256)
}

#[test]
fn the_fingerprint_decides_and_nothing_else() {
    let s = lab();
    let (root, sha256) = elsewhere(&s);
    std::fs::write(s.lab("bundle.pem"), "# the lab's\n").unwrap();
    let stores = ["--stores", "bundle", "--bundle", "bundle.pem"];
    let add = |url: &str, fingerprint: Option<&str>, code: i32| {
        let mut words = vec!["trust", "add", "--from", url];
        words.extend(fingerprint.iter().flat_map(|f| ["--sha256", f]));
        words.extend(stores);
        s.run(&words).expect(code)
    };
    let url = hands_out(ok(&root));
    let without = add(&url, None, 2);
    assert!(without.err.contains("without its fingerprint") && without.err.contains("--sha256"), "{}", without.err);
    let other = "ab".repeat(32);
    let wrong = add(&url, Some(&other), 3);
    assert!(wrong.err.contains(&sha256) && wrong.err.contains(&other), "{}", wrong.err);
    for short in [&sha256[..16], "saltmarsh", ""] {
        add(&url, Some(short), 2);
    }
    assert_eq!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap(), "# the lab's\n", "nothing was trusted so far");
    // As a screen shows it: upper case, with colons.
    let pairs: Vec<String> = sha256.as_bytes().chunks(2).map(|p| String::from_utf8_lossy(p).to_uppercase()).collect();
    let added = add(&url, Some(&pairs.join(":")), 0);
    assert!(added.out.contains("harbour"), "{}", added.out);
    assert!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap().contains("BEGIN CERTIFICATE"));
    let mark = format!("tamga-harbour-{}", &sha256[..8]);
    let words = [&["trust", "remove", &mark][..], &stores].concat();
    s.run(&words).expect(0);
    assert_eq!(std::fs::read_to_string(s.lab("bundle.pem")).unwrap(), "# the lab's\n");
}

#[test]
fn a_wrong_answer_is_reported_and_costs_little() {
    let s = lab();
    let (_, sha256) = elsewhere(&s);
    let add = |url: &str| s.run(&["trust", "add", "--from", url, "--sha256", &sha256, "--stores", "chromium"]);
    for (answer, code, word) in [
        (b"HTTP/1.1 500 No\r\n\r\n".to_vec(), 4, "status 500"),
        (b"HTTP/1.1 302 Found\r\nLocation: http://elsewhere.test/\r\n\r\n".to_vec(), 4, "status 302"),
        (b"SSH-2.0-x\r\n".to_vec(), 4, "not HTTP"),
        (ok(b"no certificate"), 3, "certificate"),
        (ok(&vec![b'a'; 200_000]), 4, "too long"),
        (vec![b'a'; 1_000_000], 4, "too long"),
    ] {
        let ran = add(&hands_out(answer)).expect(code);
        assert!(ran.err.contains(word), "{word}: {}", ran.err);
    }
    add("http://127.0.0.1:1").expect(4);
    add("https://127.0.0.1:1").expect(2);
    add("file:///etc/passwd").expect(2);
    add(&format!("{}/other.pem", hands_out(Vec::new()))).expect(4);
    // A leaf, or a root without limits, is objected to as from a file.
    let leaf = std::fs::read(s.lab("charts/certificate.pem")).unwrap();
    let shown = s.json(&["show", "charts/certificate.pem"]).json();
    let of_leaf = shown["objects"][0]["sha256"].as_str().unwrap().to_owned();
    let words = |url: &str| ["trust", "add", "--sha256", &of_leaf, "--from", url].map(str::to_owned).to_vec();
    let url = hands_out(ok(&leaf));
    let words = words(&url);
    s.run(&words.iter().map(String::as_str).collect::<Vec<_>>()).expect(3);
}
