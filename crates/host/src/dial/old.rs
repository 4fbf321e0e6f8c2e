//! A raw hello for servers that speak only what nobody speaks any more: nothing is agreed upon, the answer is only read.

use super::{ANSWER, CONNECT, left};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Instant;
use tamga_core::check::wire::{self, Reader, Side, hello};
use tamga_core::finding::Code;
use tamga_core::vocabulary::name::Name;

/// No chain of a lab is longer.
const MOST: usize = 512 * 1024;

/// What came in clear text.
pub(super) struct Sent {
    /// The suite.
    pub(super) suite: u16,
    /// The group of the key exchange.
    pub(super) group: Option<String>,
    /// The chain, DER, leaf first.
    pub(super) chain: Vec<Vec<u8>>,
}

/// What a server that ours could not meet said to an older hello.
pub(super) struct Found {
    /// What that is; None if only an alert came.
    pub(super) code: Option<Code>,
    /// A detail for a person.
    pub(super) detail: String,
    /// The chain that it sent in clear text, and the suite; only with TLS 1.2, which clients still speak.
    pub(super) chain: Option<Sent>,
}

/// Offers each older version in turn and says what the server makes of it; None if it says nothing that can be read.
pub(super) fn ask(host: &Name, address: SocketAddr, until: Instant) -> Option<Found> {
    let mut alert = None;
    // TLS 1.2 first: a server may have only ciphers that nobody offers any more.
    for version in [0x0303, 0x0302, 0x0301, 0x0300] {
        match one(host, address, version, until)? {
            Answer::Hello { version, cipher, chain, group } => {
                let code = if version < 0x0303 { Code::TlsTooOld } else { Code::NoCommonCipher };
                let spoken = wire::version(version);
                let detail = format!("it speaks {spoken} with {}, and nothing newer", wire::cipher(cipher));
                let sent = Sent { suite: cipher, group, chain };
                let chain = Some(sent).filter(|s| version == 0x0303 && !s.chain.is_empty());
                return Some(Found { code: Some(code), detail, chain });
            }
            Answer::Alert(said) => alert = alert.or(Some(said)),
            Answer::Nothing => {}
        }
    }
    let said = alert?;
    Some(Found { code: None, detail: format!("it answers with the alert {said}, also to older hellos"), chain: None })
}

enum Answer {
    Hello { version: u16, cipher: u16, chain: Vec<Vec<u8>>, group: Option<String> },
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
    let mut some = [0; 4096];
    let mut read = 0;
    // Up to TLS 1.2 the chain comes in clear text right after the hello.
    let ends = |what: &str| matches!(what, "alert" | "ServerHelloDone" | "encrypted");
    while !reader.messages().iter().any(|m| ends(&m.what)) && read < MOST {
        match socket.read(&mut some) {
            Ok(n) if n > 0 => {
                read += n;
                reader.feed(Side::Server, &some[..n]);
            }
            _ => break,
        }
    }
    if let Some(h) = reader.hello() {
        let (chain, group) = (reader.chain().to_vec(), reader.group().map(str::to_owned));
        return Some(Answer::Hello { version: h.version, cipher: h.cipher, chain, group });
    }
    Some(match reader.messages().first() {
        Some(m) if m.what == "alert" => Answer::Alert(m.details.get(1).map(|d| d.1.clone()).unwrap_or_default()),
        _ => Answer::Nothing,
    })
}
