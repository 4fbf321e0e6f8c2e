//! What is said in clear text before TLS, where a protocol begins so: never an account, never a password.

use super::answer::{Answer, other, without_tls};
use super::{ANSWER, Missed, lines};
use std::io::{ErrorKind, Read, Write};
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
    /// POP3 with STLS (RFC 2595 §4).
    Pop3,
    /// FTP with AUTH TLS (RFC 4217 §4).
    Ftp,
    /// XMPP with STARTTLS (RFC 6120 §5).
    Xmpp,
    /// NATS, whose server speaks first (its client protocol, INFO).
    Nats,
    /// TLS at once, then the upgrade to WebSocket.
    WebSocket,
    /// TLS at once, then something that is no HTTP.
    Tls,
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
            "pop3" => (Prelude::Pop3, 110),
            "ldap" => (Prelude::Ldap, 389),
            "ftp" => (Prelude::Ftp, 21),
            "xmpp" => (Prelude::Xmpp, 5222),
            "nats" => (Prelude::Nats, 4222),
            "smtps" => (Prelude::Tls, 465),
            "imaps" => (Prelude::Tls, 993),
            "pop3s" => (Prelude::Tls, 995),
            "ldaps" => (Prelude::Tls, 636),
            "rediss" => (Prelude::Tls, 6379),
            "amqps" => (Prelude::Tls, 5671),
            "mqtts" => (Prelude::Tls, 8883),
            "ftps" => (Prelude::Tls, 990),
            _ => return None,
        })
    }

    /// A scheme that means no TLS by convention → the one that does.
    pub fn with_tls(scheme: &str) -> Option<&'static str> {
        ["rediss", "amqps", "mqtts", "wss"].into_iter().find(|s| s.strip_suffix('s') == Some(scheme))
    }

    /// Says what comes before TLS. `host`: whom XMPP is to serve, which TLS itself says in clear text right after.
    ///
    /// Errors: the server does not offer TLS, or speaks something else.
    pub fn say(self, socket: &mut (impl Read + Write), host: &str) -> Result<(), Missed> {
        let answer = match self {
            Prelude::None | Prelude::WebSocket | Prelude::Tls => return Ok(()),
            Prelude::SqlServer => super::tds::ask(socket),
            Prelude::Postgres => postgres(socket),
            Prelude::Mysql => mysql(socket),
            Prelude::Smtp => lines::smtp(socket),
            Prelude::Imap => lines::imap(socket),
            Prelude::Pop3 => lines::pop3(socket),
            Prelude::Ftp => lines::ftp(socket),
            Prelude::Xmpp => lines::xmpp(socket, host),
            Prelude::Nats => lines::nats(socket),
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
