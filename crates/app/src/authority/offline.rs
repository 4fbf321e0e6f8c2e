//! An authority's key leaves for a removable place, proved before it is removed here.

use crate::env::Env;
use crate::failure::Result;
use crate::keys::own;
use crate::output::{Occupied, absolute};
use crate::report::{Answer, Member};
use crate::secret::{AuthoritySecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::create::chain;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE, certificate_document, key_document};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::error::Error;
use tamga_core::pki::signature;
use tamga_core::plan::step::Document;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::{Record, Work};

/// What to take where.
#[derive(Clone, Debug)]
pub struct Request {
    /// The authority's label.
    pub label: Label,
    /// The directory: a stick, a card.
    pub into: PathBuf,
    /// Take it away as it is, although it is not encrypted.
    pub unencrypted: bool,
    /// Opens the key.
    pub secret: Secret,
    /// Protects it there.
    pub new_secret: AuthoritySecret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// An authority whose key is away.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub authorities: [Member; 1],
    /// Its label.
    #[serde(skip)]
    pub label: Label,
    /// Where its key is.
    #[serde(skip)]
    pub place: PathBuf,
    /// True if the key is encrypted there.
    #[serde(skip)]
    pub is_encrypted: bool,
}

/// An authority whose key would be taken away.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    authorities: [(); 0],
    dry_run: bool,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
    /// Where its key would be.
    #[serde(skip)]
    pub place: PathBuf,
}

/// Copies the key there, proves the copy, and removes it here.
///
/// Errors: an authority that cannot sign; a place that another key has; a medium that does not return what was written: the key is
/// then still here.
pub fn offline(env: &Env, request: &Request) -> Result<Report> {
    let into = absolute(&request.into)?;
    if env.dry_run {
        let label = super::able_with_file(env, &request.label)?.label;
        return Ok(Answer::Planned(Plan { authorities: [], dry_run: true, label: label.clone(), place: into }));
    }
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&request.label), &all, true)?;
    authority::has_key_file(a)?;
    let here = a.folder.join(KEY_FILE);
    let (document, passphrase) = document(env, request, a, &here)?;
    let there = into.join(KEY_FILE);
    free_place(env, &there, a)?;
    env.disk().make_directory(&into, 0o700)?;
    let work = Work::KeyLeaves { label: a.label.clone(), file: here.clone().into(), into: Some(into.clone().into()) };
    let id = ledger.begin(&work, &Record::Nothing, env.now)?;
    // The certificate first: it says whose key lies there, also if this is interrupted.
    env.disk().replace(&into.join(CERTIFICATE_FILE), &certificate_document(CERTIFICATE_FILE, chain(a)))?;
    env.disk().replace(&there, &document)?;
    prove(env, a, &there, passphrase.as_ref())?;
    // From this commit on the copy counts; killed before it, the file here does.
    ledger.set_key_place(&a.label, &KeyPlace::Offline(into.clone()), "offline", env.now)?;
    env.disk().remove(&here)?;
    ledger.finish(id, &work)?;
    let gone = Authority { key: KeyPlace::Offline(into.clone()), ..a.clone() };
    let (label, is_encrypted) = (a.label.clone(), !document.secret);
    Ok(Answer::Done(Done { authorities: [gone.into()], label: label.clone(), place: into, is_encrypted }))
}

/// The key as it will lie there: encrypted as it is, or with a new passphrase; unencrypted only if asked.
fn document(env: &Env, request: &Request, a: &Authority, here: &Path) -> Result<(Document, Option<Passphrase>)> {
    let of = format!("the key of {}", a.label);
    let stored = env.stored_key(&a.label, here)?;
    let (key, old) = env.open_stored(stored, &of, &request.secret)?;
    let key = own(key, &a.certificate, &a.label, &a.folder)?;
    let there = format!("{of} in {}", request.into.shown());
    let passphrase = match (request.new_secret.wanted(env, &there)?, old) {
        (Some(new), _) => Some(new),
        (None, Some(old)) => Some(old),
        (None, None) if request.unencrypted => None,
        (None, None) => Some(request.new_secret.needed(env, &there)?),
    };
    Ok((key_document(&key, passphrase.as_ref(), &entropy::System)?, passphrase))
}

/// Another key's place is not taken; a copy of this very one may be replaced.
fn free_place(env: &Env, there: &Path, a: &Authority) -> Result<()> {
    let beside = there.with_file_name(CERTIFICATE_FILE);
    let same = env
        .disk()
        .read(&beside)
        .is_ok_and(|b| tamga_core::pki::format::pem::certificates(&b).iter().any(|der| *der == a.certificate.der()));
    if env.disk().is_taken(there) && !same {
        return Err(Occupied::named(there).into());
    }
    Ok(())
}

/// Reads the copy back from the medium, opens it, and has it sign something that the certificate's key verifies.
fn prove(env: &Env, a: &Authority, there: &Path, passphrase: Option<&Passphrase>) -> Result<()> {
    let key = env.stored_key(&a.label, there)?.open(passphrase)?;
    let message = format!("proof that {} can sign", a.label);
    let signature = key.sign(message.as_bytes(), &entropy::System)?;
    let proved =
        signature::verify(&key.signature_algorithm(), a.certificate.key.spki(), message.as_bytes(), &signature);
    if proved.is_err() {
        return Err(Error::Objection {
            code: "key-mismatch",
            what: format!("the copy in {} does not sign for {}", there.shown(), a.label),
            why: "what was read back from there is not what was written".into(),
            instead: "use another medium; the key is still here, unchanged".into(),
        }
        .into());
    }
    Ok(())
}
