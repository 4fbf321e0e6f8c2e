//! Issuing: what is asked for, checked before anything is written, and what comes of it.

use crate::authority::{CERTIFICATE_FILE, HEAD_START, KEY_FILE, document};
use crate::cert::Certificate;
use crate::cert::profile::{self, Leaf};
use crate::cert::subject::Subject;
use crate::chain::constraints;
use crate::error::{Error, Result};
use crate::finding::{Code, Finding};
use crate::form::pem;
use crate::key::PrivateKey;
use crate::label::Label;
use crate::moment::{Moment, Span};
use crate::name::{Name, Remark};
use crate::permit::Permit;
use crate::ports::Entropy;
use crate::purpose::Purpose;
use crate::report::Authority;
use crate::step::{Document, Publication};
use std::path::PathBuf;
use zeroize::Zeroizing;

/// A leaf's life where none is given: 397 days, the most that clients of public authorities took.
pub const LEAF_LIFE: Span = Span::days(397);

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Request {
    /// The names, in the order typed.
    pub names: Vec<Name>,
    /// The label.
    pub label: Label,
    /// The folder for its files.
    pub folder: PathBuf,
    /// What it is for.
    pub purposes: Vec<Purpose>,
    /// First moment; None means an hour ago.
    pub from: Option<Moment>,
    /// How long from now, or from `from`.
    pub valid_for: Span,
    /// Last moment; wins over `valid_for`.
    pub until: Option<Moment>,
    /// The subject; an empty one gets the first name.
    pub subject: Subject,
}

/// A new certificate with its files and what should be said about it.
pub struct Made {
    /// The certificate.
    pub certificate: Certificate,
    /// Its files.
    pub publication: Publication,
    /// Remarks.
    pub findings: Vec<Finding>,
}

/// Who signs.
pub enum Signer<'a> {
    /// An authority with its key.
    Authority(&'a Authority, &'a PrivateKey),
    /// The certificate itself.
    Itself,
}

/// Drops doubles, keeping the first of each.
pub fn distinct(names: Vec<Name>) -> Vec<Name> {
    let mut out: Vec<Name> = Vec::new();
    for n in names {
        if !out.contains(&n) {
            out.push(n);
        }
    }
    out
}

/// Makes the certificate for a key and the files of both. `ignore` is what the folder's `.gitignore` holds already.
///
/// Errors: a name outside the authority's constraints; an authority that has ended; a life that ends before it begins.
pub fn make(
    request: &Request,
    key: &PrivateKey,
    signer: &Signer<'_>,
    ignore: &[u8],
    now: Moment,
    entropy: &dyn Entropy,
) -> Result<Made> {
    let mut findings = remarks(&request.names);
    let from = request.from.unwrap_or(now.plus(HEAD_START));
    let mut until = request.until.unwrap_or_else(|| request.from.unwrap_or(now).plus(request.valid_for.seconds()));
    if let Signer::Authority(authority, _) = signer {
        let root = &authority.certificate;
        if now > root.not_after {
            return Err(Error::IssuerEnded { authority: authority.label.clone(), ended: root.not_after.to_string() });
        }
        if until > root.not_after {
            until = root.not_after;
            findings.push(
                Finding::new(Code::OutlivesIssuer, request.label.as_str())
                    .saying(format!("shortened to {}: its authority {} ends then", until.date(), authority.label))
                    .mended_by("make a new authority before that day: tamga authority create LABEL"),
            );
        }
    }
    if until <= from {
        return Err(Error::Contradiction {
            what: "the certificate would end before it begins".into(),
            why: format!("from {from} until {until}"),
            instead: "choose --not-before and --not-after or --valid-for in order".into(),
        });
    }
    let subject = match request.subject == Subject::default() {
        true => request.names.first().map(profile::leaf_subject).unwrap_or_default(),
        false => request.subject.clone(),
    };
    let leaf = Leaf { names: &request.names, purposes: &request.purposes, subject: &subject, from, until };
    let (certificate, root) = match signer {
        Signer::Authority(authority, issuer_key) => {
            let c = leaf.issue(key.public(), &authority.certificate, issuer_key, entropy)?;
            within(&c, authority)?;
            (c, authority.certificate.clone())
        }
        Signer::Itself => {
            let c = leaf.self_sign(key, entropy)?;
            (c.clone(), c)
        }
    };
    let publication = Publication {
        folder: request.folder.clone(),
        folder_mode: 0o755,
        documents: vec![
            Document { name: ".gitignore", bytes: ignoring(ignore), mode: 0o644 },
            document("root.pem", pem::write(pem::CERTIFICATE, root.der()), 0o644),
            document(KEY_FILE, pem::write(pem::PRIVATE_KEY, &key.to_pkcs8()?), 0o600),
            document(CERTIFICATE_FILE, pem::write(pem::CERTIFICATE, certificate.der()), 0o644),
        ],
    };
    Ok(Made { certificate, publication, findings })
}

/// Judges the finished certificate against the constraints that stand in the authority's own, as clients will.
fn within(leaf: &Certificate, authority: &Authority) -> Result<()> {
    let Some(subtrees) = &authority.certificate.constraints else {
        return Ok(());
    };
    match constraints::violated(subtrees, leaf) {
        None => Ok(()),
        Some(name) => Err(Error::OutsideConstraints {
            free_label: format!("{}-2", authority.label),
            name,
            authority: authority.label.clone(),
            permitted: permitted_words(authority),
        }),
    }
}

/// What an authority may certify, in words.
pub fn permitted_words(authority: &Authority) -> String {
    use crate::cert::read::General;
    let Some(subtrees) = &authority.certificate.constraints else {
        return Permit::Any.to_string();
    };
    let of = |wanted: fn(&General) -> bool| {
        subtrees.permitted.iter().filter(|g| wanted(g)).map(General::words).collect::<Vec<_>>().join(", ")
    };
    let dns = of(|g| matches!(g, General::Dns(_)));
    let ip = of(|g| matches!(g, General::Ip(_)));
    [dns, ip].into_iter().filter(|s| !s.is_empty()).collect::<Vec<_>>().join("; ")
}

/// The same, short enough for a line: address blocks are only counted.
pub fn permitted_briefly(authority: &Authority) -> String {
    use crate::cert::read::General;
    let Some(subtrees) = &authority.certificate.constraints else {
        return Permit::Any.to_string();
    };
    let domains: Vec<String> =
        subtrees.permitted.iter().filter(|g| matches!(g, General::Dns(_))).map(General::words).collect();
    let blocks = subtrees.permitted.iter().filter(|g| matches!(g, General::Ip(_))).count();
    format!("{} and {blocks} address blocks", domains.join(", "))
}

/// The findings about names that are taken all the same.
pub fn remarks(names: &[Name]) -> Vec<Finding> {
    let mut out = Vec::new();
    for name in names {
        for remark in name.remarks() {
            out.push(match remark {
                Remark::Public => Finding::new(Code::PublicName, name.to_string()),
                Remark::Underscore => Finding::new(Code::NameNotCovered, name.to_string())
                    .saying(format!("{name} has an underscore: Java refuses such host names"))
                    .mended_by("rename the host if Java programs visit it"),
                Remark::UriIsNoHost(host) => Finding::new(Code::NameNotCovered, name.to_string())
                    .saying(format!("{name} is written as a URI, which no browser compares with the host"))
                    .mended_by(format!("for a web site, name the host: {host}")),
            });
        }
    }
    for f in &mut out {
        f.severity = crate::finding::Severity::Note;
    }
    out
}

/// A `.gitignore` that covers the key, keeping what stands in it.
fn ignoring(before: &[u8]) -> Zeroizing<Vec<u8>> {
    let text = String::from_utf8_lossy(before);
    if text.lines().any(|l| matches!(l.trim(), KEY_FILE | "/private-key.pem" | "*" | "*.pem")) {
        return Zeroizing::new(before.to_vec());
    }
    let joint = if before.is_empty() || before.ends_with(b"\n") { "" } else { "\n" };
    Zeroizing::new([before, format!("{joint}/{KEY_FILE}\n").as_bytes()].concat())
}
