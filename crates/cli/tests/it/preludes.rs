//! Protocols that begin in clear text: what is said before TLS, and what is made of other answers.

use crate::lab;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::format::pem;
use tamga_core::pki::format::private_key::{self, Stored};
use tamga_testkit::mutual::greet;
use tamga_testkit::sandbox::Sandbox;

/// One connection: says and hears what stands here, then speaks TLS if `tls`.
fn server(s: &Sandbox, tls: bool, talk: impl FnOnce(&mut BufReader<TcpStream>) + Send + 'static) -> u16 {
    let chain = pem::certificates(&std::fs::read(s.lab("charts/certificate.pem")).unwrap());
    let chain: Vec<Certificate> = chain.iter().map(|d| Certificate::read(d, "it").unwrap()).collect();
    let bytes = zeroize::Zeroizing::new(std::fs::read(s.lab("charts/private-key.pem")).unwrap());
    let Stored::Open(key) = private_key::read(&bytes, "it").unwrap() else { panic!("it is open") };
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let mut socket = BufReader::new(listener.accept().unwrap().0);
        talk(&mut socket);
        if tls {
            greet(&chain, &key, socket.into_inner());
        }
    });
    port
}

fn heard(socket: &mut BufReader<TcpStream>) -> String {
    let mut line = String::new();
    socket.read_line(&mut line).unwrap();
    line
}

fn say(socket: &mut BufReader<TcpStream>, text: &[u8]) {
    socket.get_mut().write_all(text).unwrap();
}

/// The exit code and the findings of a check.
fn checked(s: &Sandbox, scheme: &str, port: u16) -> (i32, String) {
    let target = format!("{scheme}://localhost:{port}");
    let ran = s.json(&[
        "check",
        &target,
        "--resolve",
        "localhost=127.0.0.1",
        "--anchor",
        "charts/root.pem",
        "--clients",
        "standard",
    ]);
    let v = ran.json();
    let codes: Vec<&str> =
        v["targets"][0]["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
    (ran.code, codes.join(" "))
}

#[test]
fn mail_and_directories_go_over_to_tls() {
    let s = lab();
    let smtp = server(&s, true, |socket| {
        say(socket, b"220-charts.saltmarsh.test\r\n220 ready\r\n");
        assert_eq!(heard(socket), "EHLO localhost\r\n");
        say(socket, b"250-charts.saltmarsh.test\r\n250-SIZE 1000\r\n250 STARTTLS\r\n");
        assert_eq!(heard(socket), "STARTTLS\r\n");
        say(socket, b"220 go on\r\n");
    });
    assert_eq!(checked(&s, "smtp", smtp), (0, String::new()));
    let imap = server(&s, true, |socket| {
        say(socket, b"* OK ready\r\n");
        assert_eq!(heard(socket), "a1 STARTTLS\r\n");
        say(socket, b"* a line that is for nobody\r\na1 OK begin\r\n");
    });
    assert_eq!(checked(&s, "imap", imap), (0, String::new()));
    let ldap = server(&s, true, |socket| {
        let mut request = [0; 31];
        socket.read_exact(&mut request).unwrap();
        assert!(request.ends_with(b"1.3.6.1.4.1.1466.20037"));
        say(socket, b"\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x00\x04\x00\x04\x00");
    });
    assert_eq!(checked(&s, "ldap", ldap), (0, String::new()));
}

#[test]
fn files_messages_and_talk_go_over_to_tls() {
    let s = lab();
    let pop3 = server(&s, true, |socket| {
        say(socket, b"+OK ready <1@charts>\r\n");
        assert_eq!(heard(socket), "STLS\r\n");
        say(socket, b"+OK begin\r\n");
    });
    assert_eq!(checked(&s, "pop3", pop3), (0, String::new()));
    let ftp = server(&s, true, |socket| {
        say(socket, b"220-charts\r\n220 ready\r\n");
        assert_eq!(heard(socket), "AUTH TLS\r\n");
        say(socket, b"234 begin\r\n");
    });
    assert_eq!(checked(&s, "ftp", ftp), (0, String::new()));
    let nats = server(&s, true, |socket| say(socket, b"INFO {\"server_id\":\"x\",\"tls_required\":true}\r\n"));
    assert_eq!(checked(&s, "nats", nats), (0, String::new()));
    let xmpp = server(&s, true, |socket| {
        let until = |socket: &mut BufReader<TcpStream>, count: usize| {
            let mut all = String::new();
            for _ in 0..count {
                let mut some = Vec::new();
                socket.read_until(b'>', &mut some).unwrap();
                all.push_str(&String::from_utf8_lossy(&some));
            }
            all
        };
        assert!(until(socket, 2).contains("to='localhost'"));
        say(socket, b"<?xml version='1.0'?><stream:stream id='1' xmlns='jabber:client'><stream:features>");
        say(socket, b"<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'><required/></starttls></stream:features>");
        assert!(until(socket, 1).starts_with("<starttls"));
        say(socket, b"<proceed xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>");
    });
    assert_eq!(checked(&s, "xmpp", xmpp), (0, String::new()));
}

#[test]
fn schemes_that_mean_tls_at_once_offer_no_http_and_their_plain_twins_are_refused() {
    let s = lab();
    for scheme in ["smtps", "imaps", "pop3s", "ldaps", "rediss", "amqps", "mqtts", "ftps"] {
        let port = server(&s, true, |_| {});
        assert_eq!(checked(&s, scheme, port), (0, String::new()), "{scheme}");
    }
    for (plain, with_tls) in [("redis", "rediss://"), ("amqp", "amqps://"), ("mqtt", "mqtts://"), ("ws", "wss://")] {
        let said = s.run(&["check", &format!("{plain}://localhost")]).expect(2).err;
        assert!(said.contains(with_tls) && said.contains("without TLS"), "{said}");
    }
}

#[test]
fn a_server_without_tls_and_one_of_another_kind_are_distinguished() {
    type Talk = fn(&mut BufReader<TcpStream>);
    let s = lab();
    let no = |scheme: &str, talk: Talk| checked(&s, scheme, server(&s, false, talk));
    let off = (1, "tls-on-plain-port".to_owned());
    let other = (1, "other-protocol".to_owned());
    assert_eq!(
        no("smtp", |socket| {
            say(socket, b"220 ready\r\n");
            heard(socket);
            say(socket, b"250 charts\r\n");
        }),
        off
    );
    assert_eq!(
        no("imap", |socket| {
            say(socket, b"* OK ready\r\n");
            heard(socket);
            say(socket, b"a1 BAD what?\r\n");
        }),
        off
    );
    let unwilling = |socket: &mut BufReader<TcpStream>| {
        let _ = socket.read(&mut [0; 64]).unwrap();
        say(socket, b"\x30\x0c\x02\x01\x01\x78\x07\x0a\x01\x34\x04\x00\x04\x00");
    };
    assert_eq!(no("ldap", unwilling), off);
    let refuses = |socket: &mut BufReader<TcpStream>| {
        let _ = socket.read(&mut [0; 8]).unwrap();
        say(socket, b"N");
    };
    assert_eq!(no("postgres", refuses), off);
    let refused: [(&str, Talk); 4] = [
        ("pop3", |socket| {
            say(socket, b"+OK ready\r\n");
            heard(socket);
            say(socket, b"-ERR what?\r\n");
        }),
        ("ftp", |socket| {
            say(socket, b"220 ready\r\n");
            heard(socket);
            say(socket, b"502 what?\r\n");
        }),
        ("nats", |socket| say(socket, b"INFO {\"server_id\":\"x\"}\r\n")),
        ("xmpp", |socket| {
            let _ = socket.read(&mut [0; 512]).unwrap();
            say(socket, b"<stream:stream id='1'><stream:features></stream:features>");
        }),
    ];
    for (scheme, talk) in refused {
        assert_eq!(no(scheme, talk), off, "{scheme}");
    }
    // A greeting of MySQL that offers nothing.
    let plain = |socket: &mut BufReader<TcpStream>| {
        say(socket, b"\x16\x00\x00\x00\x0a8.0\x00\x01\x00\x00\x00abcdefgh\x00\x00\x00\x21\x00");
        let _ = socket.read(&mut [0; 8]);
    };
    assert_eq!(no("mysql", plain), off);
    for scheme in ["smtp", "imap", "mysql", "pop3", "ftp", "nats"] {
        assert_eq!(no(scheme, |socket| say(socket, b"SSH-2.0-gauge\r\n\r\n\r\n")), other, "{scheme}");
    }
    for scheme in ["postgres", "ldap", "xmpp"] {
        let nonsense = |socket: &mut BufReader<TcpStream>| {
            let _ = socket.read(&mut [0; 4]).unwrap();
            say(socket, b"HTTP/1.1 400 Bad Request\r\n\r\n");
        };
        assert_eq!(no(scheme, nonsense), other, "{scheme}");
    }
    s.run(&["check", "gopher://localhost"]).expect(2);
}
