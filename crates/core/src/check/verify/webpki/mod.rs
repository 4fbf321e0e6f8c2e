//! rustls' procedure (webpki) as Deno asks for it: every path is tried, and of all that went wrong the most telling is said. Measured with
//! Deno 2.9.

pub mod names;
mod parsed;

use super::Trail;
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::key::{P256, P384, P521, PublicKey, Shape};
use crate::pki::signature::{Hash, Scheme};
use crate::vocabulary::name::Name;
use crate::vocabulary::timestamp::Timestamp;
use parsed::Parsed;

/// So many certificates may stand between leaf and anchor.
const MOST_BETWEEN: usize = 6;

/// A handshake message holds no more.
const MOST_OCTETS: usize = 0xffff;

/// So many signatures are verified for one chain.
const MOST_SIGNATURES: usize = 100;

/// What it minds: the name under which it is left out, what it is to us, how telling it is, and what Deno prints of it.
pub(super) struct Word(&'static str, Code, u32, &'static str);

const WORDS: &[Word] = &[
    Word("not-yet", Code::NotYetValid, 290, "certificate not valid yet"),
    Word("expired", Code::Expired, 290, "certificate expired"),
    Word("name", Code::NameNotCovered, 280, "certificate not valid for name"),
    Word("signature", Code::BadSignature, 260, "BadSignature"),
    Word("two-algorithms", Code::Malformed, 250, "Other(OtherError(SignatureAlgorithmMismatch))"),
    Word("no-purpose", Code::PurposeMissing, 245, "Other(OtherError(EmptyEkuExtension))"),
    Word(
        "purpose",
        Code::PurposeMissing,
        240,
        "certificate does not allow extended key usage for server authentication",
    ),
    Word("constraints", Code::ConstraintViolated, 230, "Other(OtherError(NameConstraintViolation))"),
    Word("path-length", Code::PathTooLong, 220, "Other(OtherError(PathLenConstraintViolated))"),
    Word("authority-as-leaf", Code::SelfSignedLeaf, 210, "Other(OtherError(CaUsedAsEndEntity))"),
    Word("leaf-as-authority", Code::IntermediateNotACa, 210, "Other(OtherError(EndEntityUsedAsCa))"),
    Word("validity", Code::Malformed, 190, "Expired"),
    Word("mask", Code::ConstraintViolated, 180, "Other(OtherError(InvalidNetworkMaskConstraint))"),
    Word("algorithm-for-key", Code::KeyKindUnsupported, 150, "UnsupportedSignatureAlgorithmForPublicKeyContext"),
    Word("algorithm", Code::WeakSignature, 140, "UnsupportedSignatureAlgorithmContext"),
    Word("critical", Code::CriticalExtensionUnknown, 130, "Other(OtherError(UnsupportedCriticalExtension))"),
    Word("version", Code::Malformed, 130, "Other(OtherError(UnsupportedCertVersion))"),
    Word("depth", Code::PathTooLong, 61, "Other(OtherError(MaximumPathDepthExceeded))"),
    Word("name-form", Code::Malformed, 60, "Other(OtherError(MalformedDnsIdentifier))"),
    Word("constraint-form", Code::ConstraintViolated, 50, "Other(OtherError(MalformedNameConstraint))"),
    Word("twice", Code::Malformed, 30, "Other(OtherError(ExtensionValueInvalid))"),
    Word("time", Code::Malformed, 20, "BadEncoding"),
    Word("encoding", Code::Malformed, 10, "BadEncoding"),
    Word("unknown", Code::IssuerUnknown, 0, "UnknownIssuer"),
    Word("signatures", Code::PathTooLong, 0, "Other(OtherError(MaximumSignatureChecksExceeded))"),
    Word("length", Code::Malformed, 0, "received corrupt message of type HandshakePayloadTooLarge"),
    Word("client", Code::ClientCertificateWanted, 0, "received fatal alert: CertificateRequired or broken pipe"),
    Word("key-mismatch", Code::KeyMismatch, 0, "BadSignature"),
];

fn found(word: &str) -> &'static Word {
    WORDS.iter().find(|w| w.0 == word).unwrap_or(&WORDS[0])
}

/// Something that ended a path.
#[derive(Clone, Debug)]
pub(super) struct Fault {
    pub(super) word: &'static str,
    depth: usize,
    detail: String,
}

impl Fault {
    pub(super) fn new(word: &'static str) -> Fault {
        Fault { word, depth: 0, detail: String::new() }
    }

    fn at(mut self, depth: usize, detail: impl Into<String>) -> Fault {
        (self.depth, self.detail) = (depth, detail.into());
        self
    }

    /// The one of two that says more; of equals the earlier.
    fn or(self, other: Fault) -> Fault {
        if found(self.word).2 >= found(other.word).2 { self } else { other }
    }
}

type Checked<T = ()> = Result<T, Fault>;

/// What Deno makes of a chain. `without` leaves one objection out.
pub fn predict(input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let mut run = Run { input, without, signatures: MOST_SIGNATURES, path: Vec::new() };
    let fault = run.verify().err();
    let mut trail = Trail::new(without);
    trail.path.clone_from(&run.path);
    if let Some(f) = &fault {
        let code = match (found(f.word).1, f.depth) {
            (Code::Expired | Code::NotYetValid, 1..) => Code::IssuerExpired,
            (Code::IssuerUnknown, 0) if input.served.first().is_some_and(|c| c.is_self_issued()) => {
                Code::SelfSignedLeaf
            }
            (code, _) => code,
        };
        trail.object(f.word, code, f.depth, f.detail.clone());
    }
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    let outcome = if fault.is_some() { Outcome::Refuses } else { Outcome::Accepts };
    let code = fault.map(|f| found(f.word).3.to_owned());
    Verdict { client: Client::Deno, outcome, code, judgement, documented: false }
}

struct Run<'a> {
    input: &'a Input<'a>,
    without: Option<&'static str>,
    signatures: usize,
    /// The longest path that was looked at.
    path: Vec<Certificate>,
}

/// One certificate of a path, and all below it.
struct Node<'n, 'a> {
    parsed: &'n Parsed<'a>,
    below: Option<&'n Node<'n, 'a>>,
    depth: usize,
}

impl<'n, 'a> Node<'n, 'a> {
    /// From the top down.
    fn iter(&'n self) -> impl Iterator<Item = &'n Node<'n, 'a>> {
        std::iter::successors(Some(self), |n| n.below)
    }
}

impl<'a> Run<'a> {
    fn fails(&self, fault: Fault) -> Checked {
        if self.without == Some(fault.word) { Ok(()) } else { Err(fault) }
    }

    fn verify(&mut self) -> Checked {
        let Some(first) = self.input.served.first() else { return Err(Fault::new("encoding")) };
        self.path = vec![first.clone()];
        if self.input.served_length() > MOST_OCTETS {
            self.fails(Fault::new("length"))?;
        }
        let leaf = match Parsed::strict(first) {
            Ok(leaf) => leaf,
            Err(f) => {
                self.fails(f)?;
                Parsed::lenient(first)
            }
        };
        let node = Node { parsed: &leaf, below: None, depth: 0 };
        self.above(&node, 0)?;
        if let Some(host) = self.input.name {
            match names::covers(first, host) {
                Ok(true) => {}
                Ok(false) => self.fails(Fault::new("name").at(0, first.name_words().join(", ")))?,
                Err(f) => self.fails(f)?,
            }
        }
        let spoken = &self.input.spoken;
        if !speaks(first) {
            self.fails(Fault::new("algorithm-for-key").at(0, first.key.strength().to_string()))?;
        }
        if spoken.key_mismatch {
            self.fails(Fault::new("key-mismatch"))?;
        }
        if spoken.demands_client {
            self.fails(Fault::new("client"))?;
        }
        Ok(())
    }

    /// Whether a path leads from here to an anchor.
    fn above(&mut self, node: &Node<'_, 'a>, authorities: usize) -> Checked {
        self.alone(node, authorities)?;
        let words = node.parsed.certificate.issuer_words();
        let mut worst = Fault::new("unknown").at(node.depth, words);
        for anchor in self.input.anchors {
            let Some(anchor) = parsed::anchor(anchor) else { continue };
            if anchor.certificate.raw.subject != node.parsed.certificate.raw.issuer {
                continue;
            }
            match self.under(node, &anchor) {
                Ok(()) => {
                    let chain = node.iter().map(|n| n.parsed.certificate.clone()).collect::<Vec<_>>();
                    self.path = chain.into_iter().rev().chain([anchor.certificate.clone()]).collect();
                    return Ok(());
                }
                Err(f) if f.word == "signatures" => return Err(f),
                Err(f) => worst = worst.or(f),
            }
        }
        let others = self.input.served.iter().skip(1).chain(self.input.extra);
        let mut offered: Vec<Option<&'a Certificate>> = others.map(Some).collect();
        for (place, _) in self.input.spoken.junk {
            offered.insert(place.saturating_sub(1).min(offered.len()), None);
        }
        for candidate in offered {
            match self.through(node, candidate, authorities) {
                Ok(()) => return Ok(()),
                Err(f) if f.word == "signatures" => return Err(f),
                Err(f) => worst = worst.or(f),
            }
        }
        if worst.word == "unknown" { self.fails(worst) } else { Err(worst) }
    }

    fn through(&mut self, node: &Node<'_, 'a>, candidate: Option<&'a Certificate>, authorities: usize) -> Checked {
        let unknown = || Fault::new("unknown").at(node.depth, node.parsed.certificate.issuer_words());
        // What has not the shape of a certificate.
        let Some(candidate) = candidate else { return Err(Fault::new("encoding").at(node.depth + 1, "")) };
        let depth = node.depth + 1;
        let parsed = match Parsed::strict(candidate) {
            Ok(parsed) => parsed,
            Err(f) => {
                self.fails(f.at(depth, candidate.subject_words()))?;
                Parsed::lenient(candidate)
            }
        };
        if candidate.raw.subject != node.parsed.certificate.raw.issuer {
            return Err(unknown());
        }
        let same = |n: &Node<'_, '_>| {
            let c = n.parsed.certificate;
            c.key == candidate.key && c.raw.subject == candidate.raw.subject
        };
        if node.iter().any(same) {
            return Err(unknown());
        }
        if depth > MOST_BETWEEN {
            self.fails(Fault::new("depth").at(depth, candidate.subject_words()))?;
        }
        if self.path.len() < depth + 1 {
            let below: Vec<Certificate> = node.iter().map(|n| n.parsed.certificate.clone()).collect();
            self.path = below.into_iter().rev().chain([candidate.clone()]).collect();
        }
        let next = if node.depth == 0 { authorities } else { authorities + 1 };
        self.above(&Node { parsed: &parsed, below: Some(node), depth }, next)
    }

    /// What a certificate says by itself.
    fn alone(&self, node: &Node<'_, 'a>, authorities: usize) -> Checked {
        let (c, depth) = (node.parsed.certificate, node.depth);
        let words = || c.subject_words();
        let minds = |word: &'static str, detail: String| self.fails(Fault::new(word).at(depth, detail));
        match node.parsed.validity() {
            Err(f) => self.fails(f.at(depth, words()))?,
            Ok((from, until)) => {
                let at = self.input.at.unix();
                let shown = |t: i64| if depth == 0 { Timestamp::from_unix(t).to_string() } else { words() };
                if from > until {
                    minds("validity", words())?;
                } else if at < from {
                    minds("not-yet", shown(from))?;
                } else if at > until {
                    minds("expired", shown(until))?;
                }
            }
        }
        let (is_ca, most) = match node.parsed.basic() {
            Ok(read) => read,
            Err(f) => {
                self.fails(f.at(depth, words()))?;
                (depth > 0, None)
            }
        };
        match (depth, is_ca) {
            (0, true) => minds("authority-as-leaf", words())?,
            (1.., false) => minds("leaf-as-authority", words())?,
            (1.., true) if most.is_some_and(|m| authorities > m) => minds("path-length", words())?,
            _ => {}
        }
        match node.parsed.serves() {
            Ok(()) => Ok(()),
            Err(f) => self.fails(f.at(depth, words())),
        }
    }

    /// Signatures from an anchor down, then the constraints of everyone above.
    fn under(&mut self, node: &Node<'_, 'a>, anchor: &Parsed<'_>) -> Checked {
        let mut key = &anchor.certificate.key;
        let mut issuer = anchor.certificate;
        for n in node.iter() {
            let c = n.parsed.certificate;
            self.signatures = self.signatures.checked_sub(1).ok_or(Fault::new("signatures"))?;
            if let Err(word) = verifies(c, issuer, key) {
                self.fails(Fault::new(word).at(n.depth, c.subject_words()))?;
            }
            (key, issuer) = (&c.key, c);
        }
        let mut limits = anchor.constraints();
        for n in node.iter() {
            if let Some(by) = limits {
                for below in n.iter() {
                    if let Err(f) = names::within(below.parsed.certificate, by) {
                        let detail = if f.detail.is_empty() { issuer.subject_words() } else { f.detail.clone() };
                        self.fails(f.at(below.depth, detail))?;
                    }
                }
            }
            limits = n.parsed.constraints();
        }
        Ok(())
    }
}

/// Whether the leaf's key can sign a handshake.
fn speaks(leaf: &Certificate) -> bool {
    match leaf.key.shape() {
        Shape::Ec { curve, explicit, .. } => !explicit && [P256, P384, P521].contains(&curve),
        Shape::Rsa { pss_only, .. } => !pss_only,
        Shape::Ed25519 => true,
        _ => false,
    }
}

/// Which hash goes with which curve is fixed; RSA has 2048 to 8192 bits.
fn verifies(c: &Certificate, issuer: &Certificate, key: &PublicKey) -> Result<(), &'static str> {
    let bits = |n: usize| (2048..=8192).contains(&n);
    let known = match Scheme::of(&c.algorithm) {
        Scheme::Ecdsa(Hash::Sha256 | Hash::Sha384 | Hash::Sha512) | Scheme::Ed25519 => true,
        Scheme::Pkcs1(h) => matches!(h, Hash::Sha256 | Hash::Sha384 | Hash::Sha512),
        Scheme::Pss { hash, mask, salt } => {
            matches!(hash, Hash::Sha256 | Hash::Sha384 | Hash::Sha512) && hash == mask && salt == hash.length()
        }
        _ => false,
    };
    if !known {
        return Err("algorithm");
    }
    let fits = match (Scheme::of(&c.algorithm), key.shape()) {
        (Scheme::Ecdsa(_), Shape::Ec { curve, explicit: false, .. }) => [P256, P384, P521].contains(&curve),
        (Scheme::Ed25519, Shape::Ed25519) => true,
        (Scheme::Pkcs1(_) | Scheme::Pss { .. }, Shape::Rsa { pss_only: false, .. }) => true,
        _ => false,
    };
    if !fits {
        return Err("algorithm-for-key");
    }
    match key.shape() {
        Shape::Rsa { bits: n, .. } if !bits(n) => Err("signature"),
        _ => c.signed_by(issuer).map_err(|_| "signature"),
    }
}

/// Whether Deno finds the host in a certificate.
pub fn covers(leaf: &Certificate, host: &Name) -> bool {
    names::covers(leaf, host).unwrap_or(false)
}

/// Its words for a fault.
pub fn words(code: Code) -> Vec<String> {
    let same = |own: Code| match code {
        Code::IssuerExpired => matches!(own, Code::Expired | Code::NotYetValid),
        Code::SelfSignedLeaf => matches!(own, Code::SelfSignedLeaf | Code::IssuerUnknown),
        code => own == code,
    };
    super::distinct(WORDS.iter().filter(|w| same(w.1)).flat_map(|w| w.3.split(" or ").map(str::to_owned)))
}

/// Every objection: a test leaves out one after another.
pub fn all_words() -> Vec<&'static str> {
    WORDS.iter().map(|w| w.0).collect()
}
