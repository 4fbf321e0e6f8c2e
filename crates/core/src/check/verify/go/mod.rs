//! Go's crypto/x509 and crypto/tls. Measured with Go 1.19 on Debian 12.

pub mod constraints;
pub mod parse;
mod words;

use super::Trail;
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::key::Shape;
use crate::pki::signature::{Hash, Scheme};
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::JudgedPurpose;
use crate::vocabulary::text::harmless;
use parse::{Parsed, parse};
use words::{LEGACY, WORDS};
pub use words::{all_words, words};

/// A handshake message longer than this is not taken.
const MOST_OCTETS: usize = 65_536;
/// So many signatures are checked for one chain.
const MOST_SIGNATURES: usize = 100;

fn code_of(word: &str) -> Code {
    WORDS.iter().find(|w| w.0 == word).map_or(Code::Malformed, |w| w.1)
}

/// Why something does not stand: the objection's word, where, and what Go says.
#[derive(Clone, Debug)]
struct Refusal {
    word: &'static str,
    depth: usize,
    text: String,
    code: Code,
}

fn refusal(word: &'static str, depth: usize, text: impl Into<String>) -> Refusal {
    Refusal { word, depth, text: text.into(), code: code_of(word) }
}

struct Run<'a> {
    input: &'a Input<'a>,
    without: Option<&'static str>,
    roots: Vec<Parsed<'a>>,
    intermediates: Vec<Parsed<'a>>,
    signatures: usize,
    /// Where the program itself ends.
    panicked: Option<Refusal>,
    /// The longest way that was tried, for showing.
    tried: Vec<Certificate>,
}

/// What Go makes of a chain. `without` leaves one objection out.
pub fn predict(input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let mut trail = Trail::new(without);
    let leaf = input.served.first();
    let (path, refusals) = verified(input, without);
    trail.path = if path.is_empty() { leaf.cloned().into_iter().collect() } else { path };
    let text = refusals.first().map(|r| harmless(&r.text));
    for r in &refusals {
        let detail = match r.code {
            Code::NameNotCovered => leaf.map(|l| l.name_words().join(", ")).unwrap_or_default(),
            Code::Expired if r.depth == 0 => leaf.map(|l| l.not_after.to_string()).unwrap_or_default(),
            Code::NotYetValid => leaf.map(|l| l.not_before.to_string()).unwrap_or_default(),
            Code::IssuerUnknown => trail.path.last().map(Certificate::issuer_words).unwrap_or_default(),
            Code::ConstraintViolated => r.text.split('"').nth(1).unwrap_or_default().to_owned(),
            _ => trail.path.get(r.depth).map(Certificate::subject_words).unwrap_or_default(),
        };
        trail.object(r.word, r.code, r.depth, harmless(&detail));
    }
    let refuses = !trail.objections.is_empty();
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Verdict {
        client: Client::Go,
        outcome: if refuses { Outcome::Refuses } else { Outcome::Accepts },
        code: text.filter(|_| refuses),
        judgement,
        documented: false,
    }
}

/// The path, and what Go minds; what it would mind besides comes behind.
fn verified(input: &Input<'_>, without: Option<&'static str>) -> (Vec<Certificate>, Vec<Refusal>) {
    let overhead = if input.spoken.is_tls12 { 3 + 3 * input.served_octets().len() } else { input.served_length() };
    let octets: usize = input.served_octets().iter().map(|d| d.len()).sum();
    let length = if input.spoken.is_tls12 { octets + overhead } else { overhead };
    if length > MOST_OCTETS {
        let text = format!("tls: handshake message of length {length} bytes exceeds maximum of {MOST_OCTETS} bytes");
        return (Vec::new(), vec![refusal("too-large", 0, text)]);
    }
    let unreadable =
        |why: String| refusal("parse", 0, format!("tls: failed to parse certificate from server: x509: {why}"));
    let mut served = Vec::new();
    let mut junk = input.spoken.junk.iter().peekable();
    for (i, c) in input.served.iter().chain(input.extra).enumerate() {
        if let Some((_, der)) = junk.next_if(|(place, _)| *place <= i + served.len().saturating_sub(i)) {
            return (Vec::new(), vec![unreadable(parse::of_junk(der))]);
        }
        match parse(c) {
            Ok(parsed) => served.push(parsed),
            Err(why) => return (Vec::new(), vec![unreadable(why)]),
        }
    }
    if let Some((_, der)) = junk.next() {
        return (Vec::new(), vec![unreadable(parse::of_junk(der))]);
    }
    if served.is_empty() {
        return (Vec::new(), Vec::new());
    }
    let leaf = served.remove(0);
    let roots: Vec<Parsed<'_>> = input.anchors.iter().filter_map(|a| parse(a).ok()).collect();
    let mut run =
        Run { input, without, roots, intermediates: served, signatures: 0, panicked: None, tried: Vec::new() };
    let mut refusals = Vec::new();
    refusals.extend(run.valid(&leaf, &[], false, false).err());
    refusals.extend(input.name.filter(|_| run.minds("name")).and_then(|host| unnamed(&leaf, host)));
    let (path, more) = run.chains(&leaf);
    refusals.extend(more);
    refusals.extend(leaf_key(&leaf));
    if input.spoken.demands_client && input.spoken.is_tls12 {
        refusals.push(refusal("client", 0, "remote error: tls: certificate required"));
    }
    if input.spoken.key_mismatch {
        let text = "tls: invalid signature by the server certificate: ECDSA verification failure or tls: invalid signature by the server certificate: crypto/rsa: verification error or tls: certificate used with invalid signature algorithm or tls: peer doesn't support the certificate's key";
        refusals.push(refusal("signature", 0, text));
    }
    if input.spoken.demands_client && !input.spoken.is_tls12 {
        refusals.push(refusal("client", 0, "remote error: tls: certificate required"));
    }
    (path, refusals)
}

/// A leaf's key that Go does not know: it says so only once the chain is good.
fn leaf_key(leaf: &Parsed<'_>) -> Option<Refusal> {
    (!leaf.has_key)
        .then(|| refusal("key", 0, "tls: server's certificate contains an unsupported type of public key: <nil>"))
}

impl<'a> Run<'a> {
    fn minds(&self, word: &str) -> bool {
        self.without != Some(word)
    }

    /// Whether one certificate may stand where it stands.
    fn valid(&self, c: &Parsed<'a>, below: &[&Parsed<'a>], is_root: bool, issues: bool) -> Result<(), Refusal> {
        let depth = below.len();
        if c.unhandled && self.minds("unhandled") {
            return Err(refusal("unhandled", depth, "x509: unhandled critical extension"));
        }
        let at = self.input.at.unix();
        if (at < c.not_before || at > c.not_after) && self.minds("expired") {
            let mut why = refusal("expired", depth, "x509: certificate has expired or is not yet valid");
            why.code = match (depth, at < c.not_before) {
                (0, true) => Code::NotYetValid,
                (0, false) => Code::Expired,
                _ => Code::IssuerExpired,
            };
            return Err(why);
        }
        if issues
            && c.has_constraints
            && let Some(leaf) = below.first()
            && self.minds("constraint")
            && let Err((why, whole)) = constraints::check(&leaf.names, &c.permitted, &c.excluded)
        {
            let text = if whole {
                why
            } else {
                format!("x509: a root or intermediate certificate is not authorized to sign for this name: {why}")
            };
            return Err(refusal("constraint", 0, text));
        }
        if issues && !is_root && c.basic != Some(true) && self.minds("not-a-ca") {
            return Err(refusal("not-a-ca", depth, "x509: certificate is not authorized to sign other certificates"));
        }
        let between = i64::try_from(below.len()).unwrap_or(i64::MAX) - 1;
        if c.path_length.is_some_and(|most| most >= 0 && between > most) && self.minds("path-length") {
            return Err(refusal("path-length", depth, "x509: too many intermediates for path length constraint"));
        }
        Ok(())
    }

    /// The first chain that is good for a server, or why there is none.
    fn chains(&mut self, leaf: &Parsed<'a>) -> (Vec<Certificate>, Option<Refusal>) {
        if self.roots.iter().any(|r| r.certificate == leaf.certificate) {
            let path = vec![leaf.certificate.clone()];
            return (path, self.purpose(&[leaf]));
        }
        let found = self.build(&[leaf]);
        let found = self.panicked.take().map_or(found, Err);
        let certificates = |chain: &[Parsed<'a>]| chain.iter().map(|c| c.certificate.clone()).collect::<Vec<_>>();
        match found {
            Err(why) => {
                let path = std::mem::take(&mut self.tried);
                (path, Some(why))
            }
            Ok(chains) => {
                let mut last = None;
                for chain in &chains {
                    let refs: Vec<&Parsed<'a>> = chain.iter().collect();
                    match self.purpose(&refs) {
                        None => return (certificates(chain), None),
                        why => last = why,
                    }
                }
                (chains.first().map(|c| certificates(c)).unwrap_or_default(), last)
            }
        }
    }

    fn build(&mut self, below: &[&Parsed<'a>]) -> Result<Vec<Vec<Parsed<'a>>>, Refusal> {
        let Some(child) = below.last() else { return Ok(Vec::new()) };
        if below.len() > self.tried.len() {
            self.tried = below.iter().map(|c| c.certificate.clone()).collect();
        }
        let mut chains = Vec::new();
        let mut why: Option<Refusal> = None;
        let all = [(true, parents(&self.roots, child)), (false, parents(&self.intermediates, child))];
        for (is_root, candidates) in all {
            for candidate in candidates {
                // Go 1.19 ends with a panic where it compares a key that it does not know.
                if !candidate.has_key && below.iter().any(|c| c.certificate.subject == candidate.certificate.subject) {
                    let text = "panic: interface conversion: interface is nil, not x509.pubKeyEqual";
                    self.panicked.get_or_insert_with(|| refusal("panic", below.len(), text));
                }
                if already(&candidate, below) {
                    continue;
                }
                self.signatures += 1;
                if self.signatures > MOST_SIGNATURES && self.minds("signature-limit") {
                    let text = "x509: signature check attempts limit reached while verifying certificate chain";
                    why = Some(refusal("signature-limit", below.len(), text));
                    continue;
                }
                if !signed(child, &candidate) {
                    continue;
                }
                if let Err(e) = self.valid(&candidate, below, is_root, true) {
                    why = Some(e);
                    continue;
                }
                why = None;
                let mut longer: Vec<&Parsed<'a>> = below.to_vec();
                longer.push(&candidate);
                if is_root {
                    chains.push(longer.into_iter().cloned().collect());
                } else {
                    match self.build(&longer) {
                        Ok(more) => chains.extend(more),
                        Err(e) => why = Some(e),
                    }
                }
            }
        }
        if !chains.is_empty() || !self.minds("unknown-authority") {
            return Ok(chains);
        }
        let unknown = || {
            let mut r = refusal("unknown-authority", below.len() - 1, "x509: certificate signed by unknown authority");
            if below.len() == 1 && child.certificate.is_self_signed() {
                r.code = Code::SelfSignedLeaf;
            }
            r
        };
        Err(why.unwrap_or_else(unknown))
    }

    fn purpose(&self, chain: &[&Parsed<'a>]) -> Option<Refusal> {
        if self.input.purpose != Some(JudgedPurpose::Server) || !self.minds("purpose") {
            return None;
        }
        let serves = |c: &&&Parsed<'a>| {
            let one = |p: &Vec<u8>| [super::parts::SERVER_AUTH, super::parts::ANY_PURPOSE].contains(&p.as_slice());
            c.purposes.is_empty() || c.purposes.iter().any(one)
        };
        let depth = chain.iter().rposition(|c| !serves(&c))?;
        Some(refusal("purpose", depth, "x509: certificate specifies an incompatible key usage"))
    }
}

/// Those whose name is the issuer's: first those whose identifier fits, then those that have none, then the rest.
fn parents<'a>(all: &[Parsed<'a>], child: &Parsed<'a>) -> Vec<Parsed<'a>> {
    let mut found: Vec<(u8, Parsed<'a>)> = all
        .iter()
        .filter(|c| c.certificate.subject == child.certificate.issuer)
        .map(|c| {
            let rank = match (c.own_key == child.issuer_key, c.own_key.is_empty() != child.issuer_key.is_empty()) {
                (true, _) => 0,
                (false, true) => 1,
                _ => 2,
            };
            (rank, c.clone())
        })
        .collect();
    found.sort_by_key(|f| f.0);
    found.into_iter().map(|f| f.1).collect()
}

fn relies_on_common_name(leaf: &Parsed<'_>, host: &str) -> bool {
    let common = super::parts::common_names(&leaf.certificate.subject).pop();
    let common = common.and_then(|(tag, o)| super::parts::text(tag, &o)).unwrap_or_default();
    !leaf.has_names && labels_fit(&common, host)
}

/// What Go says if the leaf does not name the host.
fn unnamed(leaf: &Parsed<'_>, host: &Name) -> Option<Refusal> {
    let text = match host {
        Name::Ip(a) => {
            let plain = |a: &std::net::IpAddr| a.to_canonical();
            if leaf.addresses.iter().any(|own| plain(own) == plain(a)) {
                return None;
            }
            if relies_on_common_name(leaf, &a.to_string()) {
                return Some(refusal("name", 0, LEGACY));
            }
            let all: Vec<String> = leaf.addresses.iter().map(|a| plain(a).to_string()).collect();
            match all.is_empty() {
                true => format!("x509: cannot validate certificate for {a} because it doesn't contain any IP SANs"),
                false => format!("x509: certificate is valid for {}, not {a}", all.join(", ")),
            }
        }
        Name::Dns(d) => {
            if leaf.dns.iter().any(|n| fits(n, d)) {
                return None;
            }
            let names = leaf.dns.join(", ");
            if relies_on_common_name(leaf, d) {
                LEGACY.to_owned()
            } else if names.is_empty() {
                format!("x509: certificate is not valid for any names, but wanted to match {d}")
            } else {
                format!("x509: certificate is valid for {names}, not {d}")
            }
        }
        _ => return None,
    };
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    Some(refusal("name", 0, text))
}

/// True if the chain already has a certificate of the same subject, key and alternative names.
fn already(candidate: &Parsed<'_>, below: &[&Parsed<'_>]) -> bool {
    let names = |c: &Parsed<'_>| {
        c.certificate.raw.extension(crate::pki::cert::raw::id::SUBJECT_ALT_NAME).map(|e| e.value.clone())
    };
    below.iter().any(|c| {
        c.certificate.subject == candidate.certificate.subject
            && c.certificate.key == candidate.certificate.key
            && names(c) == names(candidate)
    })
}

/// Whether it may have signed, and did.
fn signed(child: &Parsed<'_>, parent: &Parsed<'_>) -> bool {
    if (parent.version == 3 && parent.basic.is_none()) || parent.basic == Some(false) {
        return false;
    }
    if parent.usage != 0 && parent.usage & 0x04 == 0 {
        return false;
    }
    let fits = match (Scheme::of(&child.certificate.algorithm), parent.certificate.key.shape()) {
        (Scheme::Pkcs1(Hash::Sha256 | Hash::Sha384 | Hash::Sha512), Shape::Rsa { pss_only: false, .. }) => true,
        (Scheme::Pss { hash, mask, salt }, Shape::Rsa { pss_only: false, .. }) => {
            matches!(hash, Hash::Sha256 | Hash::Sha384 | Hash::Sha512) && hash == mask && salt == hash.length()
        }
        (Scheme::Ecdsa(Hash::Sha256 | Hash::Sha384 | Hash::Sha512), Shape::Ec { .. }) => true,
        (Scheme::Ed25519, Shape::Ed25519) => true,
        _ => false,
    };
    fits && child.certificate.signed_by(parent.certificate).is_ok()
}

fn fits(pattern: &str, host: &str) -> bool {
    let host = host.to_ascii_lowercase();
    if is_host(&host, false) && is_host(pattern, true) {
        return labels_fit(pattern, &host);
    }
    !matches!(pattern, "" | ".") && !matches!(host.as_str(), "" | ".") && pattern.eq_ignore_ascii_case(&host)
}

fn labels_fit(pattern: &str, host: &str) -> bool {
    let (pattern, host) = (pattern.to_ascii_lowercase(), host.to_ascii_lowercase());
    let host = host.strip_suffix('.').unwrap_or(&host);
    if pattern.is_empty() || host.is_empty() {
        return false;
    }
    let (wanted, labels): (Vec<&str>, Vec<&str>) = (pattern.split('.').collect(), host.split('.').collect());
    wanted.len() == labels.len()
        && wanted.iter().zip(labels).enumerate().all(|(i, (w, l))| (i == 0 && *w == "*") || *w == l)
}

fn is_host(host: &str, is_pattern: bool) -> bool {
    let host = if is_pattern { host } else { host.strip_suffix('.').unwrap_or(host) };
    if host.is_empty() {
        return false;
    }
    host.split('.').enumerate().all(|(i, part)| {
        let plain = |(j, c): (usize, char)| c.is_ascii_alphanumeric() || c == '_' || (c == '-' && j != 0);
        !part.is_empty() && ((is_pattern && i == 0 && part == "*") || part.char_indices().all(plain))
    })
}

/// Whether it finds the host in a certificate.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    parse(leaf).is_ok_and(|leaf| unnamed(&leaf, host).is_none())
}
