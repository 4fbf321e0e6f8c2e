//! Firefox: mozilla::pkix, and what the browser makes of it. Measured with Firefox ESR 153.

pub mod errors;
pub mod names;

use super::{Trail, parts};
use crate::check::client::case::Input;
use crate::check::client::judge::Judgement;
use crate::check::client::{Client, Outcome, Verdict};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::cert::raw::{Element, RawExtension, id, seconds};
use crate::pki::cert::subject::is_empty;
use crate::pki::format::tlv::{self, SEQUENCE};
use crate::pki::key::{P256, P384, P521, Shape};
use crate::pki::signature::{Hash, Scheme};
use crate::vocabulary::purpose::JudgedPurpose;
use errors::{Error, Kind};
pub use errors::{all_words, is_overridable, words};

/// So many authorities may stand between the leaf and the anchor.
const MOST_BETWEEN: usize = 6;
/// A longer certificate is not read.
const MOST_OCTETS: usize = 65_535;
/// Steps after which the search for a path ends.
const MOST_STEPS: usize = 20_000;

/// Extensions that it understands.
const KNOWN: &[&[u8]] = &[
    id::KEY_USAGE,
    id::SUBJECT_ALT_NAME,
    id::BASIC_CONSTRAINTS,
    id::NAME_CONSTRAINTS,
    id::CERTIFICATE_POLICIES,
    id::POLICY_CONSTRAINTS,
    id::EXTENDED_KEY_USAGE,
    id::INHIBIT_ANY_POLICY,
    id::AUTHORITY_INFO_ACCESS,
    id::TLS_FEATURES,
];

struct Run<'a> {
    input: &'a Input<'a>,
    without: Option<&'static str>,
    steps: usize,
    /// The path that was found, or the longest that was tried.
    path: Vec<&'a Certificate>,
}

/// What Firefox makes of a chain. `without` leaves one objection out.
pub fn predict(input: &Input<'_>, without: Option<&'static str>) -> Verdict {
    let mut run = Run { input, without, steps: 0, path: Vec::new() };
    let errors = run.all();
    let mut trail = Trail::new(without);
    trail.path = run.path.iter().map(|c| (*c).clone()).collect();
    for (error, depth) in &errors {
        let leaf = input.served.first();
        let detail = match error.code() {
            Code::NameNotCovered => leaf.map(|l| l.name_words().join(", ")).unwrap_or_default(),
            Code::Expired => leaf.map(|l| l.not_after.to_string()).unwrap_or_default(),
            Code::NotYetValid => leaf.map(|l| l.not_before.to_string()).unwrap_or_default(),
            Code::IssuerUnknown | Code::SelfSignedLeaf => {
                trail.path.last().map(Certificate::issuer_words).unwrap_or_default()
            }
            _ => trail.path.get(*depth).map(Certificate::subject_words).unwrap_or_default(),
        };
        trail.object(error.words(), error.code(), *depth, detail);
    }
    // One that nobody may override comes before all; else the issuer before the name, and the name before the time.
    let leaf_has_time = input.served.first().is_none_or(|l| validity(l).is_ok());
    let kind = |e: &Error| if leaf_has_time && e.kind() == Kind::Moment { Kind::Time } else { e.kind() };
    let said = errors.iter().map(|e| e.0).filter(|e| without != Some(e.words())).min_by_key(kind);
    let (outcome, code) = match said {
        None => (Outcome::Accepts, None),
        Some(e) if e.kind() == Kind::Fatal => (Outcome::Refuses, Some(e.words().to_owned())),
        Some(e) => (Outcome::Warns, Some(e.words().to_owned())),
    };
    let judgement = Judgement { path: trail.path.clone(), faults: trail.faults() };
    Verdict { client: Client::Firefox, outcome, code, judgement, documented: false }
}

type Checked = Result<(), Error>;

impl<'a> Run<'a> {
    fn all(&mut self) -> Vec<(Error, usize)> {
        let Some(leaf) = self.input.served.first() else { return Vec::new() };
        self.path = vec![leaf];
        let at_once = match leaf.key.shape() {
            Shape::Ed25519 | Shape::Other => Some(Error::NoCommonCipher),
            Shape::Ec { explicit: true, .. } | Shape::Unreadable => Some(Error::ExtractPublicKey),
            _ if leaf.raw.serial.is_empty() => Some(Error::LibraryFailure),
            _ if self.input.spoken.key_mismatch => Some(Error::BadHandshakeSignature),
            _ => None,
        };
        if let Some(error) = at_once.filter(|e| self.minds(*e)) {
            return vec![(error, 0)];
        }
        let mut out = Vec::new();
        if let Err(error) = self.chain(leaf) {
            let own = error == Error::UnknownIssuer && leaf.subject == leaf.issuer && leaf.signed_by(leaf).is_ok();
            let depth = self.path.len() - 1;
            out.push((if own { Error::SelfSignedCert } else { error }, depth));
            if error.kind() == Kind::Trust {
                let time = validity(leaf).and_then(|(from, until)| self.holds(from, until));
                out.extend(time.err().map(|e| (e, 0)));
            }
        }
        if out.first().is_none_or(|e| e.0.kind() != Kind::Fatal)
            && self.input.name.is_some_and(|n| !names::covers(leaf, n))
        {
            out.push((Error::BadCertDomain, 0));
        }
        if out.is_empty() && self.input.spoken.demands_client {
            out.push((Error::ClientWanted, 0));
        }
        out
    }

    fn minds(&self, error: Error) -> bool {
        self.without != Some(error.words())
    }

    /// The chain for the first of three key usages that the leaf does not contradict.
    fn chain(&mut self, leaf: &'a Certificate) -> Checked {
        initialized(leaf, true)?;
        let mut result = Err(Error::InadequateKeyUsage);
        for usage in [0x80, 0x20, 0x08] {
            self.steps = 0;
            result = self.forward(&mut vec![leaf], usage, 0);
            if result != Err(Error::InadequateKeyUsage) {
                break;
            }
        }
        match result {
            Err(e) if !self.minds(e) => Ok(()),
            other => other,
        }
    }

    fn forward(&mut self, path: &mut Vec<&'a Certificate>, usage: u8, between: usize) -> Checked {
        self.steps += 1;
        let Some(subject) = path.last().copied() else { return Ok(()) };
        let is_leaf = path.len() == 1;
        let anchored = self.input.anchors.contains(subject);
        let mut deferred = Ok(());
        if let Err(e) = self.own_properties(subject, is_leaf, anchored, usage, between).or_else(|e| self.passed(e)) {
            if !is_leaf || anchored {
                return Err(e);
            }
            deferred = Err(e);
        }
        if path.len() > self.path.len() || anchored {
            self.path.clone_from(path);
        }
        if anchored {
            return Ok(());
        }
        let mut between = between;
        if !is_leaf {
            if between >= MOST_BETWEEN {
                return Err(Error::UnknownIssuer);
            }
            between += 1;
        }
        let mut result: Option<Checked> = None;
        // What was served and cannot be read is left aside; what is trusted is not.
        // A root that nobody trusts leads nowhere.
        let of_server = super::served(self.input).filter(|c| {
            let root = c.subject == c.issuer && !self.input.anchors.contains(c) && c.signed_by(c).is_ok();
            initialized(c, false).is_ok() && !root
        });
        // The store finds nobody by an empty name.
        let of_store = self.input.anchors.iter().filter(|_| !is_empty(&subject.issuer));
        let all: Vec<&'a Certificate> = of_store.chain(of_server).filter(|c| c.subject == subject.issuer).collect();
        if all.is_empty() && is_empty(&subject.issuer) {
            return Err(Error::BadDer);
        }
        for candidate in all {
            if self.steps > MOST_STEPS {
                return Err(Error::UnknownIssuer);
            }
            let new = self.issuer(path, candidate, between, deferred).map_err(above);
            let merged = match (result, new) {
                (Some(Err(old)), Err(new)) if old != new => Err(Error::UnknownIssuer),
                (_, new) => new,
            };
            result = Some(merged);
            if merged.is_ok() {
                break;
            }
        }
        result.unwrap_or(Err(Error::UnknownIssuer))?;
        deferred
    }

    /// An error that is left out is none.
    fn passed(&self, e: Error) -> Checked {
        if self.minds(e) { Err(e) } else { Ok(()) }
    }

    /// `own`: what is wrong with the leaf itself, which is reported in the end. A status is then not missed, and of one whose time has passed
    /// none is read.
    fn issuer(
        &mut self,
        path: &mut Vec<&'a Certificate>,
        candidate: &'a Certificate,
        between: usize,
        own: Checked,
    ) -> Checked {
        initialized(candidate, false).or_else(|e| self.passed(e))?;
        if path.iter().any(|c| c.key == candidate.key && c.subject == candidate.subject) {
            return Err(Error::UnknownIssuer);
        }
        if let Some(e) = candidate.raw.extension(id::NAME_CONSTRAINTS) {
            names::constrained(path, &e.value).or_else(|e| self.passed(e))?;
        }
        let subject = path[path.len() - 1];
        let features = |c: &Certificate| c.raw.extension(id::TLS_FEATURES).is_some();
        if features(candidate) && !features(subject) {
            self.passed(Error::RequiredTlsFeatureMissing)?;
        }
        path.push(candidate);
        let above = self.forward(path, 0x04, between);
        path.pop();
        above?;
        if subject.signed_by(candidate).is_err() {
            let rsa = matches!(Scheme::of(&subject.algorithm), Scheme::Pkcs1(_) | Scheme::Pss { .. });
            let other = rsa != matches!(candidate.key.shape(), Shape::Rsa { .. });
            self.passed(if other { Error::InvalidKey } else { Error::BadSignature })?;
        }
        let passed = matches!(own, Err(Error::ExpiredCertificate | Error::InvalidTime));
        if path.len() == 1 && !passed && self.input.spoken.staple_refuses {
            self.passed(Error::OcspUnauthorized)?;
        }
        if path.len() == 1 && own.is_ok() && features(subject) {
            self.passed(Error::RequiredTlsFeatureMissing)?;
        }
        Ok(())
    }

    /// What a certificate must be, no matter who issued it.
    fn own_properties(&self, c: &Certificate, is_leaf: bool, anchored: bool, usage: u8, between: usize) -> Checked {
        let (from, until) = validity(c)?;
        if !anchored {
            signature_algorithm(c)?;
        }
        public_key(c)?;
        if is_empty(&c.issuer) {
            return Err(Error::EmptyIssuerName);
        }
        key_usage(c, usage)?;
        basic_constraints(c, is_leaf, anchored, between)?;
        if self.input.purpose == Some(JudgedPurpose::Server) {
            purposes(c, is_leaf)?;
        }
        self.holds(from, until)
    }

    fn holds(&self, from: i64, until: i64) -> Checked {
        let at = self.input.at.unix();
        match () {
            () if at < from => Err(Error::NotYetValidCertificate),
            () if at > until => Err(Error::ExpiredCertificate),
            () => Ok(()),
        }
    }
}

/// An error of an issuer's, as it is reported of what is below.
fn above(e: Error) -> Error {
    match e {
        Error::ExpiredCertificate => Error::ExpiredIssuer,
        Error::NotYetValidCertificate => Error::NotYetValidIssuer,
        e => e,
    }
}

/// The outer shape, and extensions: known ones once, critical ones known.
fn initialized(c: &Certificate, is_leaf: bool) -> Checked {
    let raw = &c.raw;
    if c.der().len() > MOST_OCTETS {
        return Err(Error::BadDer);
    }
    if raw.version_number().is_none_or(|v| v > 3) {
        return Err(Error::BadDer);
    }
    if raw.serial.is_empty() {
        return Err(Error::BadDer);
    }
    if !parts::is_minimal(&raw.serial) {
        return Err(Error::InvalidInteger);
    }
    if raw.extensions.as_ref().is_some_and(Vec::is_empty) {
        return Err(Error::BadDer);
    }
    let all: Vec<&RawExtension> = raw.extensions.iter().flatten().collect();
    for (i, e) in all.iter().enumerate() {
        if e.flag.as_ref().is_some_and(|f| !matches!(f[..], [0] | [0xff])) {
            return Err(Error::BadDer);
        }
        if is_leaf && e.id == id::NETSCAPE_CERT_TYPE {
            continue;
        }
        if KNOWN.contains(&e.id.as_slice()) {
            if e.value.is_empty() || all[..i].iter().any(|o| o.id == e.id) {
                return Err(Error::ExtensionValueInvalid);
            }
        } else if e.is_critical() {
            return Err(Error::UnknownCriticalExtension);
        }
    }
    Ok(())
}

fn time(element: &Element) -> Result<i64, Error> {
    // Nothing before 1970.
    seconds(element).filter(|t| *t >= 0).ok_or(Error::InvalidTime)
}

fn validity(c: &Certificate) -> Result<(i64, i64), Error> {
    let (from, until) = (time(&c.raw.not_before)?, time(&c.raw.not_after)?);
    if from > until { Err(Error::InvalidTime) } else { Ok((from, until)) }
}

fn signature_algorithm(c: &Certificate) -> Checked {
    let strong = |h: Hash| matches!(h, Hash::Sha256 | Hash::Sha384 | Hash::Sha512);
    let known = match Scheme::of(&c.algorithm) {
        Scheme::Pkcs1(h) | Scheme::Ecdsa(h) => strong(h) || h == Hash::Sha1,
        Scheme::Pss { hash, mask, salt } => strong(hash) && hash == mask && salt == hash.length(),
        Scheme::Ed25519 | Scheme::Other => false,
    };
    if !known {
        return Err(Error::SignatureAlgorithmDisabled);
    }
    if c.raw.inner_algorithm != c.raw.outer_algorithm {
        return Err(Error::SignatureAlgorithmMismatch);
    }
    match Scheme::of(&c.algorithm).hash() {
        Some(Hash::Sha1) => Err(Error::SignatureAlgorithmDisabled),
        _ => Ok(()),
    }
}

fn public_key(c: &Certificate) -> Checked {
    match c.key.shape() {
        Shape::Rsa { pss_only: true, .. } | Shape::Other | Shape::Ed25519 => Err(Error::UnsupportedKeyAlg),
        Shape::Ec { explicit: true, .. } | Shape::Unreadable => Err(Error::BadDer),
        Shape::Ec { curve, .. } if ![P256, P384, P521].contains(&curve) => Err(Error::UnsupportedEllipticCurve),
        Shape::Ec { compressed: true, .. } => Err(Error::UnsupportedEcPointForm),
        Shape::Rsa { bits, .. } if bits < 1024 => Err(Error::InadequateKeySize),
        Shape::Ec { .. } | Shape::Rsa { .. } => Ok(()),
    }
}

fn key_usage(c: &Certificate, wanted: u8) -> Checked {
    let Some(e) = c.raw.extension(id::KEY_USAGE) else { return Ok(()) };
    let inadequate = Err(Error::InadequateKeyUsage);
    let Some((unused, octets)) = parts::bits(&e.value).filter(|_| tlv::one(&e.value).is_some()) else {
        return inadequate;
    };
    let Some(first) = octets.first() else { return inadequate };
    let spare = octets.last().is_some_and(|l| l & ((1u16 << unused) - 1) as u8 != 0);
    if first & wanted == 0 || spare { inadequate } else { Ok(()) }
}

fn basic_constraints(c: &Certificate, is_leaf: bool, anchored: bool, between: usize) -> Checked {
    let (mut ca, mut most) = (false, None);
    match c.raw.extension(id::BASIC_CONSTRAINTS) {
        Some(e) => {
            let invalid = Error::ExtensionValueInvalid;
            tlv::one(&e.value).filter(|t| t.tag == SEQUENCE).ok_or(invalid)?;
            let (says, length) = parts::basic(&e.value).ok_or(invalid)?;
            ca = match says.as_deref() {
                None | Some([0]) => false,
                Some([0xff]) => true,
                Some(_) => return Err(invalid),
            };
            most = match length.as_deref() {
                None => None,
                Some([n @ 0..0x80]) => Some(usize::from(*n)),
                Some(_) => return Err(invalid),
            };
        }
        None if !is_leaf && c.raw.version_number() == Some(0) => {
            if !anchored {
                return Err(Error::V1CertUsedAsCa);
            }
            ca = true;
        }
        None => {}
    }
    match (is_leaf, ca) {
        (true, true) => Err(Error::CaCertUsedAsEndEntity),
        (true, false) => Ok(()),
        (false, false) => Err(Error::CaCertInvalid),
        (false, true) if most.is_some_and(|most| between > most) => Err(Error::PathLenConstraintInvalid),
        (false, true) => Ok(()),
    }
}

fn purposes(c: &Certificate, is_leaf: bool) -> Checked {
    let Some(e) = c.raw.extension(id::EXTENDED_KEY_USAGE) else { return Ok(()) };
    let inadequate = Error::InadequateCertType;
    tlv::one(&e.value).ok_or(inadequate)?;
    let all = parts::purposes(&e.value).filter(|p| !p.is_empty()).ok_or(inadequate)?;
    let has = |p: &[u8]| all.iter().any(|own| own == p);
    // A server that could sign answers about its own revocation makes no sense.
    match has(parts::SERVER_AUTH) && !(is_leaf && has(parts::OCSP_SIGNING)) {
        true => Ok(()),
        false => Err(inadequate),
    }
}
