//! A new root beside the old one, each certified by the other.

use crate::env::{Change, Env};
use crate::failure::Result;
use crate::report::{Answer, Member, Outcome};
use crate::secret::{AuthoritySecret, Secret};
use crate::token::{self, Holder};
use crate::trust::add_beside;
use crate::trust::row::{self, Row};
use crate::trust::stores::bundles;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::create::{self, AuthorityKey, Request as Wanted};
use tamga_core::ca::authority::limits::{self, permit_of};
use tamga_core::ca::authority::{self, rollover};
use tamga_core::ca::renew;
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::error::Error;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::{KeyAlgorithm, SigningKey};
use tamga_core::plan::step::Publication;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::permit::Permit;
use tamga_core::vocabulary::timestamp::Span;
use tamga_host::entropy;
use tamga_host::ledger::Record;
use tamga_host::ledger::WorkKind;

/// What to replace by what.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label of the root that there is.
    pub old: String,
    /// The label of the new one.
    pub new: Label,
    /// How long the new one is valid.
    pub valid_for: Option<Span>,
    /// Another kind of key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// Bundles that the old root was put into, absolute.
    pub bundles: Vec<PathBuf>,
    /// Opens the old key.
    pub secret: Secret,
    /// Protects the new one.
    pub new_secret: AuthoritySecret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// A root that was made beside another.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The new one alone.
    pub authorities: [Member; 1],
    /// Where it was put beside the old one.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// The new one.
    #[serde(skip)]
    pub authority: Authority,
    /// The label of the old one.
    #[serde(skip)]
    pub old: String,
}

impl Done {
    /// The outcome.
    pub fn outcome(&self) -> Outcome {
        row::outcome(&self.rows)
    }
}

/// A root that would be made beside another.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    stores: [(); 0],
    dry_run: bool,
    /// The label of the old one.
    #[serde(skip)]
    pub old: String,
}

/// Makes the successor of a root.
///
/// Errors: the old one is no root or cannot sign; a label that is taken. What fails in a store is in its row.
pub fn rollover(env: &Env, request: &Request) -> Result<Report> {
    let label = &request.new;
    if env.dry_run {
        let all = env.authorities()?;
        let old = root(&all, &request.old)?;
        authority::can_sign(old)?;
        return Ok(Answer::Planned(Plan { authorities: [], stores: [], dry_run: true, old: old.label.to_string() }));
    }
    let asked = request.new_secret.wanted(env, &format!("the key of {label}"))?;
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let old = root(&all, &request.old)?;
    super::free(&*ledger, label)?;
    // The successor of an encrypted key is encrypted: with the same passphrase where no other is given.
    let (old_key, protect) = match (env.is_locked(old), asked) {
        (true, None) => {
            let (key, passphrase) = env.locked_authority_key(old, &request.secret)?;
            (key, passphrase)
        }
        (_, asked) => (env.authority_key(old, &request.secret)?, asked),
    };
    let algorithm = request.key_algorithm.unwrap_or_else(|| renew::algorithm_of(&old.certificate));
    // The successor of a key on a token is on the same token.
    let (key, is_found) = match old.key {
        KeyPlace::Token(_) => {
            let (key, is_made) = token::beside(env, old, label, algorithm, &request.secret, &all)?;
            (Holder::Token(Box::new(key)), !is_made)
        }
        _ => (Holder::File(Box::new(env.generate(algorithm)?)), false),
    };
    let signed = sign(env, request, (old, &*old_key), key.of_authority(protect.as_ref())).inspect_err(|_| {
        if !is_found {
            key.discard(env);
        }
    })?;
    let new = signed.new;
    let change = Change {
        what: WorkKind::Authority,
        label,
        sha256: new.certificate.sha256(),
        publication: &signed.publication,
        answers: false,
        record: Record::Successor { new: &new, old: &old.label, old_by_new: &signed.old_by_new },
    };
    env.publish(&*ledger, &change)?;
    let rows = add_beside(env, &*ledger, old, &new, &bundles(env, Some(&*ledger), &request.bundles)?)?;
    Ok(Answer::Done(Done { authorities: [new.clone().into()], rows, authority: new, old: old.label.to_string() }))
}

/// A new root with the certificates that lead from one to the other.
struct Signed {
    new: Authority,
    publication: Publication,
    old_by_new: Certificate,
}

fn sign(
    env: &Env,
    request: &Request,
    (old, old_key): (&Authority, &dyn SigningKey),
    key: AuthorityKey<'_>,
) -> Result<Signed> {
    let label = &request.new;
    let wanted = Wanted {
        purposes: old.purposes.clone(),
        links: old.links.clone(),
        path_length: old.certificate.basic.and_then(|b| b.path_length),
        valid_for: request.valid_for,
        wanted: limits_of(old),
        ..Wanted::plain(label.clone())
    };
    let folder = env.authority_directory(label.as_str());
    let made = create::root(&wanted, key, folder, env.now, &entropy::System)?;
    let crossed = rollover::cross(old, old_key, &made.authority, key.signing(), env.now, &entropy::System)?;
    let new = Authority { crossed: vec![crossed.new_by_old], ..made.authority };
    Ok(Signed { new, publication: made.publication, old_by_new: crossed.old_by_new })
}

fn root<'a>(all: &'a [Authority], label: &str) -> Result<&'a Authority> {
    let a = authority::choose(Some(label), all, true)?;
    if !a.is_root() {
        let issuer = a.issuer.as_deref().unwrap_or("LABEL");
        return Err(Error::Contradiction {
            what: format!("{} is no root", a.label),
            why: "an intermediate is replaced by a new one under the same root".into(),
            instead: format!("make it: tamga authority create {}-2 --issuer {issuer}", a.label),
        }
        .into());
    }
    Ok(a)
}

/// The limits of the old root, as they would be asked for.
fn limits_of(old: &Authority) -> limits::Wanted {
    match old.certificate.constraints.as_ref().map(permit_of) {
        Some(Permit::Only { domains, blocks }) => limits::Wanted {
            permit: domains.into_iter().chain(blocks.iter().map(ToString::to_string)).collect(),
            any: false,
        },
        _ => limits::Wanted { permit: Vec::new(), any: true },
    }
}
