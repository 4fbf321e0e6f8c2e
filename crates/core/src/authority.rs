//! Making an authority: what is asked for, and what comes of it.

use crate::cert::Certificate;
use crate::cert::profile;
use crate::cert::subject::Subject;
use crate::error::{Error, Result};
use crate::form::pem;
use crate::key::{KeyAlgorithm, PrivateKey};
use crate::label::Label;
use crate::moment::{Moment, Span};
use crate::permit::Permit;
use crate::ports::Entropy;
use crate::report::{Authority, Issued};
use crate::step::{Document, Publication};
use std::path::PathBuf;
use zeroize::Zeroizing;

/// A root's life where none is given: ten years.
pub const ROOT_LIFE: Span = Span::days(3650);
/// Everything begins an hour ago, for clocks that are late.
pub const HEAD_START: i64 = -3_600;
/// The key's file in an authority's or certificate's folder.
pub const KEY_FILE: &str = "private-key.pem";
/// The certificate's file.
pub const CERTIFICATE_FILE: &str = "certificate.pem";

/// What is asked for.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label.
    pub label: Label,
    /// Its subject; an empty one becomes `LABEL root (Tamga, tests only)`.
    pub subject: Subject,
    /// What it may certify.
    pub permit: Permit,
    /// The kind of key.
    pub algorithm: KeyAlgorithm,
    /// How long it lives.
    pub valid_for: Span,
}

/// A new root with its files.
pub struct Made {
    /// The root.
    pub certificate: Certificate,
    /// Its files.
    pub publication: Publication,
}

/// Checks that a label is free among authorities and certificates, which share one space.
pub fn free(label: &Label, authorities: &[Authority], issued: &[Issued]) -> Result<()> {
    let taken = |by: String| Error::LabelTaken {
        label: label.to_string(),
        by,
        instead: "choose another: --label TEXT (or another LABEL for an authority)".into(),
    };
    if authorities.iter().any(|a| a.label == label.as_str()) {
        return Err(taken("an authority".into()));
    }
    match issued.iter().find(|i| i.label == label.as_str() && i.state == "live") {
        Some(i) => Err(taken(format!("the certificate in {}", i.folder.display()))),
        None => Ok(()),
    }
}

/// Makes a root.
pub fn create(request: &Request, folder: PathBuf, now: Moment, entropy: &dyn Entropy) -> Result<Made> {
    let subject = match request.subject == Subject::default() {
        true => profile::root_subject(&request.label),
        false => request.subject.clone(),
    };
    let key = PrivateKey::generate(request.algorithm, entropy)?;
    let from = now.plus(HEAD_START);
    let until = now.plus(request.valid_for.seconds());
    let certificate = profile::root(&subject, &request.permit, from, until, &key, entropy)?;
    let publication = Publication {
        folder,
        folder_mode: 0o700,
        documents: vec![
            document(KEY_FILE, pem::write(pem::PRIVATE_KEY, &key.to_pkcs8()?), 0o600),
            document(CERTIFICATE_FILE, pem::write(pem::CERTIFICATE, certificate.der()), 0o644),
        ],
    };
    Ok(Made { certificate, publication })
}

/// A file from text; the text's buffer becomes the file's and is wiped with it.
pub(crate) fn document(name: &'static str, mut text: Zeroizing<String>, mode: u32) -> Document {
    let bytes = Zeroizing::new(std::mem::take(&mut *text).into_bytes());
    Document { name, bytes, mode }
}

/// Reads an unencrypted private key from PEM.
pub fn read_key(bytes: &[u8], what: &str) -> Result<PrivateKey> {
    let malformed = |why: &str| Error::Malformed { what: what.to_owned(), why: why.to_owned() };
    let (blocks, _) = pem::read(bytes);
    if blocks.iter().any(|b| b.label == "ENCRYPTED PRIVATE KEY") {
        return Err(malformed("the key is encrypted, which this version of Tamga cannot open"));
    }
    let block = blocks
        .iter()
        .find(|b| b.label == pem::PRIVATE_KEY)
        .ok_or_else(|| malformed("it holds no PKCS#8 private key"))?;
    PrivateKey::from_pkcs8(&block.der, what)
}

/// The authority meant: the one named, or the only one there is.
pub fn choose<'a>(named: Option<&str>, authorities: &'a [Authority]) -> Result<&'a Authority> {
    match (named, authorities) {
        (Some(label), all) => all.iter().find(|a| a.label == label).ok_or_else(|| Error::LabelUnknown {
            label: label.to_owned(),
            sought: "authority",
            known: all.iter().map(|a| a.label.clone()).collect(),
        }),
        (None, []) => Err(Error::NoAuthority),
        (None, [only]) => Ok(only),
        (None, several) => Err(Error::ManyAuthorities { labels: several.iter().map(|a| a.label.clone()).collect() }),
    }
}
