//! An intermediate that another machine asked for, shown before it is signed.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::interact::Question;
use crate::output::{directory, unoccupied};
use crate::report::{Answer, Member};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::create::INTERMEDIATE_LIFE;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE, limits, request};
use tamga_core::ca::report::Authority;
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::pki::cert::csr::{self, Csr};
use tamga_core::pki::cert::subject;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::entropy;
use tamga_host::ledger::Record;
use tamga_host::ledger::WorkKind;

/// What to sign, and how.
#[derive(Clone, Debug)]
pub struct Request {
    /// The file with the request.
    pub csr: PathBuf,
    /// The authority's label, where there are several.
    pub issuer: Option<Label>,
    /// The label here; None for one from its subject.
    pub label: Option<Label>,
    /// The directory for the certificate; None for one named as the label, below the current one.
    pub into: Option<PathBuf>,
    /// How many intermediates may follow below it.
    pub path_length: Option<u8>,
    /// How long it is valid.
    pub valid_for: Option<Span>,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
    /// Opens the authority's key.
    pub secret: Secret,
}

/// What was signed, or would be.
pub type Report = Answer<Done, Plan>;

/// What is asked for, and what it would become.
#[derive(Debug)]
pub struct Proposal {
    /// The request.
    pub csr: Csr,
    /// The authority that signs.
    pub issuer: Authority,
    /// What would be signed.
    pub judged: request::Judged,
    /// True if it may certify every name that what is above it may.
    pub is_unconstrained: bool,
}

/// An intermediate that was signed; none if the caller said no.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It.
    pub authorities: Vec<Member>,
    /// It, and what was asked for.
    #[serde(skip)]
    pub signed: Option<(Authority, PathBuf)>,
    /// What was asked for.
    #[serde(skip)]
    pub proposal: Proposal,
}

/// An intermediate that would be signed.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// What is asked for.
    #[serde(skip)]
    pub proposal: Proposal,
}

/// Signs an intermediate. `show` is called before the caller is asked.
///
/// Errors: a request that is malformed or does not prove its key; limits that the authority may not give; a label or directory that
/// is taken; an authority that cannot sign.
pub fn sign(env: &Env, request: &Request, show: impl FnOnce(&Proposal)) -> Result<Report> {
    let csr = csr::find(&env.disk().read_named(&request.csr)?, &request.csr.shown())?;
    let label = match &request.label {
        Some(label) => label.clone(),
        None => label_of(&csr)?,
    };
    let folder = directory(request.into.as_deref(), &label)?;
    let life = request.valid_for.unwrap_or(INTERMEDIATE_LIFE);
    let weak = request.accepted.contains(&Code::WeakKey);
    let all = env.authorities()?;
    let issuer = authority::choose(request.issuer.as_deref(), &all, true)?.clone();
    let judged = request::judge(&csr, &issuer, request.path_length, life, env.now, weak)?;
    let is_unconstrained = limits::of_intermediate(&judged.wanted, &issuer)?.is_none();
    let proposal = Proposal { csr, issuer, judged, is_unconstrained };
    if env.dry_run {
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, proposal }));
    }
    if env.caller.is_present() {
        show(&proposal);
        if env.caller.confirm(Question::Sign) == Some(false) {
            return Ok(Answer::Done(Done { authorities: Vec::new(), signed: None, proposal }));
        }
    }
    unoccupied(env, &folder, &[CERTIFICATE_FILE, KEY_FILE])?;
    let (_lock, ledger) = env.open_for_change()?;
    super::free(&*ledger, &label)?;
    let Proposal { csr, issuer, judged, .. } = &proposal;
    let key = env.authority_key(issuer, &request.secret)?;
    let (signed, publication) =
        request::sign(csr, judged, &label, issuer, &key, folder.clone(), env.now, &entropy::System)?;
    let change = Change {
        what: WorkKind::Authority,
        label: &label,
        sha256: signed.certificate.sha256(),
        publication: &publication,
        answers: false,
        record: Record::Authority(&signed),
    };
    env.publish(&*ledger, &change)?;
    let file = folder.join(CERTIFICATE_FILE);
    let authorities = vec![Member::Signed(Box::new(signed.clone()), file.clone())];
    Ok(Answer::Done(Done { authorities, signed: Some((signed, file)), proposal }))
}

/// A label from the common name: the first word of `web intermediate (Tamga, tests only)`, or all of another.
fn label_of(csr: &Csr) -> Result<Label> {
    let common = subject::common_name(&csr.subject).unwrap_or_default();
    let own = common.strip_suffix(" intermediate (Tamga, tests only)").unwrap_or(&common);
    Label::from_text(own).map_err(|_| {
        Error::Contradiction {
            what: format!("no label can be made from {}", csr.subject_words()),
            why: "its common name is empty or of other characters".into(),
            instead: "choose one: --label TEXT".into(),
        }
        .into()
    })
}
