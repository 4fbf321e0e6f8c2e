//! A raw hello for servers that speak only what nobody speaks any more: nothing is agreed upon, the answer is only read.

use super::{ANSWER, CONNECT, left};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Instant;
use tamga_core::check::wire::{self, Reader, Side, hello};
use tamga_core::finding::Code;
use tamga_core::vocabulary::name::Name;

/// Offers each older version in turn and says what the server makes of it; None if it says nothing that can be read.
pub(super) fn ask(host: &Name, address: SocketAddr, until: Instant) -> Option<(Option<Code>, String)> {
    let mut alert = None;
    // TLS 1.2 first: a server may have only ciphers that nobody offers any more.
    for version in [0x0303, 0x0302, 0x0301, 0x0300] {
        match one(host, address, version, until)? {
            Answer::Hello { version, cipher } => {
                let code = if version < 0x0303 { Code::TlsTooOld } else { Code::NoCommonCipher };
                let spoken = wire::version(version);
                return Some((
                    Some(code),
                    format!("it speaks {spoken} with {}, and nothing newer", wire::cipher(cipher)),
                ));
            }
            Answer::Alert(said) => alert = alert.or(Some(said)),
            Answer::Nothing => {}
        }
    }
    alert.map(|said| (None, format!("it answers with the alert {said}, also to older hellos")))
}

enum Answer {
    Hello { version: u16, cipher: u16 },
    Alert(String),
    Nothing,
}

fn one(host: &Name, address: SocketAddr, version: u16, until: Instant) -> Option<Answer> {
    let mut socket = TcpStream::connect_timeout(&address, left(until, CONNECT)?).ok()?;
    socket.set_read_timeout(left(until, ANSWER)).ok()?;
    let _limit = super::limit::Limit::until(&socket, until);
    let mut random = [0; 32];
    tamga_core::plan::ports::Entropy::fill(&crate::entropy::System, &mut random);
    socket.write_all(&hello::client(&host.to_string(), version, &random)).ok()?;
    let mut reader = Reader::default();
    let mut bytes = Vec::new();
    let mut some = [0; 4096];
    while reader.messages().is_empty() && bytes.len() < 32_768 {
        match socket.read(&mut some) {
            Ok(n) if n > 0 => {
                bytes.extend_from_slice(&some[..n]);
                reader.feed(Side::Server, &some[..n]);
            }
            _ => break,
        }
    }
    Some(match reader.messages().first() {
        // Behind the head of the record and of the message.
        Some(m) if m.what == "ServerHello" => match bytes.get(9..).and_then(hello::Server::parse) {
            Some(h) => Answer::Hello { version: h.version, cipher: h.cipher },
            None => Answer::Nothing,
        },
        Some(m) if m.what == "alert" => Answer::Alert(m.details.get(1).map(|d| d.1.clone()).unwrap_or_default()),
        _ => Answer::Nothing,
    })
}
