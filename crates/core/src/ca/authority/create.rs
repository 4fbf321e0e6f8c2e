//! Making an authority: a root, or an intermediate under another.

use super::limits::{self, Wanted};
use super::{CERTIFICATE_FILE, HEAD_START, certificate_document, key_document, key_uri_document};
use crate::ca::report::{Authority, KeyPlace};
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::profile::{self, Ca, Links};
use crate::pki::cert::subject::Subject;
use crate::pki::key::PrivateKey;
use crate::pki::key::SigningKey;
use crate::pki::token::TokenUri;
use crate::plan::ports::Entropy;
use crate::plan::step::{Document, Publication};
use crate::vocabulary::label::Label;
use crate::vocabulary::permit::{Cidr, Permit};
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::secret::Passphrase;
use crate::vocabulary::timestamp::{Span, Timestamp};
use std::path::PathBuf;
use std::str::FromStr;

/// A root's life where none is given: ten years.
pub const ROOT_LIFE: Span = Span::days(3650);
/// An intermediate's: five years.
pub const INTERMEDIATE_LIFE: Span = Span::days(1825);

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label.
    pub label: Label,
    /// Its subject; an empty one becomes `LABEL root (Tamga, tests only)`.
    pub subject: Subject,
    /// What it may certify.
    pub wanted: Wanted,
    /// How many intermediates may follow.
    pub path_length: Option<u8>,
    /// How long it lives; None means the usual life of its kind.
    pub valid_for: Option<Span>,
    /// What it may issue for.
    pub purposes: Vec<Purpose>,
    /// What is written into what it issues.
    pub links: Links,
    /// What is written into its own certificate; None for what the authority above it says.
    pub own_links: Option<Links>,
}

impl Request {
    /// A request with every default.
    pub fn plain(label: Label) -> Request {
        Request {
            label,
            subject: Subject::default(),
            wanted: Wanted::default(),
            path_length: None,
            valid_for: None,
            purposes: vec![Purpose::Server, Purpose::Client],
            links: Links::default(),
            own_links: None,
        }
    }

    /// The subject's name, DER.
    pub fn subject_der(&self, root: bool) -> Result<Vec<u8>> {
        match self.subject == Subject::default() {
            true if root => profile::root_subject(&self.label).to_der(),
            true => profile::intermediate_subject(&self.label).to_der(),
            false => self.subject.to_der(),
        }
    }
}

/// The key of a new authority.
#[derive(Clone, Copy)]
pub enum AuthorityKey<'a> {
    /// One that becomes a file, encrypted where there is a passphrase.
    File(&'a PrivateKey, Option<&'a Passphrase>),
    /// One that stays on its token, with its address.
    Token(&'a dyn SigningKey, &'a TokenUri),
}

impl<'a> From<&'a PrivateKey> for AuthorityKey<'a> {
    fn from(key: &'a PrivateKey) -> AuthorityKey<'a> {
        AuthorityKey::File(key, None)
    }
}

impl<'a> AuthorityKey<'a> {
    /// It, as it signs.
    pub fn signing(&self) -> &'a dyn SigningKey {
        match self {
            AuthorityKey::File(key, _) => *key,
            AuthorityKey::Token(key, _) => *key,
        }
    }

    /// Where it is.
    pub fn place(&self) -> KeyPlace {
        match self {
            AuthorityKey::File(..) => KeyPlace::Here,
            AuthorityKey::Token(_, uri) => KeyPlace::Token(Box::new((*uri).clone())),
        }
    }

    /// Its file, or that of its address.
    ///
    /// Errors: the key cannot be written.
    pub fn document(&self, entropy: &dyn Entropy) -> Result<Document> {
        match self {
            AuthorityKey::File(key, passphrase) => key_document(key, *passphrase, entropy),
            AuthorityKey::Token(_, uri) => Ok(key_uri_document(uri)),
        }
    }
}

/// A new authority with its files.
pub struct Made {
    /// The authority.
    pub authority: Authority,
    /// Its files.
    pub publication: Publication,
    /// True if its life was shortened to that of the authority above.
    pub shortened: bool,
}

/// Makes a root from a key.
pub fn root<'k>(
    request: &Request,
    key: impl Into<AuthorityKey<'k>>,
    folder: PathBuf,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Made> {
    let key = key.into();
    let certificate = Ca {
        subject: &request.subject_der(true)?,
        constraints: profile::name_constraints(&limits::of_root(&request.wanted)?)?,
        path_length: request.path_length,
        from: now.plus(HEAD_START),
        until: now.plus(request.valid_for.unwrap_or(ROOT_LIFE).seconds()),
        links: &Links::default(),
    }
    .self_sign(key.signing(), entropy)?;
    let authority = Authority {
        purposes: request.purposes.clone(),
        links: request.links.clone(),
        key: key.place(),
        ..Authority::root(request.label.clone(), certificate, folder)
    };
    let publication = publication(&authority, key, entropy)?;
    Ok(Made { authority, publication, shortened: false })
}

/// Makes a root that is limited to exactly the names of the request: for certificates that need no other, ever.
pub fn root_for_exactly(
    request: &Request,
    key: &PrivateKey,
    folder: PathBuf,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Authority> {
    let (mut domains, mut blocks) = (Vec::new(), Vec::new());
    for typed in &request.wanted.permit {
        match Cidr::from_str(typed) {
            Ok(block) => blocks.push(block),
            Err(_) => {
                let mut one = Permit::Only { domains: Vec::new(), blocks: Vec::new() };
                one.extend(typed)?;
                if let Permit::Only { domains: d, .. } = one {
                    domains.extend(d.into_iter().filter(|d| !domains.contains(d)).collect::<Vec<_>>());
                }
            }
        }
    }
    // A kind of name without any base would be free (RFC 5280 §4.2.1.10): loopback is given away instead.
    if domains.is_empty() {
        domains.push("localhost".to_owned());
    }
    if blocks.is_empty() {
        blocks.extend(["127.0.0.1", "::1"].into_iter().flat_map(Cidr::from_str));
    }
    let certificate = Ca {
        subject: &request.subject_der(true)?,
        constraints: profile::name_constraints(&Permit::Only { domains, blocks })?,
        path_length: Some(0),
        from: now.plus(HEAD_START),
        until: now.plus(request.valid_for.unwrap_or(ROOT_LIFE).seconds()),
        links: &Links::default(),
    }
    .self_sign(key, entropy)?;
    Ok(Authority { purposes: request.purposes.clone(), ..Authority::root(request.label.clone(), certificate, folder) })
}

/// Makes an intermediate from a key, under another authority.
///
/// Errors: limits wider than those above; a path length that is used up; an authority above that has expired or may not
/// issue for these purposes.
pub fn intermediate<'k>(
    request: &Request,
    key: impl Into<AuthorityKey<'k>>,
    parent: &Authority,
    parent_key: &dyn SigningKey,
    folder: PathBuf,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Made> {
    let key = key.into();
    let life = request.valid_for.unwrap_or(INTERMEDIATE_LIFE);
    let (until, shortened) = until(parent, now, now.plus(life.seconds()))?;
    purposes_within(&request.purposes, parent)?;
    let certificate = Ca {
        subject: &request.subject_der(false)?,
        constraints: limits::of_intermediate(&request.wanted, parent)?,
        path_length: limits::path_length(request.path_length, parent)?,
        from: now.plus(HEAD_START),
        until,
        links: request.own_links.as_ref().unwrap_or(&parent.links),
    }
    .under(key.signing().public(), &parent.certificate, parent_key, entropy)?;
    let authority = Authority {
        purposes: request.purposes.clone(),
        links: request.links.clone(),
        ..under(parent, request.label.clone(), certificate, folder, key.place())
    };
    let publication = publication(&authority, key, entropy)?;
    Ok(Made { authority, publication, shortened })
}

/// An authority directly under another.
pub fn under(parent: &Authority, label: Label, certificate: Certificate, folder: PathBuf, key: KeyPlace) -> Authority {
    Authority {
        issuer: Some(parent.label.clone()),
        root_label: parent.root_label.clone(),
        above: std::iter::once(&parent.certificate).chain(&parent.above).cloned().collect(),
        crossed: parent.crossed.clone(),
        purposes: parent.purposes.clone(),
        key,
        ..Authority::root(label, certificate, folder)
    }
}

/// The end of something signed now: as wanted, at most the issuer's own. True if it was shortened.
///
/// Errors: the issuer has expired.
pub fn until(issuer: &Authority, now: Timestamp, wanted: Timestamp) -> Result<(Timestamp, bool)> {
    let chain = std::iter::once(&issuer.certificate).chain(&issuer.above);
    let end = chain.map(|c| c.not_after).min().unwrap_or(issuer.certificate.not_after);
    if now > end {
        return Err(Error::IssuerEnded { authority: issuer.label.to_string(), ended: end.to_string() });
    }
    Ok((wanted.min(end), wanted > end))
}

/// Refuses purposes that the authority was not created for.
pub fn purposes_within(purposes: &[Purpose], issuer: &Authority) -> Result<()> {
    match purposes.iter().find(|p| !issuer.purposes.contains(p)) {
        None => Ok(()),
        Some(p) => Err(Error::Objection {
            code: "purpose-missing",
            what: format!("{} may not issue for the purpose {}", issuer.label, p.word()),
            why: format!(
                "it was created for {}",
                issuer.purposes.iter().map(|p| p.word()).collect::<Vec<_>>().join(", ")
            ),
            instead: format!("make an authority that may: tamga authority create LABEL --purpose {}", p.word()),
        }),
    }
}

/// The files of an authority: its key, then its certificate with what is above it.
pub fn publication(authority: &Authority, key: AuthorityKey<'_>, entropy: &dyn Entropy) -> Result<Publication> {
    Ok(Publication {
        folder: authority.folder.clone(),
        folder_mode: 0o700,
        documents: vec![key.document(entropy)?, certificate_document(CERTIFICATE_FILE, chain(authority))],
    })
}

/// The certificate of an authority and everything above it.
pub fn chain(authority: &Authority) -> impl Iterator<Item = &Certificate> {
    std::iter::once(&authority.certificate).chain(&authority.above)
}
