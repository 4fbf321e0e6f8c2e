//! The installed clients themselves, run against a server in throw-away surroundings that see the person's stores.

#[cfg(unix)]
pub mod chromium;
#[cfg(windows)]
#[path = "not_run.rs"]
pub mod chromium;
pub mod compiled;
pub mod curl;
pub mod firefox;
pub mod git;
pub mod psql;
pub mod script;
pub mod wget;

use crate::places::Machine;
use compiled::Compiled;
use script::Runtime;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;
use tamga_core::check::client::{Client, Outcome, there};
use tamga_core::check::page::Page;
use tamga_core::stores::trust::firefox::usual_profile;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::harmless;

/// What a client really did.
#[derive(Clone, Debug)]
pub struct Observed {
    /// What it did.
    pub outcome: Outcome,
    /// Its own error code or text.
    pub code: Option<String>,
    /// What it printed, for `--verbose`.
    pub raw: String,
    /// What a browser found in the page, where one was asked for and shown.
    pub page: Option<Page>,
}

impl Observed {
    fn accepts(raw: impl Into<String>) -> Observed {
        Observed { outcome: Outcome::Accepts, code: None, raw: raw.into(), page: None }
    }

    fn refuses(code: impl Into<String>, raw: impl Into<String>) -> Observed {
        Observed { outcome: Outcome::Refuses, code: Some(code.into()), raw: raw.into(), page: None }
    }
}

/// One visit.
#[derive(Clone, Debug)]
pub struct Visit {
    /// The host asked for.
    pub host: Name,
    /// Where it is reached.
    pub address: SocketAddr,
    /// The path of the page whose parts count as well; None if only the connection counts.
    pub page: Option<String>,
    /// PostgreSQL's protocol is spoken there, not HTTPS.
    pub of_database: bool,
}

impl Visit {
    /// True if a client speaks the protocol of this visit.
    pub fn is_for(&self, client: Client) -> bool {
        client.is_of_one_protocol() == self.of_database
    }

    /// `https://host:port/`, with the path of the page.
    pub fn url(&self) -> String {
        format!("https://{}:{}{}", self.host_in_url(), self.address.port(), self.page.as_deref().unwrap_or("/"))
    }

    fn host_in_url(&self) -> String {
        match &self.host {
            Name::Ip(std::net::IpAddr::V6(a)) => format!("[{a}]"),
            other => other.to_string(),
        }
    }
}

/// How a client is run.
enum Runner {
    /// One process for each visit, a few at a time.
    Each(fn(&Path, &Machine, &Visit) -> Observed),
    /// One process for all visits, in order.
    All(fn(&Path, &Machine, &[Visit]) -> Vec<Observed>),
    /// The same, by a script.
    Script(Runtime),
    /// The same, by a program that is compiled first.
    Compiled(Compiled),
}

fn runner(client: Client) -> Option<Runner> {
    Some(match client {
        Client::Standard | Client::Safari | Client::Windows => return None,
        Client::Curl => Runner::Each(curl::visit),
        Client::Chromium => Runner::All(chromium::visits),
        Client::Firefox => Runner::All(firefox::visits),
        Client::Node => Runner::Script(Runtime::Node),
        Client::Python => Runner::Script(Runtime::Python),
        Client::Bun => Runner::Script(Runtime::Bun),
        Client::Grpc => Runner::Script(Runtime::Grpc),
        Client::Ruby => Runner::Script(Runtime::Ruby),
        Client::Php => Runner::Script(Runtime::Php),
        Client::Deno => Runner::Script(Runtime::Deno),
        Client::Git => Runner::Each(git::visit),
        Client::Psql => Runner::Each(psql::visit),
        Client::Java => Runner::Compiled(Compiled::Java),
        Client::Go => Runner::Compiled(Compiled::Go),
        Client::Gnutls => Runner::Each(wget::visit),
    })
}

/// Where the program of a client is, if it is one whose rules are known, and can be run here.
fn program(client: Client, machine: &Machine) -> Option<PathBuf> {
    let found = there::program(client, machine)?;
    let is_known = match client {
        Client::Chromium => cfg!(unix),
        // Who has no profile does not use it.
        Client::Firefox => usual_profile(machine).is_some(),
        Client::Gnutls => there::wget_has_gnutls(machine),
        Client::Git => {
            // The program is the real one even where the machine's files are below another root.
            let prefix = found.ancestors().nth(2)?;
            let helper = there::HELPERS.iter().find_map(|h| crate::fs::read_regular(&prefix.join(h)).ok())?;
            there::names_gnutls(&helper)
        }
        Client::Grpc => script::has_grpc(machine, &found),
        _ => true,
    };
    is_known.then_some(found)
}

/// True if a client can be run here.
pub fn is_installed(client: Client, machine: &Machine) -> bool {
    program(client, machine).is_some()
}

/// Makes the visits with one client, in order. None where it has no program.
pub fn observe(client: Client, machine: &Machine, visits: &[Visit]) -> Option<Vec<Observed>> {
    let program = program(client, machine)?;
    Some(match runner(client)? {
        Runner::Each(visit) => side_by_side(visits, |v| visit(&program, machine, v)),
        Runner::All(all) => all(&program, machine, visits),
        Runner::Script(runtime) => runtime.visits(&program, machine, visits),
        Runner::Compiled(compiled) => compiled.visits(&program, machine, visits),
    })
}

/// The same with several clients side by side; those without a program are left out. The order stays. `answered` hears of each as
/// soon as it is done.
pub fn observe_all(
    all: &[Client],
    machine: &Machine,
    visits: &[Visit],
    answered: impl Fn(Client, &[Observed]) + Sync,
) -> Vec<(Client, Vec<Observed>)> {
    let one = |client: Client| {
        let seen = observe(client, machine, visits)?;
        answered(client, &seen);
        Some(seen)
    };
    std::thread::scope(|s| {
        let running: Vec<_> = all.iter().map(|c| (*c, s.spawn(|| one(*c)))).collect();
        let ended = running.into_iter().map(|(c, thread)| (c, thread.join().unwrap_or(None)));
        ended.filter_map(|(c, seen)| Some((c, seen?))).collect()
    })
}

/// For programs that make one visit each, a few at a time; in the order of the visits.
fn side_by_side(visits: &[Visit], one: impl Fn(&Visit) -> Observed + Sync) -> Vec<Observed> {
    const AT_ONCE: usize = 4;
    let some = |n: usize| visits.iter().enumerate().filter(move |(i, _)| i % AT_ONCE == n);
    let mut all: Vec<(usize, Observed)> = std::thread::scope(|s| {
        let one = &one;
        let work = |n: usize| move || some(n).map(|(i, v)| (i, one(v))).collect::<Vec<_>>();
        let running: Vec<_> = (0..AT_ONCE.min(visits.len())).map(|n| s.spawn(work(n))).collect();
        running.into_iter().flat_map(|thread| thread.join().unwrap_or_default()).collect()
    });
    all.sort_by_key(|(i, _)| *i);
    let mut all = all.into_iter().peekable();
    let lost = || failed("the visit was not made");
    (0..visits.len()).map(|i| all.next_if(|(n, _)| *n == i).map_or_else(lost, |(_, o)| o)).collect()
}

/// What a program that ends with words did: they say that it took the certificate, or that it did not. Words that are in neither list leave
/// it open: nobody was met, or something else went wrong.
fn by_words(
    ended: &crate::process::Ended,
    words: String,
    taken: &[&str],
    refused: &[&str],
    limit: Duration,
) -> Observed {
    let raw = harmless(ended.errors.as_received().trim());
    let has = |all: &[&str]| all.iter().any(|w| words.contains(w));
    match ended.code {
        Some(0) => Observed::accepts(raw),
        Some(_) if has(taken) => Observed::accepts(raw),
        Some(_) if has(refused) => Observed::refuses(words, raw),
        Some(_) => failed(raw),
        None => failed(format!("it did not end within {} seconds", limit.as_secs())),
    }
}

fn failed(why: impl Into<String>) -> Observed {
    let why = why.into();
    Observed { outcome: Outcome::Unknown, code: Some(why.clone()), raw: why, page: None }
}
