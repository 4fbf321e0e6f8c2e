//! `tamga serve` in a sandbox, on a port of the system's choosing; ends when dropped.

use crate::sandbox::Sandbox;
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::process::{Child, Stdio};

/// A site that is served.
pub struct Site {
    child: Child,
    /// Where.
    pub port: u64,
}

impl Site {
    /// Starts `tamga serve WORDS` and waits until it listens.
    pub fn start(s: &Sandbox, words: &[&str]) -> Site {
        let words = [&["serve"], words, &["--format", "json"]].concat();
        let mut child = s.command(&words).stdout(Stdio::piped()).spawn().unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.take().unwrap()).read_line(&mut line).unwrap();
        let reply: Value = serde_json::from_str(&line).unwrap_or_else(|e| panic!("{e}: {line}"));
        let port = reply["port"].as_u64().unwrap_or_else(|| panic!("{reply}"));
        Site { child, port }
    }
}

impl Drop for Site {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A server of rustls' own that shows a directory's certificate and signs with its key, whether they belong together or not; gives
/// its port. It lives as long as the test.
pub fn of_files(folder: &std::path::Path) -> u16 {
    of_files_at(folder, "127.0.0.1:0").unwrap()
}

/// The same at this address; None where it cannot listen there.
pub fn of_files_at(folder: &std::path::Path, address: &str) -> Option<u16> {
    use std::net::TcpListener;
    let config = config_of(folder);
    let listener = TcpListener::bind(address).ok()?;
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut socket in listener.incoming().flatten() {
            let Ok(mut tls) = rustls::ServerConnection::new(config.clone()) else { continue };
            while tls.is_handshaking() && tls.complete_io(&mut socket).is_ok() {}
            let _ = tls.complete_io(&mut socket);
        }
    });
    Some(port)
}

/// What such a server speaks TLS with.
pub fn config_of(folder: &std::path::Path) -> std::sync::Arc<rustls::ServerConfig> {
    use rustls::pki_types::PrivateKeyDer;
    use std::sync::Arc;
    let chain = tamga_core::pki::format::pem::certificates(&std::fs::read(folder.join("certificate.pem")).unwrap());
    let chain = chain.into_iter().map(Into::into).collect();
    let key = tamga_core::pki::format::pem::read(&std::fs::read(folder.join("private-key.pem")).unwrap())
        .0
        .remove(0)
        .der
        .to_vec();
    let key = rustls::crypto::ring::sign::any_supported_type(&PrivateKeyDer::Pkcs8(key.into())).unwrap();
    // Without the look at whether the two belong together, which every careful server takes.
    let shown = Arc::new(rustls::sign::CertifiedKey::new(chain, key));
    let mut config = rustls::ServerConfig::builder_with_provider(Arc::new(rustls::crypto::ring::default_provider()))
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_cert_resolver(Arc::new(rustls::sign::SingleCertAndKey::from(shown)));
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Arc::new(config)
}

/// A page that is served: its path, further header lines, its body.
pub type Page<'a> = (&'a str, &'a str, String);

/// The same as [`of_files`], and it answers HTTP: each path with its page, every other with 404.
pub fn of_pages(folder: &std::path::Path, pages: &[Page<'_>]) -> u16 {
    use std::io::{Read, Write};
    let config = config_of(folder);
    let pages: Vec<(String, String, String)> =
        pages.iter().map(|(path, head, body)| ((*path).to_owned(), (*head).to_owned(), body.clone())).collect();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let Ok(tls) = rustls::ServerConnection::new(config.clone()) else { continue };
            let pages = pages.clone();
            // A browser opens connections ahead and leaves them idle.
            std::thread::spawn(move || {
                let mut stream = rustls::StreamOwned::new(tls, socket);
                let (mut head, mut byte) = (Vec::new(), [0]);
                while !head.ends_with(b"\r\n\r\n") && stream.read(&mut byte).is_ok_and(|n| n > 0) {
                    head.push(byte[0]);
                }
                let head = String::from_utf8_lossy(&head).into_owned();
                let path = head.split(' ').nth(1).unwrap_or_default();
                let (status, more, body) = match pages.iter().find(|(p, ..)| p == path) {
                    Some((_, more, body)) => ("200 OK", more.as_str(), body.as_str()),
                    None => ("404 Not Found", "", ""),
                };
                let length = body.len();
                let _ = write!(
                    stream,
                    "HTTP/1.1 {status}\r\nContent-Type: text/html\r\nContent-Length: {length}\r\nConnection: close\r\n{more}\r\n{body}"
                );
                stream.conn.send_close_notify();
                let _ = stream.flush();
            });
        }
    });
    port
}
