//! What is said in clear text before TLS, where a protocol begins so: never a name, never a password.

use super::answer::{Answer, other, without_tls};
use super::{ANSWER, Missed};
use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use tamga_core::finding::Code;

/// A protocol that begins in clear text and goes over to TLS.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Prelude {
    /// TLS at once.
    None,
    /// PostgreSQL's SSLRequest (its protocol, "SSL Session Encryption").
    Postgres,
    /// MySQL's and MariaDB's SSLRequest ("Connection Phase").
    Mysql,
    /// SMTP with STARTTLS (RFC 3207).
    Smtp,
    /// IMAP with STARTTLS (RFC 9051 §6.2.1).
    Imap,
    /// LDAP with StartTLS (RFC 4511 §4.14).
    Ldap,
    /// SQL Server's PRELOGIN, inside whose packets the handshake travels.
    SqlServer,
    /// TLS at once, then the upgrade to WebSocket.
    WebSocket,
}

/// SSLRequest: its length, then 80877103.
const POSTGRES: [u8; 8] = [0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f];
/// ExtendedRequest 1.3.6.1.4.1.1466.20037 with message id 1.
const LDAP: &[u8] = b"\x30\x1d\x02\x01\x01\x77\x18\x80\x161.3.6.1.4.1.1466.20037";
/// CLIENT_SSL, CLIENT_PROTOCOL_41 and CLIENT_SECURE_CONNECTION.
const MYSQL_SSL: u32 = 0x0800;
const MYSQL_WANTED: u32 = MYSQL_SSL | 0x0200 | 0x8000;
/// No server's greeting is longer.
const MOST: u64 = 64 * 1024;

impl Prelude {
    /// A scheme of an address → the prelude, and the port where none is given.
    pub fn of_scheme(scheme: &str) -> Option<(Prelude, u16)> {
        Some(match scheme {
            "https" => (Prelude::None, 443),
            "wss" => (Prelude::WebSocket, 443),
            "sqlserver" | "mssql" => (Prelude::SqlServer, 1433),
            "postgres" | "postgresql" => (Prelude::Postgres, 5432),
            "mysql" | "mariadb" => (Prelude::Mysql, 3306),
            "smtp" => (Prelude::Smtp, 25),
            "imap" => (Prelude::Imap, 143),
            "ldap" => (Prelude::Ldap, 389),
            _ => return None,
        })
    }

    /// Says what comes before TLS.
    ///
    /// Errors: the server does not offer TLS, or speaks something else.
    pub fn say(self, socket: &mut (impl Read + Write)) -> Result<(), Missed> {
        let answer = match self {
            Prelude::None | Prelude::WebSocket => return Ok(()),
            Prelude::SqlServer => super::tds::ask(socket),
            Prelude::Postgres => postgres(socket),
            Prelude::Mysql => mysql(socket),
            Prelude::Smtp => smtp(socket),
            Prelude::Imap => imap(socket),
            Prelude::Ldap => ldap(socket),
        };
        match answer {
            Ok(None) => Ok(()),
            Ok(Some(missed)) => Err(missed),
            Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {
                Err(Missed::new(Code::SilentConnection, format!("no greeting within {} seconds", ANSWER.as_secs())))
            }
            Err(_) => Err(other("it hangs up before TLS")),
        }
    }
}

fn postgres(socket: &mut (impl Read + Write)) -> Answer {
    socket.write_all(&POSTGRES)?;
    let mut answer = [0];
    socket.read_exact(&mut answer)?;
    Ok(match answer[0] {
        b'S' => None,
        b'N' => Some(without_tls("it answers N to the request for TLS: ssl is off")),
        b'E' => Some(without_tls("it answers with an error to the request for TLS")),
        _ => Some(other("its answer is not PostgreSQL's")),
    })
}

fn mysql(socket: &mut (impl Read + Write)) -> Answer {
    let mut head = [0; 4];
    socket.read_exact(&mut head)?;
    let length = u64::from(u32::from_le_bytes([head[0], head[1], head[2], 0]));
    let mut greeting = Vec::new();
    Read::by_ref(socket).take(length.min(MOST)).read_to_end(&mut greeting)?;
    // Protocol 10, the version's text, connection id, eight octets, a zero, the lower half of what it can do.
    let Some(version_end) = greeting.iter().position(|b| *b == 0).filter(|_| greeting.first() == Some(&10)) else {
        let text = String::from_utf8_lossy(greeting.get(3..).unwrap_or_default()).into_owned();
        return Ok(Some(other(&format!(
            "its greeting is not MySQL's: {}",
            tamga_core::vocabulary::text::cut(&text, 80)
        ))));
    };
    let at = version_end + 1 + 4 + 8 + 1;
    let able = greeting.get(at..at + 2).map_or(0, |b| u32::from(u16::from_le_bytes([b[0], b[1]])));
    if able & MYSQL_SSL == 0 {
        return Ok(Some(without_tls("its greeting does not offer TLS")));
    }
    let mut request = vec![32, 0, 0, 1];
    request.extend(MYSQL_WANTED.to_le_bytes());
    request.extend((1_u32 << 24).to_le_bytes());
    request.push(33);
    request.extend([0; 23]);
    socket.write_all(&request)?;
    Ok(None)
}

/// The lines of one answer, up to the one in which the number is followed by a blank.
fn reply(from: &mut impl BufRead) -> std::io::Result<Vec<String>> {
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        if from.by_ref().take(MOST).read_line(&mut line)? == 0 || lines.len() > 100 {
            return Err(ErrorKind::UnexpectedEof.into());
        }
        let last = line.as_bytes().get(3) != Some(&b'-');
        lines.push(line.trim_end().to_owned());
        if last {
            return Ok(lines);
        }
    }
}

fn smtp(socket: &mut (impl Read + Write)) -> Answer {
    // What comes after the answer to STARTTLS belongs to TLS; a server that sends it early is cut off here.
    let mut from = BufReader::new(socket);
    if !reply(&mut from)?.iter().all(|l| l.starts_with("220")) {
        return Ok(Some(other("its greeting is not SMTP's")));
    }
    from.get_mut().write_all(b"EHLO localhost\r\n")?;
    let able = reply(&mut from)?;
    if !able.iter().any(|l| l.get(4..).is_some_and(|w| w.trim().eq_ignore_ascii_case("STARTTLS"))) {
        return Ok(Some(without_tls("it does not offer STARTTLS")));
    }
    from.get_mut().write_all(b"STARTTLS\r\n")?;
    let answer = reply(&mut from)?;
    Ok(match answer.first() {
        Some(l) if l.starts_with("220") => None,
        _ => Some(without_tls("it refuses STARTTLS")),
    })
}

fn imap(socket: &mut (impl Read + Write)) -> Answer {
    let mut from = BufReader::new(socket);
    let mut line = String::new();
    from.by_ref().take(MOST).read_line(&mut line)?;
    if !line.starts_with("* OK") {
        return Ok(Some(other("its greeting is not IMAP's")));
    }
    from.get_mut().write_all(b"a1 STARTTLS\r\n")?;
    for _ in 0..100 {
        line.clear();
        if from.by_ref().take(MOST).read_line(&mut line)? == 0 {
            break;
        }
        if let Some(answer) = line.strip_prefix("a1 ") {
            return Ok((!answer.starts_with("OK")).then(|| without_tls("it refuses STARTTLS")));
        }
    }
    Err(ErrorKind::UnexpectedEof.into())
}

fn ldap(socket: &mut (impl Read + Write)) -> Answer {
    socket.write_all(LDAP)?;
    let mut head = [0; 2];
    socket.read_exact(&mut head)?;
    if head[0] != 0x30 || head[1] > 0x7f {
        return Ok(Some(other("its answer is not LDAP's")));
    }
    let mut body = vec![0; usize::from(head[1])];
    socket.read_exact(&mut body)?;
    // Message id 1, ExtendedResponse, result code 0.
    let good = body.len() > 7 && body[..4] == [2, 1, 1, 0x78] && body[5..8] == [0x0a, 1, 0];
    Ok((!good).then(|| without_tls("it refuses StartTLS")))
}
