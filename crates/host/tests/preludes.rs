//! Whatever a server answers before TLS: an end within the limit, and a finding that says what it was.

#![allow(clippy::unwrap_used, reason = "tests")]

use proptest::prelude::*;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener};
use std::str::FromStr;
use std::time::{Duration, Instant};
use tamga_core::finding::Code;
use tamga_core::vocabulary::name::Name;
use tamga_host::dial::{self, Ask, Met, Missed, Prelude, plain};

/// Meets it; the answers here are never good.
fn meet(address: SocketAddr, prelude: Prelude) -> Result<Met, Missed> {
    dial::meet(&Ask { host: &host(), prelude, path: "/", shown: None }, address)
}

const ALL: [Prelude; 13] = [
    Prelude::None,
    Prelude::Postgres,
    Prelude::Mysql,
    Prelude::Smtp,
    Prelude::Imap,
    Prelude::Ldap,
    Prelude::SqlServer,
    Prelude::WebSocket,
    Prelude::Pop3,
    Prelude::Ftp,
    Prelude::Xmpp,
    Prelude::Nats,
    Prelude::Tls,
];

/// A server that sends this at once, reads a little, and hangs up.
fn sends(bytes: Vec<u8>) -> SocketAddr {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        while let Ok((mut socket, _)) = listener.accept() {
            let _ = socket.set_read_timeout(Some(Duration::from_millis(200)));
            let _ = socket.write_all(&bytes);
            let _ = socket.read(&mut [0; 1024]);
        }
    });
    address
}

fn host() -> Name {
    Name::from_str("charts.saltmarsh.test").unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn any_greeting_comes_to_an_end(bytes in prop::collection::vec(any::<u8>(), 0..200), which in 0_usize..13) {
        let begun = Instant::now();
        let missed = meet(sends(bytes), ALL[which]).unwrap_err();
        prop_assert!(begun.elapsed() < Duration::from_secs(12), "{missed:?}");
        prop_assert!(!missed.detail.is_empty());
    }

    #[test]
    fn a_greeting_that_begins_well_and_goes_on_badly_comes_to_an_end_too(
        rest in prop::collection::vec(any::<u8>(), 0..80),
        which in 0_usize..10,
    ) {
        let starts: [(&[u8], Prelude); 10] = [
            (b"\x04\x01\x00\x20\x00\x00\x01\x00\x01\x00", Prelude::SqlServer),
            (b"220 ready\r\n250", Prelude::Smtp),
            (b"* OK ready\r\n", Prelude::Imap),
            (b"S", Prelude::Postgres),
            (b"\x30\x0c\x02\x01\x01\x78", Prelude::Ldap),
            (b"\x20\x00\x00\x00\x0a8\x00", Prelude::Mysql),
            (b"+OK ready\r\n", Prelude::Pop3),
            (b"220 ready\r\n", Prelude::Ftp),
            (b"<?xml version='1.0'?><stream:stream>", Prelude::Xmpp),
            (b"INFO {", Prelude::Nats),
        ];
        let (start, prelude) = starts[which];
        let missed = meet(sends([start, &rest].concat()), prelude).unwrap_err();
        prop_assert!(!missed.detail.is_empty());
    }

    #[test]
    fn any_answer_to_plain_http_is_read_or_reported(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
        match plain::ask(sends(bytes), "charts.saltmarsh.test", "/") {
            Ok(answered) => prop_assert!(answered.status < 1_000 || answered.location.is_none()),
            Err(missed) => prop_assert!(!missed.detail.is_empty()),
        }
    }
}

#[test]
fn schemes_lead_to_their_preludes_and_ports() {
    for (scheme, prelude, port) in [
        ("https", Prelude::None, 443),
        ("wss", Prelude::WebSocket, 443),
        ("postgresql", Prelude::Postgres, 5432),
        ("mariadb", Prelude::Mysql, 3306),
        ("smtp", Prelude::Smtp, 25),
        ("imap", Prelude::Imap, 143),
        ("ldap", Prelude::Ldap, 389),
    ] {
        assert_eq!(Prelude::of_scheme(scheme), Some((prelude, port)), "{scheme}");
    }
    assert_eq!(Prelude::of_scheme("gopher"), None);
}

#[test]
fn nobody_and_silence_are_distinguished() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let silent = meet(address, Prelude::Smtp).unwrap_err();
    assert_eq!(silent.code, Code::SilentConnection, "{silent:?}");
    drop(listener);
    for prelude in ALL {
        assert_eq!(meet(address, prelude).unwrap_err().code, Code::RefusedConnection);
    }
    assert_eq!(plain::ask(address, "x", "/").unwrap_err().code, Code::RefusedConnection);
}
