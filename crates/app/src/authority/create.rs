//! A root, or an intermediate under another authority.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::report::{Answer, Member};
use crate::secret::{AuthoritySecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::create::{self, Made};
use tamga_core::ca::authority::{self, limits};
use tamga_core::ca::report::Authority;
use tamga_core::pki::key::SigningKey;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::permit::Permit;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::entropy;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Ledger, Record};

/// What to make.
#[derive(Debug)]
pub struct Request {
    /// The authority.
    pub authority: create::Request,
    /// The label of the authority above it; None for a root.
    pub issuer: Option<Label>,
    /// The kind of its key.
    pub key_algorithm: KeyAlgorithm,
    /// Opens the issuer's key.
    pub secret: Secret,
    /// Protects the new key.
    pub new_secret: AuthoritySecret,
}

/// What was made, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority that was made.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub authorities: [Member; 1],
    /// It.
    #[serde(skip)]
    pub authority: Authority,
    /// True if its key is encrypted.
    #[serde(skip)]
    pub is_encrypted: bool,
    /// True if it expires earlier than asked for, with its issuer.
    #[serde(skip)]
    pub is_shortened: bool,
}

/// An authority that would be made.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
    /// The authority above it.
    #[serde(skip)]
    pub issuer: Option<Label>,
    /// What it may certify, of a root.
    #[serde(skip)]
    pub permit: Permit,
    /// Its directory.
    #[serde(skip)]
    pub directory: PathBuf,
}

/// Makes an authority.
///
/// Errors: a label that is taken; limits that cannot be given; an issuer that cannot sign; files that cannot be written.
pub fn create(env: &Env, request: &Request) -> Result<Report> {
    let wanted = &request.authority;
    let permit = limits::of_root(&wanted.wanted)?;
    if env.dry_run {
        return plan(env, request, permit).map(Answer::Planned);
    }
    let protect = request.new_secret.wanted(env, &format!("the key of {}", wanted.label))?;
    let key = env.generate(request.key_algorithm)?;
    let (_lock, ledger) = env.open_for_change()?;
    let parent = match &request.issuer {
        Some(issuer) => {
            let authorities = ledger.authorities()?;
            let parent = authority::choose(Some(issuer), &authorities, true)?.clone();
            let key = env.authority_key(&parent, &request.secret)?;
            Some((parent, key))
        }
        None => None,
    };
    let made = make(env, &*ledger, wanted, &key, protect.as_ref(), parent.as_ref().map(|(a, k)| (a, &**k)))?;
    Ok(Answer::Done(Done {
        authorities: [made.authority.clone().into()],
        authority: made.authority,
        is_encrypted: protect.is_some(),
        is_shortened: made.shortened,
    }))
}

fn plan(env: &Env, request: &Request, permit: Permit) -> Result<Plan> {
    let wanted = &request.authority;
    let authorities = match env.open_to_look()? {
        Some(l) => super::free(&*l, &wanted.label)?,
        None => Vec::new(),
    };
    let issuer = match &request.issuer {
        Some(issuer) => {
            let parent = authority::choose(Some(issuer), &authorities, true)?;
            limits::of_intermediate(&wanted.wanted, parent)?;
            Some(parent.label.clone())
        }
        None => None,
    };
    let directory = env.authority_directory(wanted.label.as_str());
    Ok(Plan { authorities: [], dry_run: true, label: wanted.label.clone(), issuer, permit, directory })
}

/// Makes an authority and records it. The ledger is locked.
///
/// Errors: as for [`create`].
pub(crate) fn make(
    env: &Env,
    ledger: &dyn Ledger,
    request: &create::Request,
    key: &PrivateKey,
    protect: Option<&Passphrase>,
    parent: Option<(&Authority, &dyn SigningKey)>,
) -> Result<Made> {
    let label = &request.label;
    super::free(ledger, &request.label)?;
    let folder = env.authority_directory(label);
    let made = match parent {
        None => create::root(request, key, protect, folder, env.now, &entropy::System)?,
        Some((parent, parent_key)) => {
            create::intermediate(request, key, parent, parent_key, protect, folder, env.now, &entropy::System)?
        }
    };
    let change = Change {
        what: WorkKind::Authority,
        label,
        sha256: made.authority.certificate.sha256(),
        publication: &made.publication,
        answers: false,
        record: Record::Authority(&made.authority),
    };
    env.publish(ledger, &change)?;
    Ok(made)
}
