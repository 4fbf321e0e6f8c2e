//! Meeting a server: connect, TLS by rustls with a verifier that only takes notes, and what it means if that fails.

mod answer;
mod hybrid;
mod limit;
mod lines;
mod notes;
mod old;
mod p521;
pub mod plain;
mod prelude;
mod tds;
mod websocket;

pub use prelude::Prelude;

use limit::{Limit, WHOLE};
use notes::{Notes, Wants};
use rustls::pki_types::ServerName;
use rustls::{AlertDescription, ClientConfig, ClientConnection, NamedGroup};
use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpStream, ToSocketAddrs};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tamga_core::check::wire::{Reader, Side};
use tamga_core::finding::Code;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Untrusted;

const CONNECT: Duration = Duration::from_secs(5);
const ANSWER: Duration = Duration::from_secs(8);

/// A handshake that stood.
#[derive(Clone, Debug)]
pub struct Met {
    /// With whom.
    pub address: SocketAddr,
    /// `TLS 1.3`.
    pub protocol: String,
    /// The cipher suite's name.
    pub cipher: String,
    /// The group of the key exchange by its name in the TLS registry: `X25519MLKEM768` is hybrid post-quantum.
    pub key_exchange: Option<String>,
    /// True if the server stapled a status (RFC 6066 §8).
    pub staple: bool,
    /// The application protocol agreed upon.
    pub alpn: Option<Untrusted>,
    /// What the server sent, DER, leaf first.
    pub chain: Vec<Vec<u8>>,
    /// True if the server asked for a client certificate.
    pub wants_client: bool,
    /// What it said to the one that it was shown, or to none, if it did not take that.
    pub refused: Option<String>,
    /// What of this connection anybody on the way could read.
    pub wire: Reader,
    /// Why there was no upgrade to WebSocket, where one was asked for.
    pub not_upgraded: Option<Missed>,
    /// The suite, where ours does not speak it and the chain was only read.
    pub suite: Option<u16>,
}

impl Met {
    /// A server of TLS 1.2 with which ours cannot go on: what it sent in clear text.
    fn read_only(address: SocketAddr, sent: old::Sent, wire: Reader) -> Met {
        Met {
            address,
            protocol: "TLS 1.2".into(),
            cipher: tamga_core::check::wire::cipher(sent.suite),
            key_exchange: sent.group,
            staple: false,
            alpn: None,
            chain: sent.chain,
            wants_client: false,
            refused: None,
            wire,
            not_upgraded: None,
            suite: Some(sent.suite),
        }
    }
}

/// A client certificate with its key, to be shown to a server that asks.
pub type Shown = Arc<rustls::sign::CertifiedKey>;

/// After a handshake of TLS 1.3 a server says only later that it does not take a client's certificate; so long is listened.
const AFTERWARDS: Duration = Duration::from_millis(700);

/// Why there was none.
#[derive(Clone, Debug)]
pub struct Missed {
    /// The finding.
    pub code: Code,
    /// A detail for a person.
    pub detail: String,
    /// What of the connection anybody on the way could read.
    pub wire: Box<Reader>,
}

impl Missed {
    /// Before anything went over the wire.
    pub fn new(code: Code, detail: impl Into<String>) -> Missed {
        Missed { code, detail: detail.into(), wire: Box::default() }
    }
}

/// What is asked of a server.
#[derive(Clone, Copy, Debug)]
pub struct Ask<'a> {
    /// Whom (as SNI where it is a name).
    pub host: &'a Name,
    /// What its protocol says before TLS.
    pub prelude: Prelude,
    /// The path of a WebSocket.
    pub path: &'a str,
    /// A client certificate, for a server that wants one.
    pub shown: Option<&'a Shown>,
}

/// The addresses of a host, those given with `--resolve` first.
pub fn resolve(host: &Name, port: u16, given: &[(String, IpAddr)]) -> Result<Vec<SocketAddr>, Missed> {
    let text = host.to_string();
    let named: Vec<SocketAddr> =
        given.iter().filter(|(n, _)| *n == text).map(|(_, a)| SocketAddr::new(*a, port)).collect();
    if !named.is_empty() {
        return Ok(named);
    }
    match host {
        Name::Ip(a) => Ok(vec![SocketAddr::new(*a, port)]),
        // RFC 6761 §6.3: without asking anybody, as Chromium and curl do it.
        n if n.is_loopback() => Ok(vec![
            SocketAddr::new([127, 0, 0, 1].into(), port),
            SocketAddr::new(std::net::Ipv6Addr::LOCALHOST.into(), port),
        ]),
        _ => {
            let found: Vec<SocketAddr> =
                (text.as_str(), port).to_socket_addrs().map(Iterator::collect).unwrap_or_default();
            if found.is_empty() {
                return Err(Missed::new(Code::UnresolvedName, text));
            }
            Ok(found)
        }
    }
}

/// Meets a server at one address.
///
/// One deadline holds for everything that is asked of an address: the preamble, the handshake, and what follows one that failed.
pub fn meet(ask: &Ask<'_>, address: SocketAddr) -> Result<Met, Missed> {
    let until = Instant::now() + WHOLE;
    let Ask { host, prelude, .. } = *ask;
    let missed = |code, detail: String| Missed::new(code, detail);
    let mut socket = TcpStream::connect_timeout(&address, CONNECT).map_err(|e| match e.kind() {
        ErrorKind::TimedOut => missed(Code::SilentConnection, format!("{address} does not answer within 5 seconds")),
        _ => missed(Code::RefusedConnection, format!("{address}: nothing listens there")),
    })?;
    let _ = socket.set_read_timeout(Some(ANSWER));
    let _ = socket.set_write_timeout(Some(ANSWER));
    // A handshake alone watches itself, below.
    let limit = (prelude != Prelude::None).then(|| Limit::until(&socket, until));
    let too_slow = || {
        let whole = WHOLE.as_secs();
        missed(
            Code::SilentConnection,
            format!("{address}: it answers so slowly that it was given up after {whole} seconds"),
        )
    };
    let passed = || limit.as_ref().is_some_and(Limit::has_passed);
    prelude.say(&mut socket, &host.to_string()).map_err(|m| match passed() {
        true => too_slow(),
        false => missed(m.code, format!("{address}: {}", m.detail)),
    })?;
    let (notes, wants, mut tls) = begun(ask)?;
    let mut wrapped;
    let inner: &mut dyn Wire = match prelude {
        Prelude::SqlServer => {
            wrapped = tds::Wrapped { socket: &mut socket, read: Vec::new(), written: Vec::new() };
            &mut wrapped
        }
        _ => &mut socket,
    };
    let mut first = Recorder { inner, seen: Vec::new(), wire: Reader::default(), until };
    while tls.is_handshaking() {
        if let Err(e) = tls.complete_io(&mut first) {
            let Recorder { seen, wire, until, .. } = first;
            if passed() || Instant::now() >= until {
                return Err(Missed { wire: Box::new(wire), ..too_slow() });
            }
            let mut missed = wants.explained(explain(&e, &seen, &wire, address, until), address);
            // The server may be fine: Tamga's own TLS has fewer cipher suites than the clients.
            let limits = [Code::TlsTooOld, Code::NoCommonCipher, Code::BudgetExhausted, Code::HandshakeRefused];
            if limits.contains(&missed.code)
                && prelude == Prelude::None
                && let Some(older) = old::ask(host, address, until)
            {
                if let Some(sent) = older.chain {
                    return Ok(Met::read_only(address, sent, wire));
                }
                // A flood stays one, whatever came before it.
                if missed.code != Code::BudgetExhausted {
                    missed = Missed {
                        detail: format!("{address}: {}", older.detail),
                        code: older.code.unwrap_or(missed.code),
                        ..missed
                    };
                }
            }
            return Err(Missed { wire: Box::new(wire), ..missed });
        }
    }
    let _ = first.flush();
    let wire = first.wire;
    let asked = wants.asked.lock().is_ok_and(|w| *w);
    let refused = if asked { afterwards(&mut tls, &mut socket) } else { None };
    let mut not_upgraded = None;
    if prelude == Prelude::WebSocket {
        let authority = format!("{}:{}", bracketed(host), address.port());
        let mut stream = rustls::Stream::new(&mut tls, &mut socket);
        not_upgraded = websocket::upgrade(&mut stream, &authority, ask.path).err();
    }
    if prelude != Prelude::SqlServer {
        tls.send_close_notify();
        let _ = tls.write_tls(&mut socket);
    }
    let chain = notes.chain.lock().map(|c| c.clone()).unwrap_or_default();
    Ok(Met {
        address,
        protocol: match tls.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".into(),
            Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".into(),
            other => format!("{other:?}"),
        },
        cipher: tls.negotiated_cipher_suite().and_then(|s| s.suite().as_str()).unwrap_or_default().to_owned(),
        key_exchange: tls.negotiated_key_exchange_group().map(|g| group(g.name())),
        staple: notes.staple.load(Ordering::Relaxed),
        alpn: tls.alpn_protocol().map(Untrusted::from_bytes),
        chain,
        wants_client: asked,
        refused,
        wire,
        not_upgraded,
        suite: None,
    })
}

/// A connection that has not begun, with what will be noted of it.
fn begun(ask: &Ask<'_>) -> Result<(Arc<Notes>, Arc<Wants>, ClientConnection), Missed> {
    let missed = |e: rustls::Error| Missed::new(Code::NoCommonCipher, e.to_string());
    let mut provider = rustls::crypto::ring::default_provider();
    provider.kx_groups.insert(0, &hybrid::Hybrid);
    provider.kx_groups.push(&p521::P521);
    let provider = Arc::new(provider);
    let notes = Arc::new(Notes {
        chain: Mutex::default(),
        staple: AtomicBool::new(false),
        algorithms: provider.signature_verification_algorithms,
    });
    let wants = Arc::new(Wants { asked: Mutex::new(false), shown: ask.shown.cloned() });
    let mut config = ClientConfig::builder_with_provider(provider)
        .with_protocol_versions(rustls::DEFAULT_VERSIONS)
        .map_err(missed)?
        .dangerous()
        .with_custom_certificate_verifier(notes.clone())
        .with_client_cert_resolver(wants.clone());
    config.alpn_protocols = offered(ask.prelude);
    let tls = ClientConnection::new(Arc::new(config), server_name(ask.host)?).map_err(missed)?;
    Ok((notes, wants, tls))
}

/// A group by its name in the TLS registry, else by its number.
fn group(group: NamedGroup) -> String {
    group.as_str().map_or_else(|| format!("{:#06x}", u16::from(group)), str::to_owned)
}

/// The application protocols that are offered (RFC 7301): a WebSocket begins in HTTP/1.1, and what is no HTTP offers none.
fn offered(prelude: Prelude) -> Vec<Vec<u8>> {
    match prelude {
        Prelude::None => vec![b"h2".to_vec(), b"http/1.1".to_vec()],
        Prelude::WebSocket => vec![b"http/1.1".to_vec()],
        _ => Vec::new(),
    }
}

/// The host as TLS asks for it.
fn server_name(host: &Name) -> Result<ServerName<'static>, Missed> {
    match host {
        Name::Ip(a) => Ok(ServerName::from(*a)),
        other => ServerName::try_from(other.to_string())
            .map_err(|_| Missed::new(Code::NameNotCovered, format!("{other} cannot be asked for in TLS"))),
    }
}

/// What a server says once it has seen a client's certificate; None if it says nothing against it.
fn afterwards(tls: &mut ClientConnection, socket: &mut TcpStream) -> Option<String> {
    let _ = socket.set_read_timeout(Some(AFTERWARDS));
    let _ = tls.complete_io(socket);
    match tls.read_tls(socket) {
        Ok(0) => return Some("it hung up".into()),
        Ok(_) => {}
        Err(_) => return None,
    }
    match tls.process_new_packets() {
        Err(rustls::Error::AlertReceived(alert)) => Some(format!("the alert {alert:?}")),
        _ => None,
    }
}

/// What a failed handshake means, from the error and the first bytes that came.
fn explain(e: &std::io::Error, seen: &[u8], wire: &Reader, address: SocketAddr, until: Instant) -> Missed {
    let missed = |code, detail: &str| Missed::new(code, format!("{address}: {detail}"));
    let text = String::from_utf8_lossy(&seen[..seen.len().min(64)]).to_ascii_lowercase();
    if text.starts_with("http/") || text.trim_start().starts_with('<') {
        return missed(Code::PlainHttpOnTlsPort, "it answers in HTTP without TLS");
    }
    if let Some(flood) = wire.flood() {
        return missed(Code::OtherProtocol, &format!("it breaks off the handshake with a flood of {flood}"));
    }
    if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) {
        return missed(Code::SilentConnection, "no answer to a TLS hello within 8 seconds");
    }
    if let Some(tls) = e.get_ref().and_then(|r| r.downcast_ref::<rustls::Error>()) {
        return match tls {
            rustls::Error::AlertReceived(AlertDescription::ProtocolVersion)
            | rustls::Error::PeerIncompatible(rustls::PeerIncompatible::ServerTlsVersionIsDisabledByOurConfig) => {
                missed(Code::TlsTooOld, "it refuses TLS 1.2 and 1.3")
            }
            rustls::Error::AlertReceived(AlertDescription::CertificateRequired | AlertDescription::BadCertificate) => {
                missed(Code::ClientCertificateWanted, "it demands a client certificate")
            }
            rustls::Error::InvalidCertificate(rustls::CertificateError::BadSignature) => {
                missed(Code::KeyMismatch, "it signs with another key than its certificate's")
            }
            rustls::Error::AlertReceived(AlertDescription::Unknown(n)) => {
                missed(Code::OtherProtocol, &format!("it answers with an alert that TLS does not define ({n})"))
            }
            rustls::Error::AlertReceived(
                alert @ (AlertDescription::CloseNotify
                | AlertDescription::UserCanceled
                | AlertDescription::NoRenegotiation),
            ) => missed(Code::OtherProtocol, &format!("it ends the handshake with the alert {alert:?}")),
            // What is wrong is on its side, and older hellos change nothing.
            rustls::Error::AlertReceived(AlertDescription::InternalError) => {
                missed(Code::HandshakeRefused, "it answers with the alert internal_error")
            }
            rustls::Error::AlertReceived(alert) => {
                missed(Code::NoCommonCipher, &format!("it answers with the alert {alert:?}"))
            }
            rustls::Error::PeerIncompatible(why) => missed(Code::NoCommonCipher, &format!("{why:?}")),
            rustls::Error::InvalidMessage(rustls::InvalidMessage::HandshakePayloadTooLarge) => missed(
                Code::BudgetExhausted,
                "it sends more at once than a client takes (64 KiB): far too many certificates or names",
            ),
            rustls::Error::InvalidMessage(_) => missed(Code::OtherProtocol, "its answer is not TLS"),
            rustls::Error::PeerMisbehaved(why) => {
                missed(Code::OtherProtocol, &format!("it does not keep to TLS ({why:?})"))
            }
            other => missed(Code::OtherProtocol, &other.to_string()),
        };
    }
    // It hung up without a word: perhaps it would rather have been asked in plain HTTP.
    if speaks_http(address, until) {
        return missed(Code::PlainHttpOnTlsPort, "it hangs up on TLS and answers plain HTTP");
    }
    match seen.first() {
        None => missed(Code::HandshakeRefused, "it hangs up on a TLS hello"),
        // A record of the handshake (RFC 8446 §5.1): it is TLS.
        Some(22) => missed(Code::HandshakeRefused, "it hangs up in the middle of the handshake"),
        Some(_) => missed(Code::OtherProtocol, "it hangs up during the handshake"),
    }
}

/// What is left until a moment, at most so long; None if nothing is.
fn left(until: Instant, most: Duration) -> Option<Duration> {
    Some(until.saturating_duration_since(Instant::now()).min(most)).filter(|d| !d.is_zero())
}

fn speaks_http(address: SocketAddr, until: Instant) -> bool {
    let ask = || -> std::io::Result<bool> {
        let late = || std::io::Error::from(ErrorKind::TimedOut);
        let mut socket = TcpStream::connect_timeout(&address, left(until, CONNECT).ok_or_else(late)?)?;
        let _limit = Limit::until(&socket, until);
        socket.set_read_timeout(left(until, Duration::from_secs(2)))?;
        write!(socket, "HEAD / HTTP/1.1\r\nHost: {address}\r\nConnection: close\r\n\r\n")?;
        let mut start = [0; 5];
        socket.read_exact(&mut start)?;
        Ok(&start == b"HTTP/")
    };
    ask().unwrap_or(false)
}

fn bracketed(host: &Name) -> String {
    match host {
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

/// Where a handshake goes through.
trait Wire: Read + Write {}

impl<T: Read + Write> Wire for T {}

/// Keeps the first bytes that came, for telling protocols apart, and reads along.
struct Recorder<'a> {
    inner: &'a mut dyn Wire,
    seen: Vec<u8>,
    wire: Reader,
    until: Instant,
}

impl Read for Recorder<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        if Instant::now() >= self.until {
            return Err(ErrorKind::TimedOut.into());
        }
        let n = self.inner.read(into)?;
        self.wire.feed(Side::Server, &into[..n]);
        let room = 64_usize.saturating_sub(self.seen.len());
        self.seen.extend_from_slice(&into[..n.min(room)]);
        Ok(n)
    }
}

impl Write for Recorder<'_> {
    fn write(&mut self, from: &[u8]) -> std::io::Result<usize> {
        let n = self.inner.write(from)?;
        self.wire.feed(Side::Client, &from[..n]);
        Ok(n)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}
