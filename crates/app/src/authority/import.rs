//! A CA made elsewhere, checked before it is taken in.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::keys::certificates;
use crate::report::{self, Answer, Member};
use crate::secret::{AuthoritySecret, Secret};
use crate::token::{Holder, TokenRequest};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::import;
use tamga_core::ca::report::Authority;
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::profile::Links;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::Record;
use tamga_host::ledger::WorkKind;

/// What to take in.
#[derive(Clone, Debug)]
pub struct Request {
    /// Its label here.
    pub label: Label,
    /// Files with its certificate, and what is above it.
    pub certificates: Vec<PathBuf>,
    /// Its private key.
    pub key: KeySource,
    /// What it may issue for; empty for what its certificate says.
    pub purposes: Vec<Purpose>,
    /// Where its list and certificate are found.
    pub links: Links,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
    /// Opens the key.
    pub secret: Secret,
    /// Protects it here.
    pub new_secret: AuthoritySecret,
}

/// Where the private key of a CA is.
#[derive(Clone, Debug)]
pub enum KeySource {
    /// In a file: PKCS#8, SEC1 or PKCS#1, PEM or DER, encrypted or not.
    File(PathBuf),
    /// On a token, where it stays.
    Token(Box<TokenRequest>),
}

/// What was taken in, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority that was taken in.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub authorities: [Member; 1],
    /// Remarks on it.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// It.
    #[serde(skip)]
    pub authority: Authority,
}

/// An authority that would be taken in.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// Remarks on it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// The key, with the passphrase that opened its file.
fn find(env: &Env, request: &Request, found: &[Certificate]) -> Result<(Holder, Option<Passphrase>)> {
    match &request.key {
        KeySource::File(path) => {
            let stored = env.stored_key(request.label.as_str(), path)?;
            let (key, passphrase) = env.open_stored(stored, &path.shown(), &request.secret)?;
            Ok((Holder::File(Box::new(key)), passphrase))
        }
        KeySource::Token(token) => Ok((Holder::Token(Box::new(token.find(env, &found[0].key)?)), None)),
    }
}

/// Takes a CA in.
///
/// Errors: a certificate that is no CA's or would hinder its clients, unless accepted; a key that is not its own or cannot be opened;
/// a label that is taken; the same CA under another label.
pub fn import(env: &Env, request: &Request) -> Result<Report> {
    let label = &request.label;
    let found = certificates(env, &request.certificates)?;
    let (key, old) = find(env, request, &found)?;
    let public = key.of_authority(None).signing().public();
    // The certificate of this key, wherever in the file it stands; the first says best what is wrong if there is none.
    let certificate = found.iter().find(|c| c.key == *public).unwrap_or(&found[0]).clone();
    if certificate.key != *public {
        let path = match &request.key {
            KeySource::File(path) => path.clone(),
            KeySource::Token(token) => PathBuf::from(token.uri.portable().to_string()),
        };
        return Err(Error::KeyMismatch { label: label.to_string(), path }.into());
    }
    let above = import::above(&certificate, &found);
    let findings = import::examine(&certificate, &above, env.now, &request.accepted)?;
    let mut a = Authority {
        above,
        links: request.links.clone(),
        ..Authority::root(label.clone(), certificate, env.authority_directory(label))
    };
    a.purposes = if request.purposes.is_empty() { import::purposes(&a) } else { request.purposes.clone() };
    if env.dry_run {
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, authority: a, findings }));
    }
    // Encrypted it stays encrypted, with the same passphrase unless a new one is given.
    let wanted = request.new_secret.wanted(env, &format!("the key of {label}"))?;
    let protect = wanted.or(old);
    let (_lock, ledger) = env.open_for_change()?;
    let known = super::free(&*ledger, label)?;
    if let Some(twin) = known.iter().find(|k| k.certificate == a.certificate) {
        return Err(Error::LabelTaken {
            label: label.to_string(),
            by: format!("the same CA under the label {}", twin.label),
            instead: format!("use it: --issuer {}", twin.label),
        }
        .into());
    }
    let (a, publication) = import::make(a, key.of_authority(protect.as_ref()), &entropy::System)?;
    let change = Change {
        what: WorkKind::Authority,
        label,
        sha256: a.certificate.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Authority(&a),
    };
    env.publish(&*ledger, &change)?;
    Ok(Answer::Done(Done { authorities: [a.clone().into()], findings, authority: a }))
}
