//! SQL Server: the handshake travels inside the packets of its own protocol ([MS-TDS] §2.2.6.5 PRELOGIN).

use super::answer::{Answer, other, without_tls};
use std::io::{Error, ErrorKind, Read, Write};
use std::net::TcpStream;

/// PRELOGIN: the first packet, and those that carry the handshake.
const PRELOGIN: u8 = 0x12;
const LAST: u8 = 1;
const HEAD: usize = 8;
/// So long a packet may be before the two have agreed on more.
const MOST: usize = 4_096;
/// The option that says whether there is encryption; its value when only asking for it: ENCRYPT_ON.
const ENCRYPTION: u8 = 1;
const ON: u8 = 1;
const NOT_SUPPORTED: u8 = 2;

fn packet(body: &[u8]) -> Vec<u8> {
    let length = u16::try_from(body.len() + HEAD).unwrap_or(u16::MAX).to_be_bytes();
    [&[PRELOGIN, LAST, length[0], length[1], 0, 0, 0, 0], body].concat()
}

/// The body of the next packet.
fn read_packet(socket: &mut impl Read) -> std::io::Result<Vec<u8>> {
    let mut head = [0; HEAD];
    socket.read_exact(&mut head)?;
    let length = usize::from(u16::from_be_bytes([head[2], head[3]]));
    // 0x04 is an answer, 0x12 carries the handshake.
    if !matches!(head[0], 0x04 | PRELOGIN) || length < HEAD {
        return Err(Error::new(ErrorKind::InvalidData, "no packet of this protocol"));
    }
    let mut body = vec![0; length - HEAD];
    socket.read_exact(&mut body)?;
    Ok(body)
}

/// Asks for encryption before anything else.
pub(super) fn ask(socket: &mut (impl Read + Write)) -> Answer {
    // VERSION at 11, six octets; ENCRYPTION at 17, one octet; the end of the list; then both.
    let body = [0, 0, 11, 0, 6, ENCRYPTION, 0, 17, 0, 1, 0xff, 0, 0, 0, 0, 0, 0, ON];
    socket.write_all(&packet(&body))?;
    let answer = match read_packet(socket) {
        Err(e) if e.kind() == ErrorKind::InvalidData => return Ok(Some(other("its answer is not SQL Server's"))),
        answer => answer?,
    };
    let options = answer.chunks_exact(5).take_while(|o| o[0] != 0xff);
    let said = options
        .filter(|o| o[0] == ENCRYPTION)
        .find_map(|o| answer.get(usize::from(u16::from_be_bytes([o[1], o[2]]))).copied());
    Ok(match said {
        Some(NOT_SUPPORTED) => Some(without_tls("it says that it does not support encryption")),
        Some(_) => None,
        None => Some(other("its answer says nothing of encryption")),
    })
}

/// The socket as TLS sees it: what is written goes out in packets, what is read comes out of them.
pub(super) struct Wrapped<'a> {
    pub(super) socket: &'a mut TcpStream,
    pub(super) read: Vec<u8>,
    pub(super) written: Vec<u8>,
}

impl Read for Wrapped<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        self.flush()?;
        if self.read.is_empty() {
            self.read = read_packet(self.socket)?;
        }
        let n = into.len().min(self.read.len());
        into[..n].copy_from_slice(&self.read[..n]);
        self.read.drain(..n);
        Ok(n)
    }
}

impl Write for Wrapped<'_> {
    fn write(&mut self, from: &[u8]) -> std::io::Result<usize> {
        self.written.extend_from_slice(from);
        Ok(from.len())
    }

    /// A flight goes out whole: a server waits for the last packet of it.
    fn flush(&mut self) -> std::io::Result<()> {
        for part in std::mem::take(&mut self.written).chunks(MOST - HEAD) {
            self.socket.write_all(&packet(part))?;
        }
        Ok(())
    }
}
