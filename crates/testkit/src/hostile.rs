//! Servers that mean ill: they speak TLS as far as they must, and then too much, too slowly or nonsense.

use crate::matrix::chain::{Key, Pool};
use crate::matrix::make::{Hash, Recipe, basic, bits, id, name, names, sequence, tlv, usage};
use crate::matrix::run::listen;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, TcpListener};
use std::time::Duration;

/// A listener that hands every connection to this, each in a thread of its own; gives its port.
pub fn raw(talk: impl Fn(std::net::TcpStream) + Send + Sync + 'static) -> u16 {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    let talk = std::sync::Arc::new(talk);
    std::thread::spawn(move || {
        for socket in listener.incoming().flatten() {
            let talk = talk.clone();
            std::thread::spawn(move || talk(socket));
        }
    });
    port
}

/// Records of a handshake message without end.
pub fn endless(mut socket: std::net::TcpStream) {
    let _ = socket.read(&mut [0; 4096]);
    // A Certificate message of TLS 1.2 that says it has 16 MB; and then it goes on.
    let hello = [&[2, 0, 0, 38, 3, 3][..], &[9; 32], &[0, 0xc0, 0x2f, 0]].concat();
    let mut first = [&hello[..], &[11, 0xff, 0xff, 0xff]].concat();
    let head = |n: usize| [22, 3, 3, u8::try_from(n >> 8).unwrap_or(0), (n & 0xff) as u8];
    let _ = socket.write_all(&[&head(first.len())[..], &first].concat());
    first = vec![0x30; 16_000];
    let record = [&head(first.len())[..], &first].concat();
    while socket.write_all(&record).is_ok() {}
}

/// One octet a second.
pub fn slow(mut socket: std::net::TcpStream) {
    let _ = socket.read(&mut [0; 4096]);
    for octet in [22, 3, 3, 0, 122].into_iter().chain(std::iter::repeat_n(2, 200)) {
        if socket.write_all(&[octet]).is_err() {
            return;
        }
        std::thread::sleep(Duration::from_secs(1));
    }
}

fn part(subject: Vec<u8>, ca: bool) -> Recipe {
    let mut r = Recipe {
        subject,
        from: -86_400,
        until: 86_400 * 300,
        extensions: Vec::new(),
        hash: Hash::Usual,
        spoilt: false,
    };
    r.set(id::BASIC, true, basic(ca, None));
    r.set(id::USAGE, true, usage(if ca { bits::CERT_SIGN } else { bits::DIGITAL_SIGNATURE }));
    r
}

/// Certificates that sign each other: so many of one name and of another, each with another serial.
pub fn cycles(pool: &Pool, many: u8) -> u16 {
    let (a, b) = (name("cycle a"), name("cycle b"));
    let mut leaf = part(name("localhost"), false);
    leaf.set(id::NAMES, false, names(&["localhost"]));
    let key = pool.get(Key::P256(0));
    let mut chain = vec![leaf.sign(key.public(), &a, pool.get(Key::P256(1)), &[1])];
    for n in 1..=many {
        chain.push(part(a.clone(), true).sign(pool.get(Key::P256(1)).public(), &b, pool.get(Key::P256(2)), &[2, n]));
        chain.push(part(b.clone(), true).sign(pool.get(Key::P256(2)).public(), &a, pool.get(Key::P256(1)), &[3, n]));
    }
    listen(&chain, Key::P256(0), pool)
}

/// A leaf with so many names.
pub fn crowded(pool: &Pool, many: usize) -> u16 {
    let mut leaf = part(name("crowd"), false);
    let all: Vec<String> = (0..many).map(|n| format!("b{n}.saltmarsh.test")).collect();
    leaf.set(id::NAMES, false, names(&all.iter().map(String::as_str).collect::<Vec<_>>()));
    let key = pool.get(Key::P256(0));
    listen(&[leaf.sign(key.public(), &leaf.subject, key, &[1])], Key::P256(0), pool)
}

/// What a terminal or a browser would obey, in every field that holds a text.
pub const ILL: &str = "\u{1b}[2J\u{1b}]0;owned\u{7}\u{202e}<script>alert(1)</script>\r\n";

/// A leaf with such texts in its subject, its issuer and its names.
pub fn ill(pool: &Pool) -> u16 {
    let subject = sequence(&[tlv(0x31, &sequence(&[vec![6, 3, 0x55, 4, 3], tlv(0x0c, ILL.as_bytes())]))]);
    let mut leaf = part(subject, false);
    leaf.set(id::NAMES, false, names(&[&format!("dns:{ILL}"), &format!("dns:{ILL}.test")]));
    let key = pool.get(Key::P256(0));
    listen(&[leaf.sign(key.public(), &leaf.subject, key, &[1])], Key::P256(0), pool)
}
