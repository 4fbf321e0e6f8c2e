//! `tamga authority backup --output FILE`: ledger and authorities in one encrypted file.

use crate::args::AuthoritySecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::text::Shown;
use tamga_host::backup;

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga authority backup --output lab-authorities.age\nIt is an age file, encrypted by its passphrase, with a tar archive inside: other programs open it too."
)]
pub(crate) struct BackupArgs {
    /// The file
    #[arg(long, value_name = "FILE")]
    output: PathBuf,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: &BackupArgs) -> Result<Done> {
    let count = session.authorities()?.len();
    if session.common.dry_run {
        let text = format!("would back {count} authorities and the ledger up into {}\n", args.output.shown());
        return Ok(Done::good(text, json!({"dry_run": true})));
    }
    if args.output.symlink_metadata().is_ok() {
        return Err(tamga_host::error::Error::InTheWay { path: args.output.clone() }.into());
    }
    let passphrase = args.new_secrets.needed("the backup")?;
    let (_lock, ledger) = session.open_for_change()?;
    backup::write(&ledger, session.machine.data(), &args.output, &passphrase)?;
    ledger.note(session.now, "backed-up", "", &args.output.shown())?;
    let text = format!(
        "{} {count} authorities and the ledger, encrypted, in {}\nnote      private keys of certificates are not in it: they lie in their folders\nnext      tamga authority restore FILE on a machine without a data folder; without the passphrase nobody opens it\n",
        human::good("backed up"),
        args.output.shown()
    );
    Ok(Done::good(text, json!({"file": args.output, "authorities": count})))
}
