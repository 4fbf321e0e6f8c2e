//! A root, or an intermediate under another authority.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::report::{Answer, Member};
use crate::secret::{AuthoritySecret, Secret};
use crate::token::{Holder, TokenRequest};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::create::{self, AuthorityKey, Made};
use tamga_core::ca::authority::{self, limits};
use tamga_core::ca::report::Authority;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey, SigningKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::permit::Permit;
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
    /// The kind of its key; None for P-256, or for whatever is on the token already.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// The token that it is kept on; None for a file.
    pub token: Option<TokenRequest>,
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
    /// True if its key was on the token already.
    #[serde(skip)]
    pub is_found: bool,
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
    // Before the lock: RSA keys take seconds. One on a token is made when everything else stands.
    let source = match &request.token {
        Some(token) => Source::On(token),
        None => Source::Made(Box::new(env.generate(request.key_algorithm.unwrap_or(KeyAlgorithm::P256))?)),
    };
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
    let parent = parent.as_ref().map(|(a, k)| (a, &**k));
    let known = super::free(&*ledger, &wanted.label)?;
    let (key, is_found) = match source {
        Source::Made(key) => (Holder::File(key), false),
        Source::On(token) => {
            let (key, is_made) = token.find_or_make(env, &wanted.label, request.key_algorithm, &known)?;
            (Holder::Token(Box::new(key)), !is_made)
        }
    };
    let made = sign(env, wanted, key.of_authority(protect.as_ref()), parent).inspect_err(|_| {
        if !is_found {
            key.discard(env);
        }
    })?;
    // From here on it may be recorded, whatever the ledger says: a key that stays without an authority is found by the next run.
    record(env, &*ledger, &made)?;
    Ok(Answer::Done(Done {
        authorities: [made.authority.clone().into()],
        authority: made.authority,
        is_encrypted: protect.is_some(),
        is_shortened: made.shortened,
        is_found,
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

/// Where the key of a new authority comes from.
enum Source<'a> {
    Made(Box<PrivateKey>),
    On(&'a TokenRequest),
}

/// Makes an authority and records it. The ledger is locked.
///
/// Errors: as for [`create`].
pub(crate) fn make(
    env: &Env,
    ledger: &dyn Ledger,
    request: &create::Request,
    key: AuthorityKey<'_>,
    parent: Option<(&Authority, &dyn SigningKey)>,
) -> Result<Made> {
    super::free(ledger, &request.label)?;
    let made = sign(env, request, key, parent)?;
    record(env, ledger, &made)?;
    Ok(made)
}

fn sign(
    env: &Env,
    request: &create::Request,
    key: AuthorityKey<'_>,
    parent: Option<(&Authority, &dyn SigningKey)>,
) -> Result<Made> {
    let folder = env.authority_directory(&request.label);
    Ok(match parent {
        None => create::root(request, key, folder, env.now, &entropy::System)?,
        Some((parent, parent_key)) => {
            create::intermediate(request, key, parent, parent_key, folder, env.now, &entropy::System)?
        }
    })
}

fn record(env: &Env, ledger: &dyn Ledger, made: &Made) -> Result<()> {
    let change = Change {
        what: WorkKind::Authority,
        label: &made.authority.label,
        sha256: made.authority.certificate.sha256(),
        publication: &made.publication,
        answers: false,
        record: Record::Authority(&made.authority),
    };
    env.publish(ledger, &change)
}
