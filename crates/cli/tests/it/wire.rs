//! What goes over the wire: `--wire`, the upgrade of `wss://`, SQL Server's packets, servers that speak only what is old.

use crate::lab;
use serde_json::Value;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::site::{Site, of_files};

fn check(s: &Sandbox, target: &str, more: &[&str]) -> (i32, Value) {
    let words = [&["check", target, "--resolve", "localhost=127.0.0.1", "--anchor", "charts/root.pem"], more].concat();
    let ran = s.json(&[&words[..], &["--clients", "standard"]].concat());
    let v = ran.json();
    (ran.code, v["targets"][0].clone())
}

fn codes(target: &Value) -> Vec<&str> {
    target["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect()
}

/// A listener that hands its first connections to this, one after the other.
fn listening(mut talk: impl FnMut(TcpStream) + Send + 'static) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || listener.incoming().flatten().for_each(&mut talk));
    port
}

fn sent(target: &Value) -> Vec<(String, String)> {
    let word = |m: &Value, k: &str| m[k].as_str().unwrap().to_owned();
    target["wire"]["messages"].as_array().unwrap().iter().map(|m| (word(m, "from"), word(m, "what"))).collect()
}

#[test]
fn the_messages_of_this_very_connection_are_shown_and_what_was_hidden_is_said() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    let url = format!("https://localhost:{}", site.port);
    let (code, v) = check(&s, &url, &["--wire"]);
    assert_eq!(code, 0);
    let all = sent(&v);
    let pair = |a: &str, b: &str| (a.to_owned(), b.to_owned());
    assert_eq!(all[..2], [pair("client", "ClientHello"), pair("server", "ServerHello")]);
    assert!(!all.contains(&pair("server", "Certificate")), "TLS 1.3 encrypts it: {all:?}");
    let hello = &v["wire"]["messages"][0]["details"];
    assert_eq!((hello["name"].as_str(), hello["alpn"].as_str()), (Some("localhost"), Some("h2, http/1.1")));
    assert_eq!(v["wire"]["messages"][1]["details"]["version"], "TLS 1.3");
    let list = |v: &Value, k: &str| v["wire"][k].to_string();
    assert!(list(&v, "encrypted").contains("the server's certificates"), "{v}");
    // Without the option nothing is said of it.
    assert!(check(&s, &url, &[]).1["wire"].is_null());
    let text = s.run(&["check", &url, "--wire", "--anchor", "charts/root.pem", "--clients", "standard"]).expect(0).out;
    assert!(text.contains("on the wire") && text.contains("in the clear"), "{text}");
}

#[test]
fn in_tls_1_2_the_certificates_are_read_by_everybody() {
    let s = lab();
    // A key of RSA with 1024 bits is served by TLS 1.2 alone.
    let site = Site::start(&s, &["charts", "--fault", "weak-key"]);
    let (_, v) = check(&s, &format!("https://localhost:{}", site.port), &["--wire"]);
    let all = sent(&v);
    for what in ["Certificate", "ServerKeyExchange", "ServerHelloDone"] {
        assert!(all.contains(&("server".into(), what.into())), "{what}: {all:?}");
    }
    assert!(all.contains(&("client".into(), "ClientKeyExchange".into())), "{all:?}");
    assert!(v["wire"]["clear"].to_string().contains("the server's certificates"), "{v}");
    let messages = v["wire"]["messages"].as_array().unwrap();
    let shown = messages.iter().find(|m| m["what"] == "Certificate").unwrap();
    assert!(shown["details"]["certificate"].to_string().contains("charts.saltmarsh.test"), "{shown}");
    assert_eq!(messages.last().unwrap()["what"], "encrypted");
}

#[test]
fn a_websocket_is_really_upgraded_to() {
    let s = lab();
    let site = Site::start(&s, &["charts"]);
    let (code, v) = check(&s, &format!("wss://localhost:{}/echo", site.port), &[]);
    assert_eq!((code, codes(&v)), (0, vec![]), "{v}");
    assert_eq!(v["connections"][0]["alpn"], "http/1.1");
    // A server that speaks TLS and no WebSocket.
    let port = of_files(&s.lab("charts"));
    let (code, v) = check(&s, &format!("wss://localhost:{port}/feed"), &[]);
    assert_eq!((code, codes(&v)), (1, vec!["other-protocol"]), "{v}");
    assert!(v["clients"][0]["verdict"] == "accepts", "the certificate is good all the same: {v}");
}

/// TLS inside the packets of SQL Server's protocol.
struct Packets(TcpStream, Vec<u8>);

impl Read for Packets {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        if self.1.is_empty() {
            self.1 = packet(&mut self.0)?;
        }
        let n = into.len().min(self.1.len());
        into[..n].copy_from_slice(&self.1[..n]);
        self.1.drain(..n);
        Ok(n)
    }
}

impl Write for Packets {
    fn write(&mut self, from: &[u8]) -> std::io::Result<usize> {
        // Never more at once than two parties have agreed on.
        let n = from.len().min(4_000);
        let length = u16::try_from(n + 8).unwrap().to_be_bytes();
        self.0.write_all(&[&[0x12, 1, length[0], length[1], 0, 0, 1, 0], &from[..n]].concat())?;
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.0.flush()
    }
}

fn packet(socket: &mut TcpStream) -> std::io::Result<Vec<u8>> {
    let mut head = [0; 8];
    socket.read_exact(&mut head)?;
    assert_eq!(head[0], 0x12);
    let mut body = vec![0; usize::from(u16::from_be_bytes([head[2], head[3]])) - 8];
    socket.read_exact(&mut body)?;
    Ok(body)
}

/// Answers PRELOGIN with this value of ENCRYPTION and goes on with TLS.
fn sql_server(s: &Sandbox, encryption: u8) -> u16 {
    let config = tamga_testkit::site::config_of(&s.lab("charts"));
    listening(move |mut socket| {
        let asked = packet(&mut socket).unwrap();
        assert_eq!(asked[asked.len() - 1], 1, "encryption is asked for");
        let body = [0, 0, 11, 0, 6, 1, 0, 17, 0, 1, 0xff, 16, 0, 0, 0, 0, 0, encryption];
        socket.write_all(&[&[4, 1, 0, 8 + body.len() as u8, 0, 0, 1, 0][..], &body].concat()).unwrap();
        if encryption != 2 {
            let mut tls = rustls::ServerConnection::new(config.clone()).unwrap();
            let mut packets = Packets(socket, Vec::new());
            while tls.is_handshaking() && tls.complete_io(&mut packets).is_ok() {}
        }
    })
}

#[test]
fn sql_servers_handshake_travels_inside_its_packets() {
    let s = lab();
    let (code, v) = check(&s, &format!("sqlserver://localhost:{}", sql_server(&s, 1)), &["--wire"]);
    assert_eq!((code, codes(&v)), (0, vec![]), "{v}");
    assert_eq!(v["chain"][0]["names"][0], "charts.saltmarsh.test");
    assert!(sent(&v).contains(&("server".into(), "ServerHello".into())));
    let (code, v) = check(&s, &format!("sqlserver://localhost:{}", sql_server(&s, 2)), &[]);
    assert_eq!((code, codes(&v)), (1, vec!["tls-on-plain-port"]), "{v}");
    let other = listening(|mut socket| {
        let _ = socket.write_all(b"220 this is a mail server\r\n");
        let _ = socket.read(&mut [0; 100]);
    });
    let (code, v) = check(&s, &format!("sqlserver://localhost:{other}"), &[]);
    assert_eq!((code, codes(&v)), (1, vec!["other-protocol"]), "{v}");
}

/// A server that speaks at most this version: a ServerHello to older hellos, an alert to newer ones, as they do.
fn old(highest: u8) -> u16 {
    listening(move |mut socket| {
        let mut head = [0; 11];
        if socket.read_exact(&mut head).is_err() {
            return;
        }
        let mut rest = vec![0; usize::from(u16::from_be_bytes([head[3], head[4]])) - 6];
        socket.read_exact(&mut rest).unwrap();
        // The version of the hello itself; that of TLS 1.3 says 1.2 there too.
        if head[10] > highest {
            let _ = socket.write_all(&[21, 3, 1, 0, 2, 2, 70]);
            return;
        }
        let body = [&[3, highest][..], &[9; 32], &[0], &[0, 0x2f], &[0]].concat();
        let message = [&[2, 0, 0, body.len() as u8][..], &body].concat();
        let _ = socket.write_all(&[&[22, 3, 1, 0, message.len() as u8][..], &message].concat());
        let _ = socket.read(&mut [0; 10]);
    })
}

#[test]
fn an_old_server_is_reported_with_version_and_cipher() {
    let s = lab();
    for (highest, word) in [(1, "TLS 1.0"), (2, "TLS 1.1"), (0, "SSL 3")] {
        let (code, v) = check(&s, &format!("localhost:{}", old(highest)), &[]);
        assert_eq!((code, codes(&v)), (1, vec!["tls-too-old"]), "{v}");
        let reply = v["findings"][0]["summary"].as_str().unwrap();
        assert!(reply.contains(word) && reply.contains("TLS_RSA_WITH_AES_128_CBC_SHA"), "{reply}");
    }
}
