//! A passphrase for an authority's key, another one, or none.

use crate::env::Env;
use crate::failure::Result;
use crate::keys::own;
use crate::report::Answer;
use crate::secret::{AuthoritySecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::ca::authority::{self, KEY_FILE, key_document};
use tamga_core::vocabulary::label::Label;
use tamga_host::entropy;
use tamga_host::ledger::{Record, Work};

/// What to do.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority's label.
    pub label: Label,
    /// Leave the key unencrypted from now on.
    pub remove: bool,
    /// Opens the key.
    pub secret: Secret,
    /// Protects it from now on.
    pub new_secret: AuthoritySecret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// A key whose passphrase changed.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The authority's label.
    pub label: Label,
    /// True if the key is encrypted now.
    pub encrypted: bool,
    /// `passphrase-set`, `passphrase-changed` or `passphrase-removed`.
    pub change: &'static str,
}

/// A key whose passphrase would change.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    dry_run: bool,
    /// The authority's label.
    #[serde(skip)]
    pub label: Label,
}

/// Sets, changes or removes the passphrase of an authority's key.
///
/// Errors: an authority whose key is not here; a wrong passphrase; a new one that is refused; files that cannot be written.
pub fn passphrase(env: &Env, request: &Request) -> Result<Report> {
    if env.dry_run {
        return Ok(Answer::Planned(Plan {
            dry_run: true,
            label: super::able_with_file(env, &request.label)?.label.clone(),
        }));
    }
    if request.remove {
        let label = super::able_with_file(env, &request.label)?.label;
        env.confirm_irrevocable(
            &format!("removing the passphrase of {label}"),
            &format!("store the key of {label} without a passphrase"),
        )?;
    }
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&request.label), &all, true)?;
    authority::has_key_file(a)?;
    let file = a.folder.join(KEY_FILE);
    let of = format!("the key of {}", a.label);
    let stored = env.stored_key(&a.label, &file)?;
    let was_locked = stored.is_locked();
    let key = own(env.open_key(stored, &of, &request.secret)?, &a.certificate, &a.label, &a.folder)?;
    let new = if request.remove { None } else { Some(request.new_secret.needed(env, &of)?) };
    let document = key_document(&key, new.as_ref(), &entropy::System)?;
    // One file, put in place whole: killed before or after, it opens with the old passphrase or with the new one.
    let work = Work::Replace {
        said: format!(
            "changing the passphrase of {} was interrupted; its key opens with the old one or the new one",
            a.label
        ),
        files: vec![file.clone().into()],
    };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    env.disk().replace(&file, &document)?;
    let change = match (was_locked, &new) {
        (false, Some(_)) => "passphrase-set",
        (true, Some(_)) => "passphrase-changed",
        (_, None) => "passphrase-removed",
    };
    ledger.note(env.now, change, &a.label, "")?;
    ledger.finish(id, &work)?;
    Ok(Answer::Done(Done { label: a.label.clone(), encrypted: new.is_some(), change }))
}
