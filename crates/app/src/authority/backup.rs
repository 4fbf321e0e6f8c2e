//! The ledger and all authorities in one encrypted file, and back.

use crate::env::Env;
use crate::failure::Result;
use crate::output::Occupied;
use crate::report::{self, Answer, Member};
use crate::secret::{AuthoritySecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use tamga_core::ca::report::KeyPlace;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::backup;

/// A backup that was written.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The file.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub file: PathBuf,
    /// How many authorities are in it.
    pub authorities: usize,
    /// Those whose private key is on a token, and so not in it.
    pub keys_on_tokens: Vec<Label>,
}

/// A backup that would be written.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    dry_run: bool,
    /// How many authorities would be in it.
    #[serde(skip)]
    pub authorities: usize,
}

/// Writes a backup.
///
/// Errors: a file that is there; a passphrase that is refused; files that cannot be read or written.
pub fn backup(env: &Env, output: &Path, new_secret: &AuthoritySecret) -> Result<Answer<Done, Plan>> {
    let all = env.authorities()?;
    let authorities = all.len();
    if env.dry_run {
        return Ok(Answer::Planned(Plan { dry_run: true, authorities }));
    }
    if env.disk().is_taken(output) {
        return Err(Occupied::named(output).into());
    }
    let passphrase = new_secret.needed(env, "the backup")?;
    let (_lock, ledger) = env.open_for_change()?;
    backup::write(&*ledger, env.machine.data(), output, &passphrase)?;
    ledger.note(env.now, "backed-up", "", &output.shown())?;
    let on_token = all.into_iter().filter(|a| matches!(a.key, KeyPlace::Token(_)));
    Ok(Answer::Done(Done { file: output.to_owned(), authorities, keys_on_tokens: on_token.map(|a| a.label).collect() }))
}

/// Authorities that were restored.
#[derive(Serialize, JsonSchema)]
pub struct Restored {
    /// They.
    pub authorities: Vec<Member>,
    /// Their labels.
    #[serde(skip)]
    pub labels: Vec<Label>,
}

/// Authorities that would be restored.
#[derive(Serialize, JsonSchema)]
pub struct RestorePlan {
    authorities: [(); 0],
    dry_run: bool,
}

/// Restores a backup into an empty data directory.
///
/// Errors: a data directory that is not empty; a wrong passphrase; a file that is no backup.
pub fn restore(env: &Env, file: &Path, secret: &Secret) -> Result<Answer<Restored, RestorePlan>> {
    if env.dry_run {
        return Ok(Answer::Planned(RestorePlan { authorities: [], dry_run: true }));
    }
    let passphrase = secret.needed(env, &file.shown())?;
    backup::restore(file, env.machine.data(), &passphrase, env.now)?;
    let all = env.authorities()?;
    let labels = all.iter().map(|a| a.label.clone()).collect();
    Ok(Answer::Done(Restored { authorities: all.into_iter().map(Member::from).collect(), labels }))
}
