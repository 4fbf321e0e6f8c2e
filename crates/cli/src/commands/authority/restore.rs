//! `tamga authority restore FILE`.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::text::Shown;
use tamga_host::backup;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority restore lab-authorities.age")]
pub(crate) struct RestoreArgs {
    /// What tamga authority backup wrote
    #[arg(value_name = "FILE")]
    file: PathBuf,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &RestoreArgs) -> Result<Done> {
    let data = session.machine.data();
    if session.common.dry_run {
        let text = format!("would restore {} into {}\n", args.file.shown(), data.shown());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let passphrase = args.secrets.needed(&args.file.shown())?;
    let ledger = backup::restore(&args.file, data, &passphrase, session.now)?;
    let all = ledger.authorities()?;
    let labels: Vec<&str> = all.iter().map(|a| a.label.as_str()).collect();
    let text = format!(
        "{} {} into {}\nnote     what was issued or revoked after the backup was made is not in it; before the next list of\n         revoked certificates is signed, give the latest one that was published: tamga authority crl LABEL --previous FILE\n",
        human::good("restored"),
        human::strong(&labels.join(", ")),
        data.shown()
    );
    Ok(Done::good(text, json!({"authorities": all.iter().map(json::authority).collect::<Vec<_>>()})))
}
