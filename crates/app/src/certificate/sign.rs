//! Signing a request that was made elsewhere: what it asks for is shown, and what of it is honored.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::output::{directory, unoccupied};
use crate::report::{self, Answer, Certificate};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use tamga_core::ca::issue::{self, Holder, LEAF_LIFE, Signer};
use tamga_core::ca::report::{Authority, Issued, Life};
use tamga_core::ca::sign;
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::cert::csr::{self, Csr};
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::cert::subject::Subject;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::entropy;
use tamga_host::ledger::{Record, WorkKind};

/// What to sign, and how.
#[derive(Clone, Debug)]
pub struct Request {
    /// The file with the request.
    pub csr: PathBuf,
    /// Names that count instead of the request's.
    pub names: Vec<Name>,
    /// The authority's label, where there are several.
    pub issuer: Option<Label>,
    /// The label; None for the first name.
    pub label: Option<Label>,
    /// The directory for the certificate; None for one named as the label, below the current one.
    pub into: Option<PathBuf>,
    /// What it may be used for; empty for what the request asks for.
    pub purposes: Vec<Purpose>,
    /// How long it is valid.
    pub valid_for: Option<Span>,
    /// Its first moment; None for now.
    pub not_before: Option<Timestamp>,
    /// Its last moment, instead of a length of time.
    pub not_after: Option<Timestamp>,
    /// The fields of its subject.
    pub subject: Subject,
    /// Where its authority's list and certificate are found.
    pub links: Links,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
    /// Opens the authority's key.
    pub secret: Secret,
}

/// What was signed, or would be.
pub type Report = Answer<Done, Plan>;

/// What a request asks for, and what will become of it.
#[derive(Debug)]
pub struct Proposal {
    /// The request.
    pub csr: Csr,
    /// The names that are certified.
    pub names: Vec<Name>,
    /// The purposes that are certified.
    pub purposes: Vec<Purpose>,
    /// The authority that signs.
    pub issuer: Authority,
}

/// A certificate that was signed.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub certificates: [Certificate; 1],
    /// What was asked for.
    #[serde(rename = "request", serialize_with = "request_of")]
    #[schemars(with = "report::CsrView")]
    pub proposal: Proposal,
    /// Remarks.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// True if its key waited here: the certificate is beside it now.
    #[serde(skip)]
    pub is_ours: bool,
}

/// A certificate that would be signed.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// What is asked for.
    #[serde(rename = "request", serialize_with = "request_of")]
    #[schemars(with = "report::CsrView")]
    pub proposal: Proposal,
    /// Remarks.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
}

fn request_of<S: serde::Serializer>(p: &Proposal, s: S) -> std::result::Result<S::Ok, S::Error> {
    report::csr(&p.csr, s)
}

/// Signs a request.
///
/// Errors: a request that is malformed or does not prove its key; names or purposes that the authority may not certify; a label or
/// directory that is taken; an authority that cannot sign.
pub fn sign(env: &Env, request: &Request) -> Result<Report> {
    let csr = csr::find(&env.disk().read_named(&request.csr)?, &request.csr.shown())?;
    let wanted = (!request.purposes.is_empty()).then(|| request.purposes.clone());
    let all = env.authorities()?;
    let parent = authority::choose(request.issuer.as_deref(), &all, true)?.clone();
    let plan = sign::plan(&csr, &request.names, wanted, &parent, &request.accepted)?;
    issue::purposes_together(&plan.purposes)?;
    issue::names_within(&plan.names, &parent)?;
    let waiting = match env.open_to_look()? {
        Some(ledger) => ledger.all_waiting()?.into_iter().find(|w| !w.is_authority && w.csr.key == csr.key),
        None => None,
    };
    // Unless it was asked for elsewhere, the certificate goes beside its key; from elsewhere `receive` brings it there.
    let is_ours = waiting.is_some() && request.label.is_none() && request.into.is_none();
    let (label, folder) = match &waiting {
        Some(w) if is_ours => (w.label.clone(), w.folder.clone()),
        w => {
            let of_key = w.as_ref().map(|w| w.label.clone());
            let label = request.label.clone().or(of_key).map_or_else(|| plan.names[0].label(), Ok)?;
            let folder = directory(request.into.as_deref(), &label)?;
            (label, folder)
        }
    };
    let proposal = Proposal { csr, names: plan.names, purposes: plan.purposes, issuer: parent };
    if env.dry_run {
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, proposal, findings: plan.findings }));
    }
    unoccupied(env, &folder, &[CERTIFICATE_FILE])?;
    let wanted = issue::Request {
        purposes: proposal.purposes.clone(),
        from: request.not_before,
        valid_for: request.valid_for.unwrap_or(LEAF_LIFE),
        until: request.not_after,
        subject: issue::subject_of(&request.subject)?,
        links: request.links.clone(),
        accepted: request.accepted.clone(),
        ..issue::Request::server(proposal.names.clone(), label.clone(), folder.clone())
    };
    let (_lock, ledger) = env.open_for_change()?;
    if waiting.as_ref().is_none_or(|w| w.label != label) {
        let taken = ledger.waiting_place(&label)?;
        authority::free(&label, &ledger.authorities()?, ledger.current(&label)?.as_ref(), taken.as_deref())?;
    }
    let parent = &proposal.issuer;
    let key = env.authority_key(parent, &request.secret)?;
    let signer = Signer::Authority(parent, &key);
    let made = issue::make(&wanted, &Holder::Public(&proposal.csr.key), &signer, b"", env.now, &entropy::System)?;
    let issued = Issued {
        label: label.clone(),
        certificate: made.certificate,
        authority: Some(parent.label.clone()),
        folder,
        life: Life::Live,
        host: None,
        revoked: None,
    };
    let change = Change {
        what: WorkKind::Certificate,
        label: &issued.label,
        sha256: issued.certificate.sha256(),
        publication: &made.publication,
        answers: is_ours,
        record: Record::Certificate { issued: &issued, kind: if is_ours { "received" } else { "signed" }, root: None },
    };
    env.publish(&*ledger, &change)?;
    let mut files = vec![("certificate", CERTIFICATE_FILE)];
    files.extend(is_ours.then_some(("private_key", KEY_FILE)));
    files.extend(parent.top().map(|_| ("root", ROOT_FILE)));
    let findings = plan.findings.into_iter().chain(made.findings).collect();
    Ok(Answer::Done(Done { certificates: [Certificate { issued, files }], proposal, findings, is_ours }))
}
