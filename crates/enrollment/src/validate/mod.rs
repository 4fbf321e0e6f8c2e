//! Looking whether control of a name is proved (RFC 8555 section 8, RFC 8737, RFC 8738).
//!
//! What a client says decides where the service connects to. So: only names that the service certifies, only in the networks that it was
//! given, only two ports, never itself; bounded time, bounded answers, and of what came back hardly anything in the error.

mod alpn;
mod dns;
mod http;
pub(crate) mod resolve;

use crate::event::{Event, What};
use crate::service::Service;
use crate::settings::Look;
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tamga_core::enrollment::challenge::{ChallengeType, key_authorization};
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::Outcome;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tokio::net::TcpStream;
use tokio::sync::{Semaphore, mpsc};

/// To connect to one address may take so long.
const CONNECT: Duration = Duration::from_secs(5);
/// A whole look may take so long.
const WHOLE: Duration = Duration::from_secs(10);
/// So many looks at once.
const MOST: usize = 32;
/// So many looks at once at one name.
const MOST_EACH: usize = 3;
/// Metadata services of virtual machines give keys to everybody who asks from inside: RFC 3927 addresses that no lab uses otherwise.
const METADATA: [&str; 2] = ["169.254.169.254", "fd00:ec2::254"];

/// What is looked at.
struct Task {
    kind: ChallengeType,
    identifier: Identifier,
    token: String,
    authorization: String,
}

fn problem(kind: ProblemType, detail: impl Into<String>) -> Box<Problem> {
    Box::new(Problem::new(kind, detail))
}

/// Looks at challenges as their numbers come, until the queue is closed.
pub async fn run(service: Arc<Service>, mut queue: mpsc::UnboundedReceiver<i64>) {
    let room = Arc::new(Semaphore::new(MOST));
    let each = Each::default();
    while let Some(id) = queue.recv().await {
        let (service, each, room) = (service.clone(), each.clone(), room.clone());
        tokio::spawn(async move { one(&service, id, &each, &room).await });
    }
}

/// How many looks there are at each name.
#[derive(Clone, Default)]
struct Each(Arc<Mutex<HashMap<Identifier, Arc<Semaphore>>>>);

impl Each {
    fn of(&self, name: &Identifier) -> Arc<Semaphore> {
        let mut all = self.0.lock().unwrap_or_else(|e| e.into_inner());
        if all.len() > 4 * MOST {
            all.retain(|_, s| Arc::strong_count(s) > 1);
        }
        all.entry(name.clone()).or_insert_with(|| Arc::new(Semaphore::new(MOST_EACH))).clone()
    }
}

async fn one(service: &Arc<Service>, id: i64, each: &Each, room: &Semaphore) {
    let asked = service.clone();
    let found = tokio::task::spawn_blocking(move || {
        let ledger = asked.ledger();
        let (challenge, authorization) = ledger.challenge(id).ok()??;
        let account = ledger.account(authorization.account).ok()??;
        Some((challenge, authorization, account))
    });
    let Ok(Some((challenge, authorization, account))) = found.await else { return };
    let task = Task {
        kind: challenge.kind,
        identifier: authorization.identifier.clone(),
        authorization: key_authorization(&challenge.token, &account.key.thumbprint()),
        token: challenge.token,
    };
    // First its turn at the name, then a place among all: many looks at one slow host take no place from the others.
    let gate = each.of(&task.identifier);
    let _turn = gate.acquire().await;
    let _place = room.acquire().await;
    let outcome =
        match tokio::time::timeout(WHOLE, look(&service.settings().look, &service.settings().host, &task)).await {
            Ok(outcome) => outcome,
            Err(_) => Err(problem(
                ProblemType::Connection,
                format!("{} did not answer whole within {} seconds", task.identifier.base(), WHOLE.as_secs()),
            )),
        };
    let outcome = outcome.map_err(|p| Box::new(p.about(task.identifier.clone())));
    let recorded = {
        let (service, outcome) = (service.clone(), outcome.clone());
        tokio::task::spawn_blocking(move || service.ledger().end_challenge(id, task.kind, &outcome, service.now()))
    };
    if let Ok(Err(e)) = recorded.await {
        service.failed(&e);
        return;
    }
    let name = &task.identifier;
    let (event, detail) = match &outcome {
        Ok(()) => (What::Proved, format!("{name} by {}, account {}", task.kind, account.id)),
        Err(p) => (What::NotProved, format!("{name} by {}, account {}: {}", task.kind, account.id, p.detail)),
    };
    service.tell(&Event {
        at: service.now(),
        event,
        account: Some(account.id),
        peer: None,
        names: vec![name.to_string()],
        detail,
    });
}

async fn look(look: &Look, host: &str, task: &Task) -> Outcome {
    dns::caa(look, host, &task.identifier).await?;
    match task.kind {
        ChallengeType::Http01 => http::look(look, task).await,
        ChallengeType::Dns01 => dns::look(look, task).await,
        ChallengeType::TlsAlpn01 => alpn::look(look, task).await,
    }
}

/// The addresses at which a name is looked at, in the order in which they are tried. All must be ones that may be connected to.
async fn addresses(look: &Look, identifier: &Identifier, port: u16) -> Result<Vec<SocketAddr>, Box<Problem>> {
    let found = match identifier {
        Identifier::Ip(a) => vec![*a],
        Identifier::Dns(name) => resolve::addresses(look, name).await?,
    };
    let (mut taken, mut refused): (Vec<SocketAddr>, Option<String>) = (Vec::new(), None);
    for ip in found {
        match forbidden(look, ip, port) {
            Some(why) => refused = refused.or(Some(why)),
            None => taken.push(SocketAddr::new(ip, port)),
        }
    }
    // IPv6 first, as the field has it.
    taken.sort_by_key(SocketAddr::is_ipv4);
    taken.dedup();
    match (taken.is_empty(), refused) {
        (true, Some(why)) => Err(problem(ProblemType::Connection, format!("{identifier} is not connected to: {why}"))),
        (true, None) => Err(problem(ProblemType::Dns, format!("{identifier} has no address"))),
        (false, _) => Ok(taken),
    }
}

/// Why an address is never connected to.
fn forbidden(look: &Look, ip: IpAddr, port: u16) -> Option<String> {
    let plain = ip.to_canonical();
    if plain.is_unspecified() || plain.is_multicast() {
        return Some(format!("{ip} is no host's address"));
    }
    if METADATA.iter().any(|m| m.parse() == Ok(plain)) {
        return Some(format!("{ip} is the metadata service of a virtual machine"));
    }
    if look.own.iter().any(|own| own.port() == port && (own.ip().to_canonical() == plain || own.ip().is_unspecified()))
    {
        return Some(format!("{ip} port {port} is this service itself"));
    }
    if !look.networks.iter().any(|n| n.contains(plain)) {
        let all: Vec<String> = look.networks.iter().map(ToString::to_string).collect();
        return Some(format!(
            "{ip} is in none of the networks in which this service looks ({}): see --validate-in",
            all.join(", ")
        ));
    }
    None
}

/// A connection to the first address that takes one.
async fn connect(name: &str, all: &[SocketAddr]) -> Result<TcpStream, Box<Problem>> {
    let mut why = Vec::new();
    for at in all {
        match tokio::time::timeout(CONNECT, TcpStream::connect(at)).await {
            Ok(Ok(stream)) => return Ok(stream),
            Ok(Err(e)) => why.push(format!("{at}: {}", worded(&e))),
            Err(_) => why.push(format!("{at}: no answer within {} seconds", CONNECT.as_secs())),
        }
    }
    Err(problem(
        ProblemType::Connection,
        format!(
            "{name} could not be reached ({}): is its server running, and does a firewall let this service through?",
            why.join("; ")
        ),
    ))
}

fn worded(e: &std::io::Error) -> &'static str {
    match e.kind() {
        std::io::ErrorKind::ConnectionRefused => "nothing listens there",
        std::io::ErrorKind::ConnectionReset => "the connection was reset",
        std::io::ErrorKind::HostUnreachable | std::io::ErrorKind::NetworkUnreachable => "there is no way to it",
        std::io::ErrorKind::TimedOut => "no answer",
        _ => "the connection failed",
    }
}
