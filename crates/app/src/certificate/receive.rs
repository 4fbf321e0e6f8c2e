//! A certificate that was signed elsewhere, back to its waiting key.

use super::lookup::waiting;
use crate::env::{Change, Env};
use crate::failure::Result;
use crate::keys::certificates;
use crate::report::{self, Answer, Certificate};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE, certificate_document};
use tamga_core::ca::receive;
use tamga_core::ca::report::{Issued, Life};
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::pki::format::private_key::Stored;
use tamga_core::plan::step::Publication;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::Record;
use tamga_host::ledger::WorkKind;

/// What came back.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label of the waiting key.
    pub label: Label,
    /// Files with the certificate.
    pub certificates: Vec<PathBuf>,
    /// Files with what is above it.
    pub intermediates: Vec<PathBuf>,
    /// Opens the waiting key.
    pub secret: Secret,
}

/// What was received, or would be.
pub type Report = Answer<Done, Plan>;

/// A certificate that was received.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub certificates: [Certificate; 1],
    /// Remarks on it.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// How many certificates its chain has.
    #[serde(skip)]
    pub chain: usize,
    /// True if its root came with it.
    #[serde(skip)]
    pub has_root: bool,
    /// True if it was here already, and nothing was done.
    #[serde(skip)]
    pub already: bool,
}

/// A certificate that would be received.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// Its subject.
    #[serde(skip)]
    pub subject: String,
    /// Remarks on it.
    #[serde(skip)]
    pub findings: Vec<Finding>,
}

/// Puts the certificate beside its key.
///
/// Errors: no key waits under this label; the certificate is not for that key; files that cannot be read or written.
pub fn receive(env: &Env, request: &Request) -> Result<Report> {
    let label = &request.label;
    let found = certificates(env, &request.certificates)?;
    let more = certificates(env, &request.intermediates)?;
    if env.dry_run {
        if let Some(report) = already(env, label, &found)? {
            return Ok(report);
        }
        let waiting = waiting(env.open_to_look()?.as_deref(), label, false)?;
        let got = receive::receive(label, &waiting.csr, &found, &more, &env.authorities()?, env.now)?;
        let subject = got.chain[0].subject_words();
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, subject, findings: got.findings }));
    }
    let (_lock, ledger) = env.open_for_change()?;
    // Also after an interrupted run that has just been finished.
    if let Some(report) = already(env, label, &found)? {
        return Ok(report);
    }
    let waiting = waiting(Some(&*ledger), label, false)?;
    let got = receive::receive(label, &waiting.csr, &found, &more, &ledger.authorities()?, env.now)?;
    // The key itself, where it can be looked at without a passphrase.
    let path = waiting.folder.join(KEY_FILE);
    let stored = env.stored_key(label, &path)?;
    if request.secret.is_named() || matches!(stored, Stored::Open(_)) {
        let key = env.open_key(stored, &format!("the key of {label}"), &request.secret)?;
        if *key.public() != waiting.csr.key {
            return Err(Error::KeyMismatch { label: label.to_string(), path }.into());
        }
    }
    let mut documents: Vec<_> = got.root.iter().map(|root| certificate_document(ROOT_FILE, [root])).collect();
    documents.push(certificate_document(CERTIFICATE_FILE, &got.chain));
    let publication = Publication { folder: waiting.folder.clone(), folder_mode: 0o755, documents };
    let issued = Issued {
        label: label.clone(),
        certificate: got.chain[0].clone(),
        authority: got.authority.clone(),
        folder: waiting.folder.clone(),
        life: Life::Live,
        host: None,
        revoked: None,
    };
    let change = Change {
        what: WorkKind::Certificate,
        label,
        sha256: issued.certificate.sha256(),
        publication: &publication,
        answers: true,
        record: Record::Certificate { issued: &issued, kind: "received", root: None },
    };
    env.publish(&*ledger, &change)?;
    let has_root = got.root.is_some();
    let mut files = vec![("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE)];
    files.extend(has_root.then_some(("root", ROOT_FILE)));
    let certificates = [Certificate { issued, files }];
    Ok(Answer::Done(Done { certificates, findings: got.findings, chain: got.chain.len(), has_root, already: false }))
}

/// The report that there is nothing to do: no key waits, and the label's certificate is the one that is brought.
fn already(env: &Env, label: &Label, found: &[tamga_core::pki::cert::Certificate]) -> Result<Option<Report>> {
    let Some(ledger) = env.open_to_look()? else { return Ok(None) };
    let Some(issued) = ledger.current(label)?.filter(|i| found.contains(&i.certificate)) else { return Ok(None) };
    if ledger.waiting_place(label)?.is_some() {
        return Ok(None);
    }
    let files = vec![("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE)];
    let certificates = [Certificate { issued, files }];
    Ok(Some(Answer::Done(Done { certificates, findings: vec![], chain: 1, has_root: false, already: true })))
}
