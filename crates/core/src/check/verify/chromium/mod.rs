//! Chromium's own verifier (with BoringSSL's path builder) and what its network stack makes of it. Measured with Chromium 156.

pub mod names;
pub mod parsed;
mod words;

use super::{Trail, parts};
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{RawExtension, id};
use crate::pki::chain::policies;
use crate::pki::key::{P256, P384, P521, Shape};
use crate::pki::signature::{Hash, Scheme};
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::JudgedPurpose;
use parsed::{Parsed, parse};
use words::{Status, WORDS, words_of};
pub use words::{all_words, words};

/// A longer handshake message is not taken.
const MOST_OCTETS: usize = 100 * 1024;
/// Certificates below the trust anchor at most. Measured: of 104 chains of 11 to 41 served certificates, those of up to 20
/// are accepted and no others.
const MOST_DEPTH: usize = 20;
/// Steps after which the search for a path ends.
const MOST_STEPS: usize = 20_000;

/// Critical extensions that it processes.
const KNOWN: &[&[u8]] = &[
    id::BASIC_CONSTRAINTS,
    id::KEY_USAGE,
    id::EXTENDED_KEY_USAGE,
    id::NAME_CONSTRAINTS,
    id::SUBJECT_ALT_NAME,
    id::CERTIFICATE_POLICIES,
    id::POLICY_MAPPINGS,
    id::POLICY_CONSTRAINTS,
    id::INHIBIT_ANY_POLICY,
];

/// An objection's word, and where.
type Objection = (&'static str, usize, String);

struct Run<'a> {
    input: &'a Input<'a>,
    without: Option<&'static str>,
    anchors: Vec<Parsed<'a>>,
    steps: usize,
}

/// What Chromium makes of a chain. `without` leaves one objection out.
pub fn predict(input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    // The store finds certificates by their serial numbers, which must be written as DER has it.
    let minimal = |c: &&Certificate| parts::is_minimal(&c.raw.serial);
    let anchors = input.anchors.iter().filter(minimal).filter_map(parse).collect();
    let mut run = Run { input, without, anchors, steps: 0 };
    let (path, objections) = run.all();
    let mut trail = Trail::new(without);
    trail.path = path;
    for (word, depth, detail) in objections {
        let code = WORDS.iter().find(|w| w.0 == word).map_or(Code::Malformed, |w| w.1);
        let leaf = input.served.first();
        let code = match (code, depth) {
            (Code::Expired, 1..) => Code::IssuerExpired,
            (Code::Expired, 0) if leaf.is_some_and(|l| input.at < l.not_before) => Code::NotYetValid,
            (Code::IssuerUnknown, 0) if leaf.is_some_and(Certificate::is_self_signed) => Code::SelfSignedLeaf,
            (code, _) => code,
        };
        trail.object(word, code, depth, detail);
    }
    let statuses = || trail.objections.iter().filter_map(|o| WORDS.iter().find(|w| w.0 == o.word)).map(|w| w.2);
    // A reason that has no error of its own counts only where the path has none that has.
    let mapped = statuses().any(|s| matches!(s, Status::Authority | Status::Weak | Status::Date));
    let counted = |s: &Status| !(mapped && *s == Status::Other);
    let grave = |s: Status| if s == Status::Other { Status::Invalid } else { s };
    let worst = statuses().filter(counted).map(grave).min();
    let (outcome, code) = match worst.map(words_of) {
        Some((outcome, words)) => (outcome, Some(words.to_owned())),
        None => (Outcome::Accepts, None),
    };
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Verdict { client: Client::Chromium, outcome, code, judgement, documented: false }
}

impl<'a> Run<'a> {
    fn all(&mut self) -> (Vec<Certificate>, Vec<Objection>) {
        let first: Vec<Certificate> = self.input.served.first().cloned().into_iter().collect();
        let one = |word| vec![(word, 0, String::new())];
        let Some(leaf) = self.input.served.first() else { return (first, Vec::new()) };
        if self.input.served_length() > MOST_OCTETS {
            return (first, one("too-large"));
        }
        let usage = leaf.raw.extension(id::KEY_USAGE);
        let unreadable_usage = usage.is_some_and(|e| parts::bits(&e.value).is_none());
        if unreadable_usage || matches!(leaf.key.shape(), Shape::Ec { explicit: true, .. }) {
            return (first, one("cannot-parse-leaf"));
        }
        let takes = match leaf.key.shape() {
            Shape::Ec { curve, .. } => [P256, P384].contains(&curve),
            Shape::Rsa { pss_only, .. } => !pss_only,
            _ => false,
        };
        if !takes {
            return (first, one("key-kind"));
        }
        let mut out = Vec::new();
        let signs =
            usage.is_none_or(|e| parts::bits(&e.value).is_some_and(|(_, o)| o.first().is_some_and(|b| b & 0x80 != 0)));
        if self.input.purpose == Some(JudgedPurpose::Server) && !signs && self.minds("leaf-usage") {
            out.push(("leaf-usage", 0, "digitalSignature".into()));
        }
        if parsed::is_bad_format(&leaf.raw) {
            out.extend(one("bad-format"));
            return (first, out);
        }
        let Some(parsed) = parse(leaf) else {
            out.push(("unreadable", 0, leaf.subject_words()));
            return (first, out);
        };
        if self.input.spoken.key_mismatch {
            out.push(("key-mismatch", 0, String::new()));
        }
        let (path, more) = self.path(&parsed);
        out.extend(more);
        out.extend(self.unknown_algorithm(&path).filter(|o| !out.iter().any(|other| other.0 == o.0)));
        if self.input.name.is_some_and(|n| !names::covers(parsed.names.as_deref().unwrap_or_default(), n)) {
            out.push(("name", 0, leaf.name_words().join(", ")));
        }
        if self.input.spoken.demands_client {
            out.push(("client", 0, String::new()));
        }
        (path.iter().map(|c| c.certificate.clone()).collect(), out)
    }

    /// Whichever path was found, complete or not, its algorithms are looked at again, but for its last certificate's: one that it has no
    /// name for ends all.
    fn unknown_algorithm(&self, path: &[Parsed<'a>]) -> Option<Objection> {
        let (_, signed) = path.split_last()?;
        let of = |c: &Parsed<'_>| match c.certificate.raw.inner_algorithm == c.certificate.raw.outer_algorithm {
            false => Some("algorithms-differ"),
            true => (!is_acceptable(Scheme::of(&c.certificate.algorithm))).then_some("algorithm"),
        };
        let (at, word) = signed.iter().enumerate().find_map(|(i, c)| Some((i, of(c)?)))?;
        self.minds(word).then(|| (word, at, path[at].certificate.subject_words()))
    }

    /// The first path without an objection; else the first that was tried.
    fn path(&mut self, leaf: &Parsed<'a>) -> (Vec<Parsed<'a>>, Vec<Objection>) {
        let served: Vec<Parsed<'a>> = super::served(self.input).skip(1).filter_map(parse).collect();
        let mut best: Option<(Vec<Parsed<'a>>, Vec<Objection>)> = None;
        self.follow(&served, &mut vec![leaf.clone()], &mut best);
        best.unwrap_or_else(|| (vec![leaf.clone()], vec![("no-issuers", 0, leaf.certificate.issuer_words())]))
    }

    /// True once a good path is found.
    fn follow(
        &mut self,
        served: &[Parsed<'a>],
        path: &mut Vec<Parsed<'a>>,
        best: &mut Option<(Vec<Parsed<'a>>, Vec<Objection>)>,
    ) -> bool {
        self.steps += 1;
        let Some(top) = path.last().cloned() else { return false };
        let mut keep = |path: &[Parsed<'a>], objections: Vec<Objection>| {
            let done = objections.is_empty();
            if done || best.is_none() {
                *best = Some((path.to_vec(), objections));
            }
            done
        };
        if self.steps > MOST_STEPS {
            keep(path, vec![("iterations", path.len() - 1, String::new())]);
            return false;
        }
        if path.len() > MOST_DEPTH {
            let why = self.minds("depth").then(|| ("depth", path.len() - 1, top.certificate.subject_words()));
            return keep(path, why.into_iter().collect());
        }
        let issuers = self.issuers(&top, served);
        let mut tried = false;
        for (is_anchor, issuer) in issuers {
            let again = |p: &Parsed<'_>| {
                p.subject == issuer.subject && p.certificate.key == issuer.certificate.key && p.names == issuer.names
            };
            let itself = is_anchor && path.len() == 1 && issuer.certificate == top.certificate;
            if !itself && path.iter().any(again) {
                continue;
            }
            tried = true;
            path.push(issuer);
            let done = if is_anchor {
                let objections = self.verify(path);
                let mut keep = |path: &[Parsed<'a>], objections: Vec<Objection>| {
                    let done = objections.is_empty();
                    if done || best.is_none() {
                        *best = Some((path.to_vec(), objections));
                    }
                    done
                };
                keep(path, objections)
            } else {
                self.follow(served, path, best)
            };
            path.pop();
            if done {
                return true;
            }
        }
        if !tried && best.is_none() {
            let mut objections = vec![("no-issuers", path.len() - 1, top.certificate.issuer_words())];
            objections.extend(path.first().and_then(|c| self.dates(c, 0)));
            objections.retain(|o| self.minds(o.0));
            *best = Some((path.clone(), objections));
        }
        false
    }

    fn minds(&self, word: &str) -> bool {
        self.without != Some(word)
    }

    /// Who may have issued it: trusted ones first, those with a contradicting identifier last, newer ones before older.
    fn issuers(&self, top: &Parsed<'a>, served: &[Parsed<'a>]) -> Vec<(bool, Parsed<'a>)> {
        let mut all: Vec<(u8, (i64, i64), bool, Parsed<'a>)> = Vec::new();
        // The store finds names by their octets, what was served is compared by its text.
        let of_store =
            self.anchors.iter().filter(|a| a.certificate.subject == top.certificate.issuer).map(|a| (true, a));
        let of_server = served.iter().filter(|c| c.subject == top.issuer).map(|c| (false, c));
        for (trusted, c) in of_store.chain(of_server) {
            let trusted = trusted || self.anchors.iter().any(|a| a.certificate == c.certificate);
            if all.iter().any(|(.., known)| known.certificate == c.certificate) {
                continue;
            }
            let fit = match (&top.issuer_key, &c.own_key) {
                (Some(a), Some(b)) if a == b => 0,
                (Some(_), Some(_)) => 2,
                _ => 1,
            };
            let rank = match (trusted, fit) {
                (true, 0) => 0,
                (true, 1) => 1,
                (false, 0) => 2,
                (false, 1) => 3,
                (true, _) => 4,
                (false, _) => 5,
            };
            all.push((rank, (-c.not_before, -c.not_after), trusted, c.clone()));
        }
        all.sort_by_key(|(rank, newest, ..)| (*rank, *newest));
        all.into_iter().map(|(_, _, trusted, c)| (trusted, c)).collect()
    }

    /// RFC 5280 §6.1 with the anchor's own constraints (RFC 5937 §3.2).
    fn verify(&self, path: &[Parsed<'a>]) -> Vec<Objection> {
        let mut out: Vec<Objection> = Vec::new();
        let words = |i: usize| path[i].certificate.subject_words();
        let root = path.len() - 1;
        let distrusted = |c: &Certificate| {
            self.input.distrusted.contains(&c.sha256()) || self.input.distrusted_keys.contains(&c.key.fingerprint())
        };
        if let Some(at) = path.iter().position(|c| distrusted(c.certificate)) {
            return vec![("distrusted", at, "it is marked as distrusted".into())];
        }
        let mut push = |word, depth, detail: String| {
            if self.minds(word) {
                out.push((word, depth, detail));
            }
        };
        let anchor = &path[root];
        let mut lists: Vec<&(parts::Constraints, bool)> = anchor.constraints.iter().collect();
        let mut most = usize::MAX;
        let mut ended = false;
        for (word, detail) in self.of_anchor(anchor) {
            push(word, root, detail);
        }
        if key_fault(anchor.certificate) == Some("public-key") {
            return out;
        }
        if let Some(length) = anchor.path_length {
            most = usize::from(length);
        }
        let certificates: Vec<Certificate> = path.iter().map(|c| c.certificate.clone()).collect();
        let lacking = policies::missing_under(&certificates);
        for i in (0..root).rev() {
            let (c, issuer) = (&path[i], &path[i + 1]);
            if c.certificate.raw.inner_algorithm != c.certificate.raw.outer_algorithm {
                push("algorithms-differ", i, words(i));
                ended = true;
            } else if !is_acceptable(Scheme::of(&c.certificate.algorithm)) {
                push("algorithm", i, words(i));
                ended = true;
            } else if key_fault(issuer.certificate).is_none() && c.certificate.signed_by(issuer.certificate).is_err() {
                // Another key, and it says so itself: this is no issuer at all.
                let other = matches!((&c.issuer_key, &issuer.own_key), (Some(a), Some(b)) if a != b);
                push(if other { "no-issuers" } else { "signature" }, i, c.certificate.issuer_words());
                ended = true;
            }
            if ended {
                break;
            }
            if let Some((word, depth, detail)) = self.dates(c, i) {
                push(word, depth, detail);
            }
            if c.issuer != issuer.subject {
                push("chaining", i, words(i));
            }
            if i == 0 || !c.is_self_issued() {
                for (by, critical) in &lists {
                    if let Some(name) = names::forbidden(c, by, *critical) {
                        push("constraints", i, parts::shown(&name));
                    }
                }
            }
            if lacking == Some(i) {
                push("policy", i, words(i));
            }
            if !self.serves(c) {
                push("purpose", i, words(i));
            }
            if let Some(o) = key_fault(c.certificate) {
                push(o, i, words(i));
                if o == "public-key" {
                    break;
                }
            }
            if i > 0 {
                lists.extend(&c.constraints);
                match c.basic {
                    None => push("no-basic", i, words(i)),
                    Some(false) => push("no-ca", i, words(i)),
                    Some(true) => {}
                }
                if !c.is_self_issued() {
                    if most == 0 {
                        push("path-length", i, words(i));
                    }
                    most = most.saturating_sub(1);
                }
                if let Some(length) = c.path_length {
                    most = most.min(usize::from(length));
                }
                if c.usage.is_some_and(|u| u & 0x04 == 0) {
                    push("ca-usage", i, words(i));
                }
            }
            if let Some(unknown) = unconsumed(c) {
                push("critical", i, unknown);
            }
        }
        out
    }

    /// What it minds about the anchor itself.
    fn of_anchor(&self, anchor: &Parsed<'a>) -> Vec<(&'static str, String)> {
        let words = anchor.certificate.subject_words();
        let mut out: Vec<(&'static str, String)> = Vec::new();
        out.extend(key_fault(anchor.certificate).map(|word| (word, words.clone())));
        out.extend(self.dates(anchor, 1).map(|(word, _, detail)| (word, detail)));
        if anchor.usage.is_some_and(|u| u & 0x04 == 0) {
            out.push(("ca-usage", words.clone()));
        }
        if !self.serves(anchor) {
            out.push(("purpose", words.clone()));
        }
        if anchor.basic == Some(false) {
            out.push(("no-ca", words));
        }
        out.extend(unconsumed(anchor).map(|unknown| ("critical", unknown)));
        out
    }

    fn dates(&self, c: &Parsed<'_>, depth: usize) -> Option<Objection> {
        let at = self.input.at.unix();
        let detail = match depth {
            0 if at < c.not_before => c.certificate.not_before.to_string(),
            0 => c.certificate.not_after.to_string(),
            _ => c.certificate.subject_words(),
        };
        (at < c.not_before || at > c.not_after).then_some(("dates", depth, detail)).filter(|o| self.minds(o.0))
    }

    fn serves(&self, c: &Parsed<'_>) -> bool {
        let one = |p: &Vec<u8>| [parts::SERVER_AUTH, parts::ANY_PURPOSE].contains(&p.as_slice());
        self.input.purpose != Some(JudgedPurpose::Server) || c.purposes.as_ref().is_none_or(|all| all.iter().any(one))
    }
}

fn unconsumed(c: &Parsed<'_>) -> Option<String> {
    let unknown = |e: &&RawExtension| e.is_critical() && !KNOWN.contains(&e.id.as_slice());
    let e = c.certificate.raw.extensions.iter().flatten().find(unknown)?;
    Some(const_oid::ObjectIdentifier::from_bytes(&e.id).map(|o| o.to_string()).unwrap_or_default())
}

fn is_acceptable(scheme: Scheme) -> bool {
    let strong = |h: Hash| matches!(h, Hash::Sha256 | Hash::Sha384 | Hash::Sha512);
    match scheme {
        Scheme::Pkcs1(hash) | Scheme::Ecdsa(hash) => strong(hash),
        Scheme::Pss { hash, mask, salt } => strong(hash) && hash == mask && salt == hash.length(),
        Scheme::Ed25519 | Scheme::Other => false,
    }
}

/// What it minds about a key.
fn key_fault(c: &Certificate) -> Option<&'static str> {
    match c.key.shape() {
        Shape::Rsa { pss_only: true, .. } | Shape::Other | Shape::Unreadable | Shape::Ed25519 => Some("public-key"),
        Shape::Ec { explicit: true, .. } => Some("public-key"),
        Shape::Ec { curve, .. } if ![P256, P384, P521].contains(&curve) => Some("weak-key"),
        Shape::Rsa { bits, .. } if bits < 1024 => Some("weak-key"),
        Shape::Ec { .. } | Shape::Rsa { .. } => None,
    }
}

/// Whether it finds the host in a certificate.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    parse(leaf).is_some_and(|p| names::covers(p.names.as_deref().unwrap_or_default(), host))
}
