//! Names to addresses, and records of a name: by what was given, by a server that was named, or by the system's resolver.

use super::problem;
use crate::settings::Look;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use tamga_core::enrollment::dns::answer::{self, Answer, Record};
use tamga_core::enrollment::dns::{RecordType, question};
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::plan::ports::Entropy as _;
use tamga_host::entropy;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};

/// A server gets so long for one try.
const PATIENCE: Duration = Duration::from_secs(2);
/// So many tries over UDP.
const TRIES: usize = 3;
/// So many addresses of one name are looked at.
const MOST: usize = 8;

/// The addresses of a name.
pub(super) async fn addresses(look: &Look, name: &str) -> Result<Vec<IpAddr>, Box<Problem>> {
    if let Some(known) = look.known.get(name) {
        return Ok(known.clone());
    }
    // RFC 6761 section 6.3: it never is anything else, whatever a server says.
    if name == "localhost" || name.ends_with(".localhost") {
        return Ok(vec![Ipv6Addr::LOCALHOST.into(), Ipv4Addr::LOCALHOST.into()]);
    }
    let failed = |why: String| problem(ProblemType::Dns, format!("the address of {name} was not found: {why}"));
    let mut out = Vec::new();
    match look.dns {
        Some(server) => {
            for kind in [RecordType::Aaaa, RecordType::A] {
                let answer = ask(server, name, kind).await.map_err(&failed)?;
                refused(&answer).map_err(&failed)?;
                out.extend(answer.records.into_iter().filter_map(|r| match r {
                    Record::Address(ip) => Some(ip),
                    _ => None,
                }));
            }
        }
        None => {
            let found = tokio::net::lookup_host((name, 0)).await;
            out.extend(found.map_err(|_| failed("the system's resolver does not know it: give its address with --resolve or a name server with --dns-server".into()))?.map(|a| a.ip()));
        }
    }
    out.dedup();
    out.truncate(MOST);
    match out.is_empty() {
        true => Err(failed("it has none".into())),
        false => Ok(out),
    }
}

/// Why an answer is a refusal; that there is no such name is none here.
pub(super) fn refused(answer: &Answer) -> Result<(), String> {
    match answer.code {
        0 | 3 => Ok(()),
        2 => Err("the name server failed (SERVFAIL)".into()),
        5 => Err("the name server refuses to answer (REFUSED)".into()),
        other => Err(format!("the name server answered with code {other}")),
    }
}

/// The server that is asked for records: the one that was named, or the first of the system's.
pub(super) async fn server(look: &Look) -> Option<SocketAddr> {
    if look.dns.is_some() {
        return look.dns;
    }
    // resolv.conf(5): what the system's resolver reads.
    let text = tokio::fs::read_to_string("/etc/resolv.conf").await.ok()?;
    let mut servers = text.lines().filter_map(|l| l.trim().strip_prefix("nameserver"));
    servers.find_map(|s| s.trim().parse().ok()).map(|ip: IpAddr| SocketAddr::new(ip, 53))
}

/// One question to one server: over UDP, and over TCP where the answer does not fit.
pub(crate) async fn ask(server: SocketAddr, name: &str, kind: RecordType) -> Result<Answer, String> {
    let mut why = String::new();
    for _ in 0..TRIES {
        let mut id = [0; 2];
        entropy::System.fill(&mut id);
        let id = u16::from_be_bytes(id);
        let message = question::question(id, name, kind).ok_or("it is not a valid DNS name")?;
        match tokio::time::timeout(PATIENCE, over_udp(server, &message, id, name, kind)).await {
            Ok(Ok(answer)) if answer.truncated => {
                let whole = tokio::time::timeout(PATIENCE, over_tcp(server, &message)).await;
                let whole = whole.map_err(|_| format!("{server} did not answer over TCP"))??;
                return answer::read(&whole, id, name, kind)
                    .map_err(|e| format!("the answer of {server} is none: {e}"));
            }
            Ok(Ok(answer)) => return Ok(answer),
            Ok(Err(e)) => why = e,
            Err(_) => why = format!("{server} did not answer"),
        }
    }
    Err(why)
}

async fn over_udp(server: SocketAddr, message: &[u8], id: u16, name: &str, kind: RecordType) -> Result<Answer, String> {
    let failed = |e: std::io::Error| format!("{server} could not be asked ({})", super::worded(&e));
    let from: SocketAddr = if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0_u16; 8], 0).into() };
    let socket = UdpSocket::bind(from).await.map_err(failed)?;
    socket.connect(server).await.map_err(failed)?;
    socket.send(message).await.map_err(failed)?;
    let mut buffer = vec![0; 4096];
    loop {
        let length = socket.recv(&mut buffer).await.map_err(failed)?;
        // What answers another question may be somebody's guess: the right answer may still come.
        match answer::read(&buffer[..length], id, name, kind) {
            Err(answer::NoAnswer::Other) => {}
            Err(e) => return Err(format!("the answer of {server} is none: {e}")),
            Ok(answer) => return Ok(answer),
        }
    }
}

/// A message and its answer over TCP, each with its length before it (RFC 1035 section 4.2.2).
pub(crate) async fn over_tcp(server: SocketAddr, message: &[u8]) -> Result<Vec<u8>, String> {
    let failed = |e: std::io::Error| format!("{server} could not be asked over TCP ({})", super::worded(&e));
    let mut stream = TcpStream::connect(server).await.map_err(failed)?;
    let length = u16::try_from(message.len()).map_err(|_| "the message is too long".to_owned())?;
    stream.write_all(&[&length.to_be_bytes()[..], message].concat()).await.map_err(failed)?;
    let mut length = [0; 2];
    stream.read_exact(&mut length).await.map_err(failed)?;
    let mut out = vec![0; usize::from(u16::from_be_bytes(length))];
    stream.read_exact(&mut out).await.map_err(failed)?;
    Ok(out)
}
