//! An intermediate that was signed on another machine, back to its waiting key.

use crate::certificate::waiting;
use crate::env::{Change, Env};
use crate::failure::Result;
use crate::keys::certificates;
use crate::report::{self, Answer, Member};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{import, request};
use tamga_core::ca::report::Authority;
use tamga_core::finding::Finding;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::Record;
use tamga_host::ledger::WorkKind;

/// What came back.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label of the waiting key.
    pub label: Label,
    /// Files with the certificate, and what is above it.
    pub certificates: Vec<PathBuf>,
}

/// What was received, or would be.
pub type Report = Answer<Done, Plan>;

/// An intermediate that was received.
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

/// An intermediate that would be received.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// Its subject.
    #[serde(skip)]
    pub subject: String,
}

/// Puts the certificate beside its key.
///
/// Errors: no key waits under this label; the certificate is not for that key, or no CA's; files that cannot be written.
pub fn receive(env: &Env, request: &Request) -> Result<Report> {
    let label = &request.label;
    let found = certificates(env, &request.certificates)?;
    if env.dry_run {
        let waiting = waiting(env.open_to_look()?.as_deref(), label, true)?;
        let (a, _) = request::receive(label, waiting.folder.clone(), &waiting.csr, &found, &env.authorities()?)?;
        import::examine(&a.certificate, &a.above, env.now, &[])?;
        let subject = a.certificate.subject_words();
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, subject }));
    }
    let (_lock, ledger) = env.open_for_change()?;
    let waiting = waiting(Some(&*ledger), label, true)?;
    let known = ledger.authorities()?;
    let (a, publication) = request::receive(label, waiting.folder.clone(), &waiting.csr, &found, &known)?;
    let findings = import::examine(&a.certificate, &a.above, env.now, &[])?;
    let a = Authority { purposes: waiting.purposes.clone(), links: waiting.links.clone(), ..a };
    let change = Change {
        what: WorkKind::Authority,
        label,
        sha256: a.certificate.sha256(),
        publication: &publication,
        answers: true,
        record: Record::Authority(&a),
    };
    env.publish(&*ledger, &change)?;
    Ok(Answer::Done(Done { authorities: [a.clone().into()], findings, authority: a }))
}
