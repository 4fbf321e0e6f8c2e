//! `tamga authority backup --output FILE`: ledger and authorities in one encrypted file.

use crate::args::AuthoritySecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::backup;
use tamga_app::report::Answer;
use tamga_core::vocabulary::text::Shown;

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

pub(super) fn run(session: &Session, args: BackupArgs) -> Result<Done> {
    let report = backup::backup(session, &args.output, &args.new_secrets.into())?;
    let output = args.output.shown();
    let text = match &report {
        Answer::Planned(p) => format!("would back {} authorities and the ledger up into {output}\n", p.authorities),
        Answer::Done(done) => done.keys_on_tokens.iter().fold(format!(
            "{} {} authorities and the ledger, encrypted, in {output}\nnote      private keys of certificates are not in it: they lie in their directories\nnext      tamga authority restore FILE on a machine without a data directory; without the passphrase nobody opens it\n",
            human::good("backed up"),
            done.authorities
        ), |text, label| {
            text + &format!("{}   the private key of {label} is on a token and not in it: without the token it is lost\n", human::care("missing"))
        }),
    };
    Ok(Done::report(text, &report))
}
