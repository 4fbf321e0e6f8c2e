//! `tamga repair`: what interrupted work left, and a ledger that is damaged or lost.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::repair::{self, Repaired, Report, State};
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga repair ~/lab     (certificate directories below it are taken up if an authority here signed them)"
)]
pub(crate) struct RepairArgs {
    /// Folders to look for certificates that the ledger does not know
    #[arg(value_name = "DIR")]
    folders: Vec<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &RepairArgs) -> Result<Done> {
    let report = repair::repair(session, &args.folders)?;
    let text = match &report {
        Report::Repaired(done) => render(done),
        Report::Looked { state, .. } => match state {
            State::Nothing => "there is no data directory, and nothing to repair\n",
            State::Whole => "the ledger is whole; would look for what it does not know\n",
            State::Damaged => "the ledger is damaged; would move it aside and rebuild it\n",
            State::Missing => "there is no ledger; would rebuild it from the authorities' files\n",
        }
        .to_owned(),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &Repaired) -> String {
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
    for line in &done.notes {
        text.push_str(&format!("{} {line}\n", human::care("note   ")));
    }
    if !done.repaired {
        text.push_str("nothing to repair: the ledger is whole and no work was interrupted\n");
    }
    text
}
