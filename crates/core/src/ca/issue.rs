//! Issuing: what is asked for, checked before anything is written, and what comes of it.

use crate::ca::authority::create::{purposes_within, until};
use crate::ca::authority::{
    CERTIFICATE_FILE, HEAD_START, KEY_FILE, ROOT_FILE, certificate_document, key_document, limits,
};
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::cert::extensions::{GeneralName, NameConstraints};
use crate::pki::cert::profile::{self, Leaf, Links};
use crate::pki::cert::subject::{self, Subject};
use crate::pki::chain::constraints;
use crate::pki::key::SigningKey;
use crate::pki::key::{PrivateKey, PublicKey, Strength};
use crate::plan::ports::Entropy;
use crate::plan::step::{Document, Publication};
use crate::vocabulary::label::Label;
use crate::vocabulary::name::{Name, Remark};
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::{DAY, Span, Timestamp};
use std::path::PathBuf;
use std::str::FromStr;
use zeroize::Zeroizing;

/// A leaf's life where none is given: 397 days, the most that clients of public authorities took.
pub const LEAF_LIFE: Span = Span::days(397);
/// The longest life that Safari takes in a server certificate under a root of one's own (Apple's support page 103769).
const APPLE_DAYS: i64 = 825;

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Request {
    /// The names, in the order typed.
    pub names: Vec<Name>,
    /// The label.
    pub label: Label,
    /// The directory for its files.
    pub folder: PathBuf,
    /// What it is for.
    pub purposes: Vec<Purpose>,
    /// First moment; None means an hour ago.
    pub from: Option<Timestamp>,
    /// How long from now, or from `from`.
    pub valid_for: Span,
    /// Last moment; wins over `valid_for`.
    pub until: Option<Timestamp>,
    /// The subject's name, DER; None means the first name.
    pub subject: Option<Vec<u8>>,
    /// What is written into it instead of what its authority says.
    pub links: Links,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
}

impl Request {
    /// A request for a server, with every default.
    pub fn server(names: Vec<Name>, label: Label, folder: PathBuf) -> Request {
        Request {
            names,
            label,
            folder,
            purposes: vec![Purpose::Server],
            from: None,
            valid_for: LEAF_LIFE,
            until: None,
            subject: None,
            links: Links::default(),
            accepted: Vec::new(),
        }
    }
}

/// Whose key it is for.
pub enum Holder<'a> {
    /// Ours: it is written beside the certificate, encrypted where there is a passphrase.
    Key(&'a PrivateKey, Option<&'a Passphrase>),
    /// Somebody else's: only the public half is known.
    Public(&'a PublicKey),
}

impl Holder<'_> {
    fn public(&self) -> &PublicKey {
        match self {
            Holder::Key(key, _) => key.public(),
            Holder::Public(key) => key,
        }
    }
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
    Authority(&'a Authority, &'a dyn SigningKey),
    /// The certificate itself.
    Itself(&'a dyn SigningKey),
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

/// Refuses what no authority may do, before any key is made: purposes that do not go together.
///
/// ```
/// use tamga_core::ca::issue::purposes_together;
/// use tamga_core::vocabulary::purpose::Purpose;
///
/// assert!(purposes_together(&[Purpose::Server, Purpose::Client]).is_ok());
/// assert!(purposes_together(&[Purpose::Server, Purpose::Code]).is_err());
/// ```
pub fn purposes_together(purposes: &[Purpose]) -> Result<()> {
    let other = purposes.iter().find(|p| matches!(p, Purpose::Mail | Purpose::Code));
    match other.filter(|_| purposes.contains(&Purpose::Server)) {
        None => Ok(()),
        Some(p) => Err(Error::Objection {
            code: "purpose-missing",
            what: format!("no certificate is for server and {} at once", p.word()),
            why: "a server's key lies on a machine that strangers talk to; what it could sign then must stay small"
                .into(),
            instead: "issue two certificates, one for each purpose".into(),
        }),
    }
}

/// Makes the certificate and the files that go with it. `ignore` is what the directory's `.gitignore` holds already.
///
/// Errors: a name outside the authority's constraints; a purpose it was not created for; an authority that has expired; a
/// life that ends before it begins; a weak key.
pub fn make(
    request: &Request,
    holder: &Holder<'_>,
    signer: &Signer<'_>,
    ignore: &[u8],
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Made> {
    let mut findings = remarks(&request.names);
    purposes_together(&request.purposes)?;
    strong(request, holder.public())?;
    let from = request.from.unwrap_or(now.plus(HEAD_START));
    let mut end = request.until.unwrap_or_else(|| request.from.unwrap_or(now).plus(request.valid_for.seconds()));
    let mut links = request.links.clone();
    match signer {
        Signer::Authority(authority, _) => {
            purposes_within(&request.purposes, authority)?;
            let (shorter, shortened) = until(authority, now, end)?;
            if shortened {
                findings.push(outlives(request.label.as_str(), shorter, authority));
            }
            end = shorter;
            findings.extend(unseen_by_webpki(request, authority));
            links.crl = links.crl.or_else(|| authority.links.crl.clone());
            links.issuer = links.issuer.or_else(|| authority.links.issuer.clone());
            links.ocsp = links.ocsp.or_else(|| authority.links.ocsp.clone());
        }
        Signer::Itself(_) => {
            if let Some(p) = request.purposes.iter().find(|p| matches!(p, Purpose::Mail | Purpose::Code)) {
                return Err(Error::Objection {
                    code: "purpose-missing",
                    what: format!("no certificate for the purpose {} signs itself", p.word()),
                    why: "only an authority created with that purpose vouches for it".into(),
                    instead: format!("make one: tamga authority create LABEL --purpose {}", p.word()),
                });
            }
        }
    }
    if end <= from {
        return Err(Error::Contradiction {
            what: "the certificate would end before it begins".into(),
            why: format!("from {from} until {end}"),
            instead: "choose --not-before and --not-after or --valid-for in order".into(),
        });
    }
    let subject = match &request.subject {
        Some(der) => der.clone(),
        None => profile::leaf_subject(&request.names).to_der()?,
    };
    findings.extend(about_life_and_subject(request, &subject, from, end));
    let leaf =
        Leaf { names: &request.names, purposes: &request.purposes, subject: &subject, from, until: end, links: &links };
    let (certificate, chain, root) = match signer {
        Signer::Authority(authority, issuer_key) => {
            let c = leaf.issue(holder.public(), &authority.certificate, *issuer_key, entropy)?;
            within(&c, authority)?;
            let chain: Vec<Certificate> = std::iter::once(c.clone()).chain(authority.served_with()).collect();
            (c, chain, authority.top().cloned())
        }
        Signer::Itself(key) => {
            let c = leaf.self_sign(*key, entropy)?;
            (c.clone(), vec![c.clone()], Some(c))
        }
    };
    let publication = Publication {
        folder: request.folder.clone(),
        folder_mode: 0o755,
        documents: documents(holder, &chain, root.as_ref(), ignore, entropy)?,
    };
    Ok(Made { certificate, publication, findings })
}

/// The files of a certificate, the one that vouches for the whole last.
pub fn documents(
    holder: &Holder<'_>,
    chain: &[Certificate],
    root: Option<&Certificate>,
    ignore: &[u8],
    entropy: &dyn Entropy,
) -> Result<Vec<Document>> {
    let mut out = Vec::new();
    if let Holder::Key(..) = holder {
        out.push(Document { name: ".gitignore", bytes: ignoring(ignore), mode: 0o644, secret: false });
    }
    if let Some(root) = root {
        out.push(certificate_document(ROOT_FILE, [root]));
    }
    if let Holder::Key(key, passphrase) = holder {
        out.push(key_document(key, *passphrase, entropy)?);
    }
    out.push(certificate_document(CERTIFICATE_FILE, chain));
    Ok(out)
}

/// That a life was shortened to its authority's.
pub fn outlives(about: &str, until: Timestamp, authority: &Authority) -> Finding {
    Finding::new(Code::OutlivesIssuer, about)
        .with_summary(format!("shortened to {}: its authority {} ends then", until.date(), authority.label))
        .with_remedy(format!("make a successor before that day: tamga authority rollover {} NEW", authority.label))
}

fn strong(request: &Request, key: &PublicKey) -> Result<()> {
    match key.strength() {
        Strength::Rsa(bits) if bits < 2048 && !request.accepted.contains(&Code::WeakKey) => Err(Error::Objection {
            code: Code::WeakKey.word(),
            what: format!("the key of {} is too weak", request.label),
            why: format!("it has {bits} bits; OpenSSL and programs in Rust refuse RSA below 2048"),
            instead: "leave --key-file away for a new key; or, for a device that can do no more, --accept weak-key"
                .into(),
        }),
        _ => Ok(()),
    }
}

fn about_life_and_subject(request: &Request, subject: &[u8], from: Timestamp, until: Timestamp) -> Vec<Finding> {
    let mut out = Vec::new();
    let days = until.days_after(from);
    if request.purposes.contains(&Purpose::Server) && days > APPLE_DAYS {
        out.push(Finding::new(Code::ValidityTooLong, request.label.as_str()).with_summary(format!(
            "it is valid for {days} days: Safari and Apple's systems refuse more than {APPLE_DAYS}"
        )));
    }
    let common = subject::common_name(subject).filter(|_| request.purposes.contains(&Purpose::Server));
    if let Some(common) = common
        && let Ok(name) = Name::from_str(&common)
        && common.contains('.')
        && !request.names.contains(&name)
    {
        let common = crate::vocabulary::text::harmless(&common);
        out.push(
            Finding::new(Code::CommonNameUnlisted, common.clone())
                .with_summary(format!("{common} is only in the common name, which no client reads"))
                .with_remedy(format!("add it to the names if visitors use it: tamga issue {common} …")),
        );
    }
    out
}

/// webpki does not know constraints on mailboxes and URIs, and refuses what falls under them (measured with 0.103).
fn unseen_by_webpki(request: &Request, authority: &Authority) -> Option<Finding> {
    let name = request.names.iter().find(|n| matches!(n, Name::Mail(_) | Name::Uri(_)))?;
    let limited =
        authority.certificate.constraints.is_some() || authority.above.iter().any(|a| a.constraints.is_some());
    let shown_to_servers = request.purposes.iter().any(|p| matches!(p, Purpose::Client | Purpose::Server));
    (limited && shown_to_servers).then(|| {
        Finding::new(Code::NameNotCovered, name.to_string())
            .with_summary(format!(
                "programs in Rust (webpki) refuse a certificate that names {name} under a limited root"
            ))
            .with_remedy("for such programs name a host instead, such as operator.saltmarsh.test")
            .as_note()
    })
}

/// Refuses names that lie outside what an authority or one above it may certify, before anything is made.
///
/// ```
/// use tamga_core::ca::issue::names_within;
/// use tamga_core::sample::root;
///
/// let (root, _) = root()?;
/// assert!(names_within(&["charts.saltmarsh.test".parse()?], &root).is_ok());
/// assert!(names_within(&["charts.saltmarsh.org".parse()?], &root).is_err(), "the root is limited to test names");
/// # Ok::<(), tamga_core::error::Error>(())
/// ```
pub fn names_within(names: &[Name], authority: &Authority) -> Result<()> {
    for above in std::iter::once(&authority.certificate).chain(&authority.above) {
        let Some(subtrees) = &above.constraints else { continue };
        if let Some(name) = names.iter().find(|n| constraints::forbids(subtrees, &GeneralName::from_name(n))) {
            return Err(outside(name.to_string(), authority, subtrees));
        }
    }
    Ok(())
}

fn outside(name: String, authority: &Authority, subtrees: &NameConstraints) -> Error {
    Error::OutsideConstraints {
        free_label: format!("{}-2", authority.label),
        name,
        authority: authority.label.to_string(),
        permitted: limits::words(Some(subtrees)),
    }
}

/// Judges the finished certificate against the constraints of its authority and of those above, as clients will.
fn within(leaf: &Certificate, authority: &Authority) -> Result<()> {
    for above in std::iter::once(&authority.certificate).chain(&authority.above) {
        let Some(subtrees) = &above.constraints else { continue };
        if let Some(name) = constraints::violated(subtrees, leaf).map(|n| n.words()) {
            return Err(outside(name, authority, subtrees));
        }
    }
    Ok(())
}

/// The findings about names that are taken all the same.
pub fn remarks(names: &[Name]) -> Vec<Finding> {
    let mut out = Vec::new();
    for name in names {
        for remark in name.remarks() {
            out.push(match remark {
                Remark::Public => Finding::new(Code::PublicName, name.to_string()),
                Remark::Underscore => Finding::new(Code::NameNotCovered, name.to_string())
                    .with_summary(format!("{name} has an underscore: Java refuses such host names"))
                    .with_remedy("rename the host if Java programs visit it"),
                Remark::UriIsNoHost(host) => Finding::new(Code::NameNotCovered, name.to_string())
                    .with_summary(format!("{name} is written as a URI, which no browser compares with the host"))
                    .with_remedy(format!("for a web site, name the host: {host}")),
            });
        }
    }
    out.into_iter().map(Finding::as_note).collect()
}

/// A `.gitignore` that covers the key, keeping what is in it.
pub fn ignoring(before: &[u8]) -> Zeroizing<Vec<u8>> {
    let text = String::from_utf8_lossy(before);
    if text.lines().any(|l| matches!(l.trim(), KEY_FILE | "/private-key.pem" | "*" | "*.pem")) {
        return Zeroizing::new(before.to_vec());
    }
    let joint = if before.is_empty() || before.ends_with(b"\n") { "" } else { "\n" };
    Zeroizing::new([before, format!("{joint}/{KEY_FILE}\n").as_bytes()].concat())
}

/// The subject fields as typed, DER; None where nothing was typed.
pub fn subject_of(typed: &Subject) -> Result<Option<Vec<u8>>> {
    if *typed == Subject::default() { Ok(None) } else { typed.to_der().map(Some) }
}

/// How long a certificate was meant to live: what a renewal gives it again.
pub fn life_of(c: &Certificate) -> Span {
    Span::seconds_of((c.not_after.unix() - c.not_before.unix() + HEAD_START).max(DAY))
}
