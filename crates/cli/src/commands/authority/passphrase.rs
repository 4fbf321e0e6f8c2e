//! `tamga authority passphrase LABEL`: a passphrase for its key, another one, or none.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::{Session, own, stored_key};
use crate::words::{human, json};
use tamga_core::authority::{self, KEY_FILE, key_document};
use tamga_host::ledger::{Record, Work};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority passphrase saltmarsh")]
pub(crate) struct PassphraseArgs {
    /// Which
    label: String,
    /// Leave the key open from now on: whoever reads the file has it
    #[arg(long, conflicts_with_all = ["encrypt_key", "new_passphrase_file", "new_passphrase_env"])]
    remove: bool,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: &PassphraseArgs) -> Result<Done> {
    if session.common.dry_run {
        let all = session.authorities()?;
        let a = authority::choose(Some(&args.label), &all, true)?;
        authority::can_sign(a)?;
        let verb = if args.remove { "remove" } else { "change" };
        let text = format!("would {verb} the passphrase of the key of {}\n", a.label);
        return Ok(Done::good(text, json!({"dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let a = authority::choose(Some(&args.label), &all, true)?;
    authority::can_sign(a)?;
    let file = a.folder.join(KEY_FILE);
    let of = format!("the key of {}", a.label);
    let stored = stored_key(&a.label, &file)?;
    let was_locked = stored.is_locked();
    let key = own(crate::session::open(stored, &of, &args.secrets)?, &a.certificate, &a.label, &a.folder)?;
    let new = if args.remove { None } else { Some(args.new_secrets.needed(&of)?) };
    let document = key_document(&key, new.as_ref(), &entropy::System)?;
    // One file, put in place whole: killed before or after, it opens with the old passphrase or with the new one.
    let work = Work::Replace {
        said: format!(
            "changing the passphrase of {} was interrupted; its key opens with the old one or the new one",
            a.label
        ),
        files: vec![file.clone().into()],
    };
    let id = ledger.begin(&work, &Record::Nothing, session.now)?;
    fs::replace(&file, &document)?;
    let (kind, word) = match (was_locked, &new) {
        (false, Some(_)) => ("passphrase-set", "encrypted"),
        (true, Some(_)) => ("passphrase-changed", "encrypted with the new passphrase"),
        (_, None) => ("passphrase-removed", "not encrypted"),
    };
    ledger.note(session.now, kind, &a.label, "")?;
    ledger.finish(id, &work)?;
    let mut text = format!("{} the key of {} is {word} now\n", human::good("done"), human::strong(&a.label));
    if new.is_some() {
        text.push_str("a lost passphrase cannot be had back: keep it where you keep such things\n");
    }
    Ok(Done::good(text, json!({"label": a.label, "encrypted": new.is_some(), "change": kind})))
}
