//! Plain HTTP: one question, and where its answer leads.

use super::{ANSWER, CONNECT, Missed};
use std::io::{ErrorKind, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Instant;
use tamga_core::finding::Code;
use tamga_core::vocabulary::text::Untrusted;

/// No server's head is longer.
const HEAD: u64 = 64 * 1024;

/// The head of an answer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered {
    /// The status (RFC 9110 §15).
    pub status: u16,
    /// Where it leads, as it is in `Location`.
    pub location: Option<Untrusted>,
}

fn connect(address: SocketAddr) -> Result<TcpStream, Missed> {
    let socket = TcpStream::connect_timeout(&address, CONNECT).map_err(|e| match e.kind() {
        ErrorKind::TimedOut => {
            Missed::new(Code::SilentConnection, format!("{address} does not answer within 5 seconds"))
        }
        _ => Missed::new(Code::RefusedConnection, format!("{address}: nothing listens there")),
    })?;
    let _ = socket.set_read_timeout(Some(ANSWER));
    let _ = socket.set_write_timeout(Some(ANSWER));
    Ok(socket)
}

/// Fetches what lies at a path, at most `most` bytes. Redirects are not followed: what is fetched is proved by its fingerprint, and
/// needs no detours.
pub fn fetch(address: SocketAddr, host: &str, path: &str, most: u64) -> Result<Vec<u8>, Missed> {
    let missed = |detail: String| Missed::new(Code::OtherProtocol, detail);
    let mut socket = connect(address)?;
    // HTTP/1.0: the answer comes in one piece and ends with the connection (RFC 1945).
    let request = format!("GET {path} HTTP/1.0\r\nHost: {host}\r\nUser-Agent: tamga\r\n\r\n");
    socket.write_all(request.as_bytes()).map_err(|e| missed(format!("{address}: {e}")))?;
    let mut whole = Vec::new();
    let until = std::time::Instant::now() + 2 * ANSWER;
    let mut piece = [0; 4096];
    loop {
        match socket.read(&mut piece) {
            Ok(0) => break,
            Ok(n) => whole.extend_from_slice(&piece[..n]),
            Err(e) => return Err(missed(format!("{address}: it stopped in the middle ({e})"))),
        }
        if whole.len() as u64 > HEAD + most || std::time::Instant::now() > until {
            return Err(missed(format!("{address}: what it sends is too long, or comes too slowly")));
        }
    }
    let answered = parsed(&whole).ok_or_else(|| missed(format!("{address}: its answer is not HTTP")))?;
    let head = whole.windows(4).position(|w| w == b"\r\n\r\n");
    match (answered.status, head) {
        (200, Some(at)) if (whole.len() - at) as u64 <= most + 4 => Ok(whole.split_off(at + 4)),
        (200, _) => Err(missed(format!("{address}: what it sends is too long"))),
        (status, _) => Err(missed(format!("{address}: it answers with the status {status}"))),
    }
}

/// Asks for a path over plain HTTP. In: the host as it is in the address, with its port where that is not 80.
pub fn ask(address: SocketAddr, host: &str, path: &str) -> Result<Answered, Missed> {
    let missed = |code, detail: String| Missed::new(code, detail);
    let mut socket = connect(address)?;
    let _limit = super::limit::Limit::until(&socket, Instant::now() + super::limit::WHOLE);
    let request = format!("GET {path} HTTP/1.1\r\nHost: {host}\r\nUser-Agent: tamga\r\nConnection: close\r\n\r\n");
    let mut head = Vec::new();
    let read = socket.write_all(request.as_bytes()).and_then(|()| read_head(&mut socket, &mut head));
    if let Err(e) = read
        && head.is_empty()
    {
        let silent = matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut);
        let code = if silent { Code::SilentConnection } else { Code::OtherProtocol };
        return Err(missed(code, format!("{address}: no answer to HTTP")));
    }
    parsed(&head).ok_or_else(|| {
        // 0x15 is an alert, 0x16 a handshake (RFC 8446 §5.1): the port is TLS's.
        let tls = matches!(head.first(), Some(0x15 | 0x16));
        let detail = if tls { "it speaks TLS, not plain HTTP" } else { "its answer is not HTTP" };
        missed(Code::OtherProtocol, format!("{address}: {detail}"))
    })
}

fn read_head(socket: &mut TcpStream, head: &mut Vec<u8>) -> std::io::Result<()> {
    let mut piece = [0; 2048];
    while head.len() < HEAD as usize && !head.windows(4).any(|w| w == b"\r\n\r\n") {
        match socket.read(&mut piece)? {
            0 => break,
            n => head.extend_from_slice(&piece[..n]),
        }
    }
    Ok(())
}

/// Status line and `Location` (RFC 9112 §4, RFC 9110 §10.2.2).
pub fn parsed(head: &[u8]) -> Option<Answered> {
    let text = String::from_utf8_lossy(head);
    let mut lines = text.lines();
    let status = lines.next()?.strip_prefix("HTTP/1.")?.split(' ').nth(1)?.parse().ok()?;
    let location = lines
        .take_while(|l| !l.is_empty())
        .filter_map(|l| l.split_once(':'))
        .find(|(name, _)| name.trim().eq_ignore_ascii_case("location"))
        .map(|(_, value)| Untrusted::from(value.trim()));
    Some(Answered { status, location })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_head_is_read_and_nonsense_is_not() {
        let head = b"HTTP/1.1 307 Temporary Redirect\r\nServer: x\r\nLOCATION:  https://a/b?c \r\n\r\nLocation: no";
        assert_eq!(parsed(head), Some(Answered { status: 307, location: Some(Untrusted::from("https://a/b?c")) }));
        assert_eq!(parsed(b"HTTP/1.0 200 OK\r\n\r\nLocation: no"), Some(Answered { status: 200, location: None }));
        for bad in [&b""[..], b"HTTP/2 200", b"SSH-2.0-x\r\n", b"HTTP/1.1 abc\r\n", &[0x15, 3, 1]] {
            assert_eq!(parsed(bad), None);
        }
    }
}
