//! `tamga repair`: what interrupted work left, and a ledger that is damaged or lost.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::text::Shown;
use tamga_host::{fs, recover, repair};

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga repair ~/lab     (certificate folders below it are taken up if an authority here signed them)"
)]
pub(crate) struct RepairArgs {
    /// Folders to look for certificates that the ledger does not know
    #[arg(value_name = "DIR")]
    folders: Vec<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &RepairArgs) -> Result<Done> {
    let data = session.machine.data();
    if !data.exists() && args.folders.is_empty() {
        return Ok(Done::good("there is no data folder, and nothing to repair\n".into(), json!({"repaired": false})));
    }
    if session.common.dry_run {
        let state = match tamga_host::ledger::Ledger::open_existing(data) {
            Ok(Some(l)) => match l.damage()? {
                None => "the ledger is whole; would look for what it does not know",
                Some(_) => "the ledger is damaged; would move it aside and rebuild it",
            },
            Ok(None) => "there is no ledger; would rebuild it from the authorities' files",
            Err(_) => "the ledger is damaged; would move it aside and rebuild it",
        };
        return Ok(Done::good(format!("{state}\n"), json!({"repaired": false, "dry_run": true})));
    }
    let _lock = fs::lock(data)?;
    let (ledger, done) = repair::repair(data, &args.folders, session.now)?;
    let recovered = recover::recover(&ledger, &session.machine, session.now, fs::is_applying(data))?;
    let mut text = String::new();
    if let Some(moved) = &done.moved {
        let s = done.salvaged;
        text.push_str(&format!(
            "{} the ledger was damaged; it is kept as {}\n        read from it: {} authorities, {} certificates, {} revocations, {} events\n",
            human::good("rebuilt"),
            moved.shown(),
            s.authorities,
            s.certificates,
            s.revocations,
            s.events
        ));
    }
    let listed = |what: &str, labels: &[String]| match labels.is_empty() {
        true => String::new(),
        false => format!("{} {what}: {}\n", human::good("found  "), labels.join(", ")),
    };
    text.push_str(&listed("authorities by their files", &done.authorities));
    text.push_str(&listed("certificates by their files", &done.certificates));
    for line in done.said.iter().chain(&recovered) {
        text.push_str(&format!("{} {line}\n", human::care("note   ")));
    }
    if done.is_nothing() && recovered.is_empty() {
        text.push_str("nothing to repair: the ledger is whole and no work was interrupted\n");
    }
    Ok(Done::good(
        text,
        json!({
            "repaired": !(done.is_nothing() && recovered.is_empty()), "moved": done.moved, "authorities": done.authorities,
            "certificates": done.certificates, "notes": done.said.iter().chain(&recovered).collect::<Vec<_>>(),
            "salvaged": {"authorities": done.salvaged.authorities, "certificates": done.salvaged.certificates,
                "revocations": done.salvaged.revocations, "events": done.salvaged.events},
        }),
    ))
}
