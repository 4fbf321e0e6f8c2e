//! OpenSSL 3.0's procedure, and what programs make of it. Measured with 3.0.19 on Debian 12.

mod boring;
pub mod cached;
pub mod constraints;
mod ends;
mod every;
pub mod names;
mod programs;
pub mod readable;
mod steps;
pub mod text;
mod words;

use super::Trail;
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::seconds;
use crate::pki::key::Shape;
use crate::vocabulary::name::Name;
use cached::Cached;
use ends::End;
pub use every::{all_words, words};
use programs::Comparison;
use words::{MISMATCH, found};

/// What stands first in its queue of errors once it has met an extension that it cannot read.
const INVALID_CERTIFICATE: &str = "(35) error:1100009E:X509 V3 routines::invalid certificate";

/// The most certificates in a chain.
const MOST_DEPTH: usize = 101;

/// PHP asks for fewer, the anchor among them.
const MOST_PHP: usize = 10;

/// What a program sets.
struct Manner {
    client: Client,
    /// The strength that keys and hashes must have, in bits.
    strength: usize,
    /// A trusted certificate that is no root ends a path.
    partial: bool,
    /// When the host's name is compared.
    comparison: Comparison,
    /// It goes on after an objection, and reports the last.
    goes_on: bool,
    /// BoringSSL, which grew from the same code and took other ways.
    boring: bool,
}

fn manner(client: Client) -> Manner {
    // Debian sets security level 2 (112 bits).
    let usual =
        Manner { client, strength: 112, partial: true, comparison: Comparison::Late, goes_on: false, boring: false };
    match client {
        Client::Python => Manner { partial: false, comparison: Comparison::Early, ..usual },
        Client::Ruby => Manner { partial: false, comparison: Comparison::Midway, ..usual },
        Client::Php | Client::Psql => Manner { partial: false, ..usual },
        // Node.js comes with level 1 of its own.
        Client::Node => Manner { strength: 80, partial: false, goes_on: true, ..usual },
        Client::Bun => Manner { strength: 0, partial: false, goes_on: true, boring: true, ..usual },
        Client::Grpc => Manner { strength: 0, boring: true, ..usual },
        _ => usual,
    }
}

struct Run<'a> {
    input: &'a Input<'a>,
    manner: Manner,
    trail: Trail,
    /// What stands first in the library's queue of errors: curl shows it instead of the verdict.
    queued: Option<String>,
}

impl Run<'_> {
    fn object(&mut self, name: &'static str, depth: usize, detail: impl Into<String>) {
        self.trail.object(name, found(name).code, depth, detail);
    }

    /// True if the procedure ends here: most programs let it end at the first objection.
    fn queue(&mut self, text: &str) {
        if self.trail.objections.is_empty() || self.manner.goes_on {
            self.queued.get_or_insert_with(|| text.to_owned());
        }
    }
}

/// What a client with OpenSSL makes of a chain. `without` leaves one objection out.
pub fn predict(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let verdict = with_roots_as_they_lie(client, input, without);
    if client != Client::Bun || verdict.outcome == Outcome::Accepts || input.anchors.len() < 2 {
        return verdict;
    }
    // Of several roots of a name Bun ends with one that does, whatever their order.
    let other: Vec<Certificate> = input.anchors.iter().rev().cloned().collect();
    let second = with_roots_as_they_lie(client, &Input { anchors: &other, ..*input }, without);
    let fewer = second.judgement.faults.len() < verdict.judgement.faults.len();
    if second.outcome == Outcome::Accepts || fewer { second } else { verdict }
}

fn with_roots_as_they_lie(client: Client, input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let mut run = Run { input, manner: manner(client), trail: Trail::new(without), queued: None };
    if run.manner.boring
        && let Some(word) = boring::at_once(client, input, without)
    {
        return run.ended_before(word);
    }
    if let Some(refused) = unreadable(client, input) {
        return refused;
    }
    if run.manner.boring
        && let Some(word) = boring::before(input, without)
    {
        return run.ended_before(word);
    }
    let path = run.chain();
    run.trail.path = path;
    let mut said = run.handshake().or_else(|| run.said());
    if said.is_none()
        && run.manner.boring
        && let Some(word) = boring::afterwards(input, without)
    {
        return run.ended_before(word);
    }
    if said.is_none() {
        said = run.afterwards();
    }
    let outcome = if said.is_some() { Outcome::Refuses } else { Outcome::Accepts };
    let judgement = Judgement { path: run.trail.path.clone(), faults: run.trail.faults() };
    Verdict { client, outcome, code: said, judgement, documented: false }
}

/// A message longer than this is not taken.
const MOST_OCTETS: usize = 100 * 1024;

/// What ends the handshake before any chain is looked at.
fn unreadable(client: Client, input: &Input<'_>) -> Option<Verdict> {
    let of = |word: &str, curl: String, node: String, python: &str| {
        let mut trail = Trail::new(None);
        trail.path = input.served.first().cloned().into_iter().collect();
        trail.object("UNREADABLE", Code::Malformed, 0, word);
        let code = match client {
            Client::Python => python.to_owned(),
            Client::Node => node,
            // It shows the last of the queue.
            Client::Ruby if !python.starts_with("EXCESSIVE") => "ASN1 lib".to_owned(),
            Client::Ruby | Client::Php | Client::Psql => programs::queued(client, &curl),
            // Too long a message has one name in both libraries.
            Client::Grpc if python.starts_with("EXCESSIVE") => python.to_owned(),
            Client::Bun if python.starts_with("EXCESSIVE") => node,
            Client::Bun => "ERR_SSL_DECODE_ERROR or ERR_BORINGSSL".to_owned(),
            Client::Grpc => "DECODE_ERROR or INVALID_INTEGER or INVALID_UTF8STRING or INVALID_VERSION".to_owned(),
            _ => curl,
        };
        let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
        Some(Verdict { client, outcome: Outcome::Refuses, code: Some(code), judgement, documented: false })
    };
    if input.served_length() > MOST_OCTETS {
        let words = "excessive message size";
        let curl = format!("(35) error:0A000098:SSL routines::{words}");
        return of(words, curl, "ERR_SSL_EXCESSIVE_MESSAGE_SIZE".into(), "EXCESSIVE_MESSAGE_SIZE");
    }
    let reason = input.served_octets().into_iter().find_map(readable::fault)?;
    let curl = format!("(35) error:{}:asn1 encoding routines::{}", reason.number, reason.words);
    of(reason.words, curl, reason.node(), "[SSL] ASN1 lib")
}

impl<'a> Run<'a> {
    /// Builds, and objects; gives the path.
    fn chain(&mut self) -> Vec<Certificate> {
        let served: Vec<Cached<'a>> = super::served(self.input).map(|c| self.cached(c)).collect();
        let Some(leaf) = served.first() else { return Vec::new() };
        if leaf.invalid {
            self.queue(INVALID_CERTIFICATE);
        }
        if leaf.key_strength().is_none_or(|s| s < self.manner.strength) {
            self.object("EE_KEY_TOO_SMALL", 0, leaf.certificate.key.strength().to_string());
        }
        let named = |a: &&Certificate| {
            let subject = text::canonical(&a.subject);
            served.iter().any(|c| c.issuer == subject) || self.input.served.contains(a)
        };
        let anchors = above(self.input.anchors, named, self.manner.boring);
        let path = self.build(&served, &anchors);
        if self.manner.client == Client::Php && path.len() > MOST_PHP {
            self.object("CERT_CHAIN_TOO_LONG", MOST_PHP, path[MOST_PHP].certificate.subject_words());
        }
        self.extensions(&path);
        self.strengths(&path);
        let name = |run: &mut Run<'_>, now: Comparison| {
            if run.manner.comparison == now {
                run.name(path[0]);
            }
        };
        name(self, Comparison::Early);
        self.signatures_and_dates(&path);
        name(self, Comparison::Midway);
        self.name_constraints(&path);
        if self.manner.boring {
            self.policies(&path);
        }
        name(self, Comparison::Late);
        path.iter().map(|c| c.certificate.clone()).collect()
    }

    /// Trusted certificates first; where none fits, what was served.
    fn build<'b>(&mut self, served: &'b [Cached<'a>], anchors: &'b [Cached<'a>]) -> Vec<&'b Cached<'a>> {
        let mut path = vec![&served[0]];
        let mut pool: Vec<&Cached<'a>> = served.iter().collect();
        let mut untrusted = 1;
        let (mut from_served, mut trusted) = (true, false);
        loop {
            let top = path[path.len() - 1];
            let issuer = if path.len() > MOST_DEPTH { None } else { self.best(top, anchors.iter(), &[]) };
            if let Some(issuer) = issuer {
                let taken = if !top.self_signed {
                    path.push(issuer);
                    true
                } else if path.len() == untrusted {
                    // A root that came along is replaced by the very same in the store.
                    let same = top.certificate == issuer.certificate;
                    if same {
                        untrusted -= 1;
                        let last = path.len() - 1;
                        path[last] = issuer;
                    }
                    same
                } else {
                    true
                };
                if taken {
                    from_served = false;
                    if path[untrusted.min(path.len())..].iter().any(|c| c.self_signed) || self.manner.partial {
                        trusted = true;
                        break;
                    }
                    if !path[path.len() - 1].self_signed {
                        continue;
                    }
                }
            }
            if !from_served {
                break;
            }
            let ends = top.self_signed || path.len() > MOST_DEPTH;
            let issuer = if ends { None } else { self.best(top, pool.iter().copied(), &path) };
            match issuer {
                None => from_served = false,
                Some(issuer) => {
                    pool.retain(|c| !std::ptr::eq(*c, issuer));
                    path.push(issuer);
                    untrusted += 1;
                }
            }
        }
        let may_be_its_own = self.manner.partial || self.manner.boring && path[0].self_issued;
        if !trusted && path.len() == untrusted && may_be_its_own {
            // The leaf itself may lie in the store.
            if let Some(own) = anchors.iter().find(|a| a.certificate == path[0].certificate) {
                path[0] = own;
                return path;
            }
        }
        if !trusted {
            let (depth, top) = (path.len() - 1, path[path.len() - 1]);
            let words = top.certificate.issuer_words();
            if path.len() > MOST_DEPTH {
                self.object("CERT_CHAIN_TOO_LONG", depth, words);
            } else if top.self_signed {
                let name = if path.len() == 1 { "DEPTH_ZERO_SELF_SIGNED_CERT" } else { "SELF_SIGNED_CERT_IN_CHAIN" };
                self.object(name, depth, words);
            } else if untrusted < path.len() {
                self.object("UNABLE_TO_GET_ISSUER_CERT", depth, words);
            } else {
                // To BoringSSL one that may not issue is no root, even if it signed itself.
                let alone = self.manner.boring && depth == 0 && top.self_issued;
                let code = if alone { Code::SelfSignedLeaf } else { Code::IssuerUnknown };
                self.trail.object("UNABLE_TO_GET_ISSUER_CERT_LOCALLY", code, depth, words);
            }
        }
        path
    }

    /// The first issuer that is valid now; else, of those that fit, the one that ended or ends last.
    fn best<'b>(
        &mut self,
        of: &Cached<'a>,
        all: impl Iterator<Item = &'b Cached<'a>>,
        path: &[&Cached<'a>],
    ) -> Option<&'b Cached<'a>>
    where
        'a: 'b,
    {
        let mut nearest: Option<&Cached<'a>> = None;
        for c in all {
            let again = path.iter().any(|p| p.certificate == c.certificate);
            let may_repeat = of.self_issued && path.len() == 1;
            if (again && !may_repeat) || !self.may_be_issuer(of, c) {
                if c.invalid && c.subject == of.issuer {
                    self.queue(INVALID_CERTIFICATE);
                }
                continue;
            }
            if self.manner.boring || self.holds_now(c) {
                return Some(c);
            }
            let end = |c: &Cached<'_>| seconds(&c.certificate.raw.not_after);
            if nearest.is_none_or(|n| end(c) > end(n)) {
                nearest = Some(c);
            }
        }
        nearest
    }

    fn cached<'c>(&self, c: &'c Certificate) -> Cached<'c> {
        let cached = Cached::of(c);
        if self.manner.boring { boring::adapted(cached) } else { cached }
    }

    fn may_be_issuer(&self, of: &Cached<'_>, issuer: &Cached<'_>) -> bool {
        match self.manner.boring {
            true => of.named_after(issuer) && boring::may_issue(issuer),
            false => of.likely_issued_by(issuer),
        }
    }

    fn holds_now(&self, c: &Cached<'_>) -> bool {
        let at = self.input.at.unix();
        let (from, until) = (seconds(&c.certificate.raw.not_before), seconds(&c.certificate.raw.not_after));
        from.is_some_and(|t| t < at) && until.is_some_and(|t| t > at)
    }

    fn name(&mut self, leaf: &Cached<'_>) {
        let Some(host) = self.input.name else { return };
        if !programs::fits(self.manner.client, leaf, host) {
            let names = leaf.certificate.name_words().join(", ");
            self.object(MISMATCH, 0, names);
        }
    }

    /// What ends the handshake once the chain was looked at: only a program that goes on after an objection gets there.
    fn handshake(&mut self) -> Option<String> {
        let minded = self.trail.objections.iter().any(|o| programs::is_of_library(self.manner.comparison, o.word));
        if minded && !self.manner.goes_on {
            return None;
        }
        let spoken = &self.input.spoken;
        // Up to TLS 1.2 an EC key must be one for signatures; what is invalid has no usage at all.
        let cannot_sign = spoken.is_tls12
            && self.input.served.first().is_some_and(|leaf| {
                let c = Cached::of(leaf);
                let signs = !c.invalid && c.usage.is_none_or(|u| u & cached::DIGITAL_SIGNATURE != 0);
                matches!(leaf.key.shape(), Shape::Ec { .. }) && !signs
            });
        let ends = [
            (spoken.key_mismatch, End::KeyMismatch),
            (cannot_sign, End::NotForSigning),
            (spoken.demands_client && spoken.is_tls12 && !(minded && self.manner.boring), End::ClientWanted),
        ];
        ends.into_iter().filter(|e| e.0).find_map(|e| self.ended(e.1))
    }

    /// What ends a connection of which the chain is good.
    fn afterwards(&mut self) -> Option<String> {
        let no_name = matches!(self.manner.client, Client::Curl)
            && self.trail.path.first().is_some_and(|c| crate::pki::cert::subject::is_empty(&c.issuer));
        let ends = [(no_name, End::NoIssuerName), (self.input.spoken.demands_client, End::ClientWanted)];
        ends.into_iter().filter(|e| e.0).find_map(|e| self.ended(e.1))
    }

    fn ended(&mut self, end: End) -> Option<String> {
        if self.trail.without == Some(end.word()) {
            return None;
        }
        self.trail.object(end.word(), end.code(), 0, "");
        Some(end.said(self.manner.client).to_owned())
    }

    /// A verdict before any chain is built.
    fn ended_before(mut self, (word, code, said): boring::Before) -> Verdict {
        self.trail.path = self.input.served.first().cloned().into_iter().collect();
        self.trail.object(word, code, 0, "");
        let said = said[usize::from(self.manner.client == Client::Bun)].to_owned();
        let judgement = Judgement { path: self.trail.path.clone(), faults: self.trail.faults() };
        Verdict {
            client: self.manner.client,
            outcome: Outcome::Refuses,
            code: Some(said),
            judgement,
            documented: false,
        }
    }

    /// What the program prints.
    fn said(&self) -> Option<String> {
        let own = |o: &&super::Objection| programs::is_of_library(self.manner.comparison, o.word);
        let of_library = || self.trail.objections.iter().filter(own);
        let chosen = if self.manner.goes_on { of_library().next_back() } else { of_library().next() };
        let chosen = chosen.or_else(|| self.trail.objections.last())?;
        let client = self.manner.client;
        if chosen.word == MISMATCH {
            let leaf = Cached::of(&self.trail.path[0]);
            return self.input.name.map(|host| programs::mismatch(client, &leaf, host));
        }
        match &self.queued {
            // curl, PHP and psql show the first of the queue.
            Some(text) if client == Client::Curl => Some(text.clone()),
            Some(text) if matches!(client, Client::Php | Client::Psql) => Some(programs::queued(client, text)),
            _ => Some(programs::printed(client, found(chosen.word))),
        }
    }
}

/// Whether a program finds the host in a certificate.
pub fn covers(client: Client, leaf: &Certificate, host: &Name) -> bool {
    programs::fits(client, &Cached::of(leaf), host)
}

/// The anchors that can stand above what was served, or above one another.
fn above<'a>(anchors: &'a [Certificate], named: impl Fn(&&Certificate) -> bool, boring: bool) -> Vec<Cached<'a>> {
    let cached = |c: &'a Certificate| if boring { boring::adapted(Cached::of(c)) } else { Cached::of(c) };
    // What it cannot read is in no store of its own.
    let readable = |a: &&Certificate| readable::fault(a.der()).is_none() && (!boring || boring::is_read(a));
    let near: Vec<Cached<'a>> = anchors.iter().filter(named).filter(readable).map(cached).collect();
    if near.iter().all(|c| c.self_issued) {
        return near;
    }
    // A trusted intermediate has an issuer of its own.
    anchors.iter().filter(readable).map(cached).collect()
}
