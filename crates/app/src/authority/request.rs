//! Key and request for an intermediate that is signed on another machine.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::report::{Answer, Member, Request as Waits};
use crate::secret::AuthoritySecret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{REQUEST_FILE, create, request};
use tamga_core::pki::format::pem;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_host::entropy;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Record, Waiting};

/// What to ask for.
#[derive(Debug)]
pub struct Request {
    /// The authority.
    pub authority: create::Request,
    /// The kind of its key.
    pub key_algorithm: KeyAlgorithm,
    /// A copy of the request to carry to the other machine.
    pub output: Option<PathBuf>,
    /// Protects the new key.
    pub new_secret: AuthoritySecret,
}

/// What was made, or would be.
pub type Report = Answer<Done, Plan>;

/// A key and a request.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The waiting key.
    pub authorities: [Member; 1],
    /// The label.
    #[serde(skip)]
    pub label: Label,
    /// The file to carry.
    #[serde(skip)]
    pub carried: PathBuf,
    /// The request as PEM.
    #[serde(skip)]
    pub pem: String,
}

/// A key and a request that would be made.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// The directory.
    #[serde(skip)]
    pub directory: PathBuf,
}

/// Makes a key and a request.
///
/// Errors: a label that is taken; files that cannot be written.
pub fn request(env: &Env, wish: &Request) -> Result<Report> {
    let wanted = &wish.authority;
    let label = &wanted.label;
    let folder = env.authority_directory(label);
    if env.dry_run {
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, directory: folder }));
    }
    let protect = wish.new_secret.wanted(env, &format!("the key of {label}"))?;
    let key = env.generate(wish.key_algorithm)?;
    let (_lock, ledger) = env.open_for_change()?;
    super::free(&*ledger, &wanted.label)?;
    let asked = request::ask(wanted, &key, protect.as_ref(), folder.clone(), &entropy::System)?;
    let waiting = Waiting {
        label: label.clone(),
        is_authority: true,
        csr: asked.csr,
        folder: folder.clone(),
        purposes: wanted.purposes.clone(),
        links: wanted.links.clone(),
    };
    let change = Change {
        what: WorkKind::Request,
        label,
        sha256: waiting.csr.sha256(),
        publication: &asked.publication,
        answers: false,
        record: Record::Request(&waiting),
    };
    env.publish(&*ledger, &change)?;
    let pem = pem::write(pem::REQUEST, waiting.csr.der()).to_string();
    if let Some(output) = &wish.output {
        env.disk().write_whole(output, pem.as_bytes(), 0o644)?;
    }
    let carried = wish.output.clone().unwrap_or_else(|| folder.join(REQUEST_FILE));
    let authorities = [Member::Waiting(Box::new(Waits { waiting, carried: wish.output.clone() }))];
    Ok(Answer::Done(Done { authorities, label: label.clone(), carried, pem }))
}
