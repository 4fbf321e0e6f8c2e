//! Answering challenges: by a listener of our own, in the directory of a running web server, or with a record at a name server.

use super::session::{Session, word};
use super::{alpn, dns};
use std::net::{Ipv4Addr, Ipv6Addr, SocketAddr};
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use tamga_app::enroller::Wanted;
use tamga_app::failure::Result;
use tamga_core::enrollment::challenge::{ChallengeType, WELL_KNOWN, is_token, key_authorization};
use tamga_core::enrollment::failure::Failure;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::jwk::Jwk;
use tamga_host::error::Error as HostError;
use tamga_host::fs::Disk;
use tamga_host::ledger::Origin;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// A challenge whose answer is in place.
pub(super) struct Begun {
    pub(super) url: String,
    pub(super) name: String,
    pub(super) kind: ChallengeType,
}

/// What is in place, to be taken away afterwards.
#[derive(Default)]
pub(super) struct Answers {
    http: Option<Listener<Shown>>,
    tls: Option<Listener<Arc<alpn::Certificates>>>,
    files: Vec<PathBuf>,
    records: Vec<dns::Record>,
}

/// What a listener shows: paths with their bodies.
type Shown = Arc<Mutex<Vec<(String, String)>>>;

/// A listener with what it shows.
struct Listener<T> {
    shows: T,
    tasks: Vec<JoinHandle<()>>,
}

impl<T> Drop for Listener<T> {
    fn drop(&mut self) {
        self.tasks.iter().for_each(JoinHandle::abort);
    }
}

impl Answers {
    /// Takes everything away again; returns what stays.
    pub(super) async fn clear(&mut self, disk: &dyn Disk) -> Vec<String> {
        self.http = None;
        self.tls = None;
        let mut left = Vec::new();
        for file in self.files.drain(..) {
            if let Err(e) = disk.remove(&file) {
                left.push(format!("the answer to a challenge stays behind: {e}"));
            }
        }
        for record in self.records.drain(..) {
            if let Err(e) = dns::remove(&record).await {
                left.push(format!("the record {} stays behind: {e}", record.owner));
            }
        }
        left
    }
}

/// Puts the answer to one challenge of an authorization in place.
pub(super) async fn answer(
    session: &Session<'_>,
    wanted: &Wanted<'_>,
    authorization: &serde_json::Value,
    answers: &mut Answers,
) -> Result<Begun> {
    let origin = wanted.origin;
    let identifier = authorization.get("identifier").cloned().unwrap_or_default();
    let name = word(&identifier, "value").to_owned();
    let malformed = |why: &str| Failure::Unreached { url: origin.from.clone(), why: why.to_owned() };
    let identifier =
        Identifier::parse(&identifier).map_err(|_| malformed("it asks for the proof of what is no name"))?;
    let wildcard = authorization.get("wildcard") == Some(&serde_json::Value::Bool(true));
    let all = authorization.get("challenges").and_then(serde_json::Value::as_array).cloned().unwrap_or_default();
    let offered: Vec<String> = all.iter().map(|c| word(c, "type").to_owned()).collect();
    let kind = chosen(origin, wildcard, &offered);
    let refused = |why: String| Failure::NoChallenge { name: name.clone(), offered: offered.clone(), why };
    let kind = kind.ok_or_else(|| refused("none of them can be answered as it was asked for".into()))?;
    if !possible(origin, kind) {
        return Err(refused(
            "dns-01 needs the name server that takes records (--dns-update) and its key (--dns-key-file)".into(),
        )
        .into());
    }
    let Some(challenge) = all.iter().find(|c| word(c, "type") == kind.word()) else {
        return Err(refused(format!("{kind} is not among them")).into());
    };
    let token = word(challenge, "token");
    if !is_token(token) {
        return Err(malformed("the token of its challenge is none").into());
    }
    let own = Jwk::of_spki(session.key.public().spki()).ok_or_else(|| malformed("the account's key cannot be used"))?;
    let authorization = key_authorization(token, &own.thumbprint());
    match kind {
        ChallengeType::Http01 => match &origin.challenge_dir {
            Some(directory) => file(wanted.disk, directory, token, &authorization, answers)?,
            None => listener(origin, token, &authorization, answers).await?,
        },
        ChallengeType::TlsAlpn01 => tls(origin, &identifier, &authorization, answers).await?,
        ChallengeType::Dns01 => {
            let record = dns::add(wanted, &name, &authorization).await?;
            answers.records.push(record);
        }
    }
    Ok(Begun { url: word(challenge, "url").to_owned(), name, kind })
}

/// Which challenge is answered: the one that was asked for; else what fits what was said; else the first that a listener can.
fn chosen(origin: &Origin, wildcard: bool, offered: &[String]) -> Option<ChallengeType> {
    if let Some(asked) = origin.challenge.as_ref().and_then(|c| c.parse().ok()) {
        return Some(asked);
    }
    let order = match (wildcard || origin.dns_update.is_some(), origin.challenge_dir.is_some()) {
        (true, _) => [ChallengeType::Dns01, ChallengeType::Http01, ChallengeType::TlsAlpn01],
        _ => [ChallengeType::Http01, ChallengeType::TlsAlpn01, ChallengeType::Dns01],
    };
    order.into_iter().find(|k| offered.iter().any(|o| o == k.word()))
}

fn possible(origin: &Origin, kind: ChallengeType) -> bool {
    kind != ChallengeType::Dns01 || (origin.dns_update.is_some() && origin.dns_key_file.is_some())
}

/// A file in the directory that the running web server shows.
fn file(
    disk: &dyn Disk,
    directory: &std::path::Path,
    token: &str,
    authorization: &str,
    answers: &mut Answers,
) -> Result<()> {
    if !disk.is_directory(directory) {
        return Err(HostError::file("writing into", directory)(std::io::ErrorKind::NotFound.into()).into());
    }
    let folder = directory.join(WELL_KNOWN.trim_matches('/'));
    disk.make_directory(&folder, 0o755)?;
    let path = folder.join(token);
    answers.files.push(path.clone());
    disk.write_whole(&path, authorization.as_bytes(), 0o644)?;
    Ok(())
}

/// Where to listen: as it was said, else on every address of both kinds.
async fn bound(origin: &Origin, port: u16) -> Result<Vec<TcpListener>> {
    let typed: Option<SocketAddr> = match &origin.challenge_listen {
        Some(text) => Some(listen_address(text, port)?),
        None => None,
    };
    let failed = |source: std::io::Error, port: u16| HostError::Port { port, source };
    if let Some(at) = typed {
        return Ok(vec![TcpListener::bind(at).await.map_err(|e| failed(e, at.port()))?]);
    }
    // On most systems a listener on IPv6 takes IPv4 connections too, and the port is then in use for IPv4.
    match TcpListener::bind((Ipv6Addr::UNSPECIFIED, port)).await {
        Ok(six) => {
            let four = TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)).await;
            Ok(std::iter::once(six).chain(four).collect())
        }
        Err(_) => Ok(vec![TcpListener::bind((Ipv4Addr::UNSPECIFIED, port)).await.map_err(|e| failed(e, port))?]),
    }
}

/// An address to listen on: `ADDRESS`, `ADDRESS:PORT` or `:PORT`.
pub(super) fn listen_address(typed: &str, port: u16) -> std::result::Result<SocketAddr, tamga_core::error::Error> {
    if let Ok(whole) = typed.parse() {
        return Ok(whole);
    }
    if let Ok(ip) = typed.trim_matches(['[', ']']).parse() {
        return Ok(SocketAddr::new(ip, port));
    }
    if let Some(port) = typed.strip_prefix(':').and_then(|p| p.parse().ok()) {
        return Ok(SocketAddr::new(Ipv4Addr::UNSPECIFIED.into(), port));
    }
    Err(tamga_core::error::Error::Word {
        what: "address to listen on",
        typed: typed.to_owned(),
        accepted: "ADDRESS, ADDRESS:PORT or :PORT".into(),
    })
}

async fn listener(origin: &Origin, token: &str, authorization: &str, answers: &mut Answers) -> Result<()> {
    if answers.http.is_none() {
        let shows: Shown = Arc::default();
        let mut tasks = Vec::new();
        for listener in bound(origin, 80).await? {
            tasks.push(tokio::spawn(served(listener, shows.clone())));
        }
        answers.http = Some(Listener { shows, tasks });
    }
    if let Some(http) = &answers.http {
        let mut shows = http.shows.lock().unwrap_or_else(|e| e.into_inner());
        shows.push((format!("{WELL_KNOWN}{token}"), authorization.to_owned()));
    }
    Ok(())
}

/// Answers the one question that a service asks. Nothing else is here, and nothing else is said.
async fn served(listener: TcpListener, shows: Shown) {
    loop {
        let Ok((mut socket, _)) = listener.accept().await else {
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
            continue;
        };
        let shows = shows.clone();
        tokio::spawn(async move {
            let work = async {
                let mut head = Vec::new();
                let mut piece = [0; 1024];
                while !head.windows(4).any(|w| w == b"\r\n\r\n") && head.len() < 8192 {
                    match socket.read(&mut piece).await {
                        Ok(0) | Err(_) => return,
                        Ok(n) => head.extend(&piece[..n]),
                    }
                }
                let text = String::from_utf8_lossy(&head);
                let path = text.split(' ').nth(1).unwrap_or_default();
                let found = shows.lock().unwrap_or_else(|e| e.into_inner()).iter().find(|(p, _)| p == path).cloned();
                let (status, body) = match found {
                    Some((_, body)) if text.starts_with("GET ") => ("200 OK", body),
                    _ => ("404 Not Found", String::new()),
                };
                let answer = format!(
                    "HTTP/1.1 {status}\r\ncontent-type: application/octet-stream\r\ncontent-length: {}\r\nconnection: close\r\n\r\n{body}",
                    body.len()
                );
                let _ = socket.write_all(answer.as_bytes()).await;
                let _ = socket.shutdown().await;
            };
            let _ = tokio::time::timeout(std::time::Duration::from_secs(10), work).await;
        });
    }
}

async fn tls(origin: &Origin, identifier: &Identifier, authorization: &str, answers: &mut Answers) -> Result<()> {
    if answers.tls.is_none() {
        let shows = Arc::new(alpn::Certificates::default());
        let mut tasks = Vec::new();
        for listener in bound(origin, 443).await? {
            tasks.push(tokio::spawn(alpn::served(listener, alpn::acceptor(shows.clone())?)));
        }
        answers.tls = Some(Listener { shows, tasks });
    }
    if let Some(tls) = &answers.tls {
        tls.shows.add(identifier, authorization)?;
    }
    Ok(())
}
