//! An authority's key comes back from a removable place.

use crate::env::Env;
use crate::failure::Result;
use crate::keys::{certificates, own};
use crate::report::{Answer, Member};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::error::Error;
use tamga_core::plan::step::Document;
use tamga_core::vocabulary::label::Label;
use tamga_host::ledger::{Record, Work};

/// Where it is.
#[derive(Clone, Debug)]
pub struct Request {
    /// The directory that `offline` wrote.
    pub from: PathBuf,
    /// Opens the key, to see that it is whole.
    pub secret: Secret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority whose key is here again.
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
}

/// An authority whose key would be brought back.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
}

/// Brings a key back; the copy stays as it is.
///
/// Errors: no authority has that key; it cannot be opened; files that cannot be written.
pub fn online(env: &Env, request: &Request) -> Result<Report> {
    let found = certificates(env, &[request.from.join(CERTIFICATE_FILE)])?;
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let meant = all.iter().find(|a| found.first().is_some_and(|c| c.key == a.certificate.key));
    let Some(a) = meant else {
        return Err(Error::LabelUnknown {
            label: found.first().map(tamga_core::pki::cert::Certificate::subject_words).unwrap_or_default(),
            sought: "authority with that key",
            known: all.iter().map(|a| a.label.to_string()).collect(),
        }
        .into());
    };
    let there = request.from.join(KEY_FILE);
    let stored = env.stored_key(&a.label, &there)?;
    let is_encrypted = stored.is_locked();
    // Opened only to see that it is whole and its own: it comes back as it lies there.
    let key = env.open_key(stored, &format!("the key of {}", a.label), &request.secret)?;
    own(key, &a.certificate, &a.label, &request.from)?;
    if env.dry_run {
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, label: a.label.clone() }));
    }
    let bytes = env.disk().read_named(&there)?;
    let here = a.folder.join(KEY_FILE);
    let work = Work::Replace {
        said: format!("bringing the key of {} back was interrupted; run tamga authority online again", a.label),
        files: vec![here.clone().into()],
    };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    env.disk().make_directory(&a.folder, 0o700)?;
    env.disk().replace(&here, &Document { name: KEY_FILE, bytes, mode: 0o600, secret: !is_encrypted })?;
    ledger.set_key_place(&a.label, &KeyPlace::Here, "online", env.now)?;
    ledger.finish(id, &work)?;
    let authority = Authority { key: KeyPlace::Here, ..a.clone() };
    Ok(Answer::Done(Done { authorities: [authority.clone().into()], authority, is_encrypted }))
}
