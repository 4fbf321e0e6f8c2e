//! `tamga authority online DIR`: the key comes back.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::{Session, certificates, own, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::error::Error;
use tamga_core::report::{Authority, KeyPlace};
use tamga_core::step::Document;
use tamga_core::text::Shown;
use tamga_host::fs;
use tamga_host::ledger::{Record, Work};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority online /media/lab-key")]
pub(crate) struct OnlineArgs {
    /// Where tamga authority offline put the key
    #[arg(value_name = "DIR")]
    folder: PathBuf,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &OnlineArgs) -> Result<Done> {
    let found = certificates(&[args.folder.join(CERTIFICATE_FILE)])?;
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let meant = all.iter().find(|a| found.first().is_some_and(|c| c.key == a.certificate.key));
    let Some(a) = meant else {
        return Err(Error::LabelUnknown {
            label: found.first().map(tamga_core::cert::Certificate::subject_words).unwrap_or_default(),
            sought: "authority with that key",
            known: all.iter().map(|a| a.label.clone()).collect(),
        }
        .into());
    };
    let there = args.folder.join(KEY_FILE);
    let stored = stored_key(&a.label, &there)?;
    let locked = stored.is_locked();
    // Opened only to see that it is whole and its own: it comes back as it lies there.
    own(
        crate::session::open(stored, &format!("the key of {}", a.label), &args.secrets)?,
        &a.certificate,
        &a.label,
        &args.folder,
    )?;
    if session.common.dry_run {
        let text = format!("would bring the key of {} back from {}\n", a.label, args.folder.shown());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let bytes = fs::read_named(&there)?;
    let here = a.folder.join(KEY_FILE);
    let work = Work::Replace {
        said: format!("bringing the key of {} back was interrupted; run tamga authority online again", a.label),
        files: vec![here.clone().into()],
    };
    let id = ledger.begin(&work, &Record::Nothing, session.now)?;
    fs::make_directory(&a.folder, 0o700)?;
    fs::replace(&here, &Document { name: KEY_FILE, bytes, mode: 0o600, secret: !locked })?;
    ledger.set_key_place(&a.label, &KeyPlace::Here, "online", session.now)?;
    ledger.finish(id, &work)?;
    let back = Authority { key: KeyPlace::Here, ..a.clone() };
    let how = match locked {
        true => format!("encrypted: tamga authority passphrase {} changes that", a.label),
        false => "not encrypted".into(),
    };
    let text = format!(
        "{} the key of {} is in {} again ({how})\nnote   the copy in {} is left as it is\n",
        human::good("online"),
        human::strong(&a.label),
        a.folder.shown(),
        args.folder.shown()
    );
    Ok(Done::good(text, json!({"authorities": [json::authority(&back)]})))
}
