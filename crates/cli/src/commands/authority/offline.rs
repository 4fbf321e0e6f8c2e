//! `tamga authority offline LABEL --into DIR`: the key leaves for a removable place, proved before it is removed here.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::{Session, own, stored_key};
use crate::words::{human, json};
use std::path::{Path, PathBuf};
use tamga_core::authority::create::chain;
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE, certificate_document, key_document};
use tamga_core::error::Error;
use tamga_core::report::{Authority, KeyPlace};
use tamga_core::secret::Passphrase;
use tamga_core::signature;
use tamga_core::step::Document;
use tamga_core::text::Shown;
use tamga_host::ledger::{Record, Work};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority offline saltmarsh --into /media/lab-key")]
pub(crate) struct OfflineArgs {
    /// Which
    label: String,
    /// Where the key goes: a stick, a card
    #[arg(long, value_name = "DIR")]
    into: PathBuf,
    /// Take it away as it is, although it is not encrypted
    #[arg(long)]
    unencrypted: bool,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: &OfflineArgs) -> Result<Done> {
    let into = std::path::absolute(&args.into).map_err(tamga_host::error::Error::file("finding", &args.into))?;
    if session.common.dry_run {
        let all = session.authorities()?;
        let a = authority::choose(Some(&args.label), &all, true)?;
        authority::can_sign(a)?;
        let text =
            format!("would take the key of {} to {}, prove the copy, and remove it here\n", a.label, into.shown());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&args.label), &all, true)?;
    authority::can_sign(a)?;
    let here = a.folder.join(KEY_FILE);
    let (document, passphrase) = document(args, a, &here)?;
    let there = into.join(KEY_FILE);
    free_place(&there, a)?;
    fs::make_directory(&into, 0o700)?;
    let work = Work::KeyLeaves { label: a.label.clone(), file: here.clone().into(), into: Some(into.clone().into()) };
    let id = ledger.begin(&work, &Record::Nothing, session.now)?;
    // The certificate first: it says whose key lies there, also if this is interrupted.
    fs::replace(&into.join(CERTIFICATE_FILE), &certificate_document(CERTIFICATE_FILE, chain(a)))?;
    fs::replace(&there, &document)?;
    prove(a, &there, passphrase.as_ref())?;
    // From this commit on the copy counts; killed before it, the file here does.
    ledger.set_key_place(&a.label, &KeyPlace::Offline(into.clone()), "offline", session.now)?;
    fs::remove(&here)?;
    ledger.finish(id, &work)?;
    let gone = Authority { key: KeyPlace::Offline(into.clone()), ..a.clone() };
    let how = if document.secret { "not encrypted" } else { "encrypted" };
    let text = format!(
        "{} the key of {} is in {} ({how}); it was read back, signed a test, and was removed here\nnote    deleting a file does not promise that the disk forgets it: a journal, a snapshot, a backup or a flash\n        cell may keep its bytes; only a key that was made offline never lay on this disk\nnext    take the medium away; tamga authority online {} brings the key back\n",
        human::good("offline"),
        human::strong(&a.label),
        into.shown(),
        into.shown()
    );
    Ok(Done::good(text, json!({"authorities": [json::authority(&gone)]})))
}

/// The key as it will lie there: encrypted as it is, or anew; open only if told so.
fn document(args: &OfflineArgs, a: &Authority, here: &Path) -> Result<(Document, Option<Passphrase>)> {
    let of = format!("the key of {}", a.label);
    let stored = stored_key(&a.label, here)?;
    let locked = stored.is_locked();
    let old = if locked { Some(args.secrets.needed(&of)?) } else { None };
    let key = own(stored.open(old.as_ref())?, &a.certificate, &a.label, &a.folder)?;
    let asked = args.new_secrets.wanted(&format!("{of} in {}", args.into.shown()))?;
    let passphrase = match (asked, old) {
        (Some(new), _) => Some(new),
        (None, Some(old)) => Some(old),
        (None, None) if args.unencrypted => None,
        (None, None) => Some(args.new_secrets.needed(&format!("{of} in {}", args.into.shown()))?),
    };
    Ok((key_document(&key, passphrase.as_ref(), &entropy::System)?, passphrase))
}

/// Another key's place is not taken; a copy of this very one may be replaced.
fn free_place(there: &Path, a: &Authority) -> Result<()> {
    let beside = there.with_file_name(CERTIFICATE_FILE);
    let same = fs::read_regular(&beside)
        .is_ok_and(|b| tamga_core::form::pem::certificates(&b).iter().any(|der| *der == a.certificate.der()));
    if there.symlink_metadata().is_ok() && !same {
        return Err(tamga_host::error::Error::InTheWay { path: there.to_owned() }.into());
    }
    Ok(())
}

/// Reads the copy back from the medium, opens it, and has it sign something that the certificate's key verifies.
fn prove(a: &Authority, there: &Path, passphrase: Option<&Passphrase>) -> Result<()> {
    let key = stored_key(&a.label, there)?.open(passphrase)?;
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
