//! The JVM's PKIX validator as JSSE asks for it. Measured with OpenJDK 17 on Debian 12.

pub mod names;
pub mod readable;
mod words;

use super::{Trail, parts};
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{RawExtension, id};
use crate::pki::chain::policies;
use crate::pki::key::Shape;
use crate::pki::signature::{Hash, Scheme};
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::JudgedPurpose;
use readable::{Held, read};
use words::WORDS;
pub use words::{all_words, words};

/// A longer chain is not looked at.
const MOST_SERVED: usize = 10;
/// A longer handshake message is not taken.
const MOST_OCTETS: usize = 32_768;
/// So many intermediates the builder puts into one path.
const MOST_BETWEEN: usize = 5;

struct Objection {
    word: &'static str,
    depth: usize,
    text: String,
}

/// Extensions that the checkers take off the list of those that must be understood.
const KNOWN: &[&[u8]] = &[
    id::KEY_USAGE,
    id::EXTENDED_KEY_USAGE,
    id::SUBJECT_ALT_NAME,
    id::BASIC_CONSTRAINTS,
    id::NAME_CONSTRAINTS,
    id::CERTIFICATE_POLICIES,
    id::POLICY_MAPPINGS,
    id::POLICY_CONSTRAINTS,
    id::INHIBIT_ANY_POLICY,
];

struct Run<'a> {
    input: &'a Input<'a>,
    without: Option<&'static str>,
    anchors: Vec<Held<'a>>,
}

/// A search for a path: the longest that was met, the steps that are left, and the anchor that ended it.
struct Search<'a> {
    longest: Vec<Held<'a>>,
    budget: usize,
    of_anchor: Option<Objection>,
}

/// What the JVM makes of a chain. `without` leaves one objection out.
pub fn predict(input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let anchors = input.anchors.iter().filter_map(read).collect();
    let run = Run { input, without, anchors };
    let (path, objections) = run.all();
    let mut trail = Trail::new(without);
    trail.path = path;
    let leaf = input.served.first();
    for o in &objections {
        let code = match (WORDS.iter().find(|w| w.0 == o.word).map_or(Code::Malformed, |w| w.1), o.depth) {
            (Code::Expired, 1..) => Code::IssuerExpired,
            (Code::Expired, 0) if leaf.is_some_and(|l| input.at < l.not_before) => Code::NotYetValid,
            (Code::IssuerUnknown, 0) if leaf.is_some_and(Certificate::is_self_signed) => Code::SelfSignedLeaf,
            (code, _) => code,
        };
        let own = trail.path.get(o.depth);
        let detail = match code {
            Code::NameNotCovered => leaf.map(|l| l.name_words().join(", ")).unwrap_or_default(),
            Code::Expired => leaf.map(|l| l.not_after.to_string()).unwrap_or_default(),
            Code::NotYetValid => leaf.map(|l| l.not_before.to_string()).unwrap_or_default(),
            Code::IssuerUnknown => own.map(Certificate::issuer_words).unwrap_or_default(),
            _ => own.map(Certificate::subject_words).unwrap_or_default(),
        };
        trail.object(o.word, code, o.depth, detail);
    }
    let text = objections.first().map(|o| o.text.clone());
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Verdict {
        client: Client::Java,
        outcome: if text.is_some() { Outcome::Refuses } else { Outcome::Accepts },
        code: text,
        judgement,
        documented: false,
    }
}

fn objection(word: &'static str, depth: usize) -> Objection {
    let text = WORDS.iter().find(|w| w.0 == word).map_or("", |w| w.2);
    Objection { word, depth, text: text.to_owned() }
}

impl<'a> Run<'a> {
    fn minds(&self, word: &str) -> bool {
        self.without != Some(word)
    }

    /// The path, and everything that it minds, what it says first.
    fn all(&self) -> (Vec<Certificate>, Vec<Objection>) {
        let first: Vec<Certificate> = self.input.served.first().cloned().into_iter().collect();
        let octets = self.input.served_octets();
        let length = match self.input.spoken.is_tls12 {
            true => 3 + octets.iter().map(|d| d.len() + 3).sum::<usize>(),
            false => self.input.served_length(),
        };
        if length > MOST_OCTETS {
            let text = format!("The size of the handshake message ({length}) exceeds the maximum allowed size (32768)");
            return (first, vec![Objection { text, ..objection("too-large", 0) }]);
        }
        if octets.len() > MOST_SERVED {
            return (first, vec![objection("too-many", 0)]);
        }
        let chain: Vec<Held<'a>> = super::served(self.input).filter_map(read).collect();
        if chain.len() < octets.len() {
            return (first, vec![objection("unreadable", 0)]);
        }
        let Some(leaf) = chain.first() else { return (first, Vec::new()) };
        let (path, mut objections) = self.chain(&chain);
        let trusted_itself = path.len() == 1 && objections.is_empty();
        if !trusted_itself {
            objections.extend(self.end_entity(leaf));
        }
        if self.minds("name")
            && let Some(host) = self.input.name
            && let Err(text) = names::host(leaf, host)
        {
            objections.push(Objection { text, ..objection("name", 0) });
        }
        let spoken = self.input.spoken;
        if spoken.key_mismatch {
            let text =
                "Invalid CertificateVerify signature or Invalid ECDH ServerKeyExchange signature or Invalid signature"
                    .into();
            objections.push(Objection { text, ..objection("key-mismatch", 0) });
        }
        if spoken.demands_client {
            let text = "Received fatal alert: certificate_required or Broken pipe or Connection reset".into();
            objections.push(Objection { text, ..objection("client", 0) });
        }
        (path.iter().map(|c| c.certificate.clone()).collect(), objections)
    }

    fn trusts(&self, c: &Held<'_>) -> bool {
        self.anchors.iter().any(|a| {
            a.certificate == c.certificate || (a.subject == c.subject && a.certificate.key == c.certificate.key)
        })
    }

    fn chain(&self, chain: &[Held<'a>]) -> (Vec<Held<'a>>, Vec<Objection>) {
        for (i, c) in chain.iter().enumerate() {
            if i > 0 && c.subject != chain[i - 1].issuer {
                return self.built(chain);
            }
            if i == 0 && self.anchors.iter().any(|a| a.certificate == c.certificate) {
                return (vec![c.clone()], Vec::new());
            }
            if i > 0 && self.trusts(c) {
                return self.validated(&chain[..i]);
            }
        }
        match chain.last().is_some_and(|last| self.anchors.iter().any(|a| a.subject == last.issuer)) {
            true => self.validated(chain),
            false => self.built(chain),
        }
    }

    /// Validates a chain as it stands, under each anchor that may have issued its last certificate.
    fn validated(&self, chain: &[Held<'a>]) -> (Vec<Held<'a>>, Vec<Objection>) {
        let Some(last) = chain.last() else { return (Vec::new(), Vec::new()) };
        let mut worst: Option<(Vec<Held<'a>>, Vec<Objection>)> = None;
        for anchor in self.anchors.iter().filter(|a| a.subject == last.issuer && identifiers_fit(a, last)) {
            let objections = self.under(chain, anchor);
            let path = chain.iter().cloned().chain([anchor.clone()]).collect();
            let done = objections.is_empty();
            worst = Some((path, objections));
            if done {
                break;
            }
        }
        worst.unwrap_or_else(|| {
            let mut all = vec![objection("no-anchor", chain.len() - 1)];
            all.extend(self.dates(&chain[0], 0));
            (chain.to_vec(), all.into_iter().filter(|o| self.minds(o.word)).collect())
        })
    }

    /// Searches a path among what was served, in any order.
    fn built(&self, chain: &[Held<'a>]) -> (Vec<Held<'a>>, Vec<Objection>) {
        let mut search = Search { longest: vec![chain[0].clone()], budget: 2_000, of_anchor: None };
        if let Some(path) = self.search(chain, &mut vec![chain[0].clone()], &mut search) {
            return (path, Vec::new());
        }
        let longest = search.longest;
        let mut all = vec![search.of_anchor.unwrap_or_else(|| objection("building", longest.len() - 1))];
        all.extend(self.dates(&chain[0], 0));
        (longest, all.into_iter().filter(|o| self.minds(o.word)).collect())
    }

    fn search(&self, chain: &[Held<'a>], path: &mut Vec<Held<'a>>, search: &mut Search<'a>) -> Option<Vec<Held<'a>>> {
        search.budget = search.budget.checked_sub(1)?;
        if path.len() > search.longest.len() {
            search.longest.clone_from(path);
        }
        let top = path.last()?.clone();
        for anchor in self.anchors.iter().filter(|a| a.subject == top.issuer) {
            let mut objections = self.under(path, anchor);
            if objections.is_empty() {
                return Some(path.iter().cloned().chain([anchor.clone()]).collect());
            }
            // An anchor that is none ends the whole search, where other objections only end this way.
            if objections.iter().all(|o| o.word.starts_with("anchor-")) {
                let mut o = objections.remove(0);
                o.text = o.text.replace("path validation", "path building");
                search.of_anchor = Some(o);
                search.longest = path.iter().cloned().chain([anchor.clone()]).collect();
                return None;
            }
        }
        if path.iter().skip(1).filter(|c| !c.is_self_issued()).count() >= MOST_BETWEEN {
            return None;
        }
        for next in chain.iter().filter(|c| c.subject == top.issuer) {
            if path.iter().any(|p| p.certificate == next.certificate) {
                continue;
            }
            path.push(next.clone());
            let found = self.search(chain, path, search);
            path.pop();
            if found.is_some() || search.of_anchor.is_some() {
                return found;
            }
        }
        None
    }

    /// Every checker, from the certificate under the anchor down to the leaf.
    fn under(&self, chain: &[Held<'a>], anchor: &Held<'a>) -> Vec<Objection> {
        let mut out = Vec::new();
        let mut object = |o: Objection| {
            if self.minds(o.word) {
                out.push(o);
            }
        };
        let mut most = i64::MAX;
        let mut limits: Vec<&parts::Constraints> = Vec::new();
        let path: Vec<Certificate> = chain.iter().chain([anchor]).map(|c| c.certificate.clone()).collect();
        let lacking = policies::missing(&path);
        for depth in (0..chain.len()).rev() {
            let c = &chain[depth];
            let issuer = chain.get(depth + 1).unwrap_or(anchor);
            if c.usage == Some(0) {
                object(objection("usage-bits", depth));
            }
            if let Some((word, why)) = forbidden(c, issuer) {
                let mut o = objection(word, depth);
                o.text.push_str(&why);
                object(o);
            }
            if depth > 0 {
                if c.usage.is_some_and(|u| u & 0x04 == 0) {
                    object(objection("ca-usage", depth));
                }
                let length = match c.version {
                    3 => c.path_length,
                    _ if depth + 1 == chain.len() && c.is_self_issued() => i64::MAX,
                    _ => -1,
                };
                if length == -1 {
                    object(objection("no-ca", depth));
                }
                if !c.is_self_issued() {
                    if most <= 0 {
                        object(objection("path-length", depth));
                    }
                    most = most.saturating_sub(1);
                }
                most = most.min(if length == -1 { most } else { length });
            }
            if depth == 0 || !c.is_self_issued() {
                for by in &limits {
                    match names::constrained(c, by, depth == 0) {
                        Ok(true) => {}
                        Ok(false) => object(objection("constraints", depth)),
                        Err(text) => object(Objection { text, ..objection("constraints", depth) }),
                    }
                }
            }
            limits.extend(&c.constraints);
            if lacking == Some(depth) {
                object(objection("policy", depth));
            }
            if let Some(o) = self.dates(c, depth) {
                object(o);
            }
            if parts::attributes(&c.certificate.issuer).is_none_or(|a| a.is_empty()) {
                let mut o = objection("chaining", depth);
                o.text.push_str(": empty/null issuer DN in certificate is invalid");
                object(o);
            } else if c.issuer != issuer.subject {
                object(objection("chaining", depth));
            }
            if c.certificate.signed_by(issuer.certificate).is_err() {
                object(objection("signature", depth));
            }
            let unknown = |e: &&RawExtension| e.is_critical() && !KNOWN.contains(&e.id.as_slice());
            if c.certificate.raw.extensions.iter().flatten().any(|e| unknown(&e)) {
                object(objection("critical", depth));
            }
        }
        if anchor.path_length == -1 && !(anchor.version < 3 && anchor.is_self_issued()) {
            object(objection("anchor-no-ca", chain.len()));
        }
        if anchor.usage.is_some_and(|u| u & 0x04 == 0) {
            object(objection("anchor-usage", chain.len()));
        }
        out
    }

    fn dates(&self, c: &Held<'_>, depth: usize) -> Option<Objection> {
        let at = self.input.at.unix();
        (at < c.not_before || at > c.not_after).then(|| objection("validity", depth))
    }

    fn end_entity(&self, leaf: &Held<'_>) -> Vec<Objection> {
        let mut out = Vec::new();
        if self.input.purpose != Some(JudgedPurpose::Server) {
            return out;
        }
        let takes = [parts::SERVER_AUTH, parts::ANY_PURPOSE, parts::STEP_UP_MICROSOFT, parts::STEP_UP_NETSCAPE];
        if leaf.purposes.as_ref().is_some_and(|all| !all.iter().any(|p| takes.contains(&p.as_slice()))) {
            out.push(objection("purpose", 0));
        }
        if leaf.usage.is_some_and(|u| u & 0x80 == 0) {
            out.push(objection("leaf-usage", 0));
        }
        let old = leaf.certificate.raw.extension(id::NETSCAPE_CERT_TYPE).and_then(|e| parts::bits(&e.value));
        if old.is_some_and(|(_, o)| o.first().is_none_or(|b| b & 0x40 == 0)) {
            out.push(objection("old-type", 0));
        }
        out.into_iter().filter(|o| self.minds(o.word)).collect()
    }
}

fn identifiers_fit(issuer: &Held<'_>, c: &Held<'_>) -> bool {
    let said = c.certificate.raw.extension(id::AUTHORITY_KEY_IDENTIFIER).and_then(|e| parts::authority_key(&e.value));
    let Some(said) = said else { return true };
    if let (Some(key), Some(own)) = (&said.key, issuer.certificate.raw.extension(id::SUBJECT_KEY_IDENTIFIER)) {
        let own = parts::first(&own.value).and_then(|t| t.expect(0x04));
        if own != Some(key.as_slice()) {
            return false;
        }
    }
    let serial = &issuer.certificate.raw.serial;
    issuer.version < 3 || said.serial.is_none_or(|s| readable::same_number(&s, serial))
}

/// Algorithms and keys that its settings forbid, with what it appends.
fn forbidden(c: &Held<'_>, issuer: &Held<'_>) -> Option<(&'static str, String)> {
    let key = if matches!(issuer.certificate.key.shape(), Shape::Ec { .. }) { "ECDSA" } else { "RSA" };
    let on = |name: &str| Some(("algorithm", format!(" on signature algorithm: {name}")));
    match Scheme::of(&c.certificate.algorithm) {
        Scheme::Pkcs1(Hash::Md5) => on("MD5withRSA"),
        Scheme::Pkcs1(Hash::Sha224) | Scheme::Ecdsa(Hash::Sha224) => on(&format!("SHA224with{key}")),
        _ => match issuer.certificate.key.shape() {
            Shape::Rsa { bits, .. } if bits < 1024 => Some(("key-size", String::new())),
            _ => None,
        },
    }
}

/// Whether it finds the host in a certificate.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    readable::read(leaf).is_some_and(|held| names::host(&held, host).is_ok())
}
