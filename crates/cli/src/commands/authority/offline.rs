//! `tamga authority offline LABEL --into DIR`: the key leaves for a removable place, proved before it is removed here.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::offline;
use tamga_app::report::Answer;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority offline saltmarsh --into /media/lab-key")]
pub(crate) struct OfflineArgs {
    /// Which
    label: Label,
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

pub(super) fn run(session: &Session, args: OfflineArgs) -> Result<Done> {
    let request = offline::Request {
        label: args.label,
        into: args.into,
        unencrypted: args.unencrypted,
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
    };
    let report = offline::offline(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            format!("would take the key of {} to {}, prove the copy, and remove it here\n", p.label, p.place.shown())
        }
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &offline::Done) -> String {
    let how = if done.is_encrypted { "encrypted" } else { "not encrypted" };
    let place = done.place.shown();
    format!(
        "{} the key of {} is in {place} ({how}); it was read back, signed a test, and was removed here\nnote    deleted data may still be recoverable: from a journal, a snapshot, a backup or a flash cell.\n        Only a key that was made offline was never on this disk\nnext    take the medium away; tamga authority online {place} brings the key back\n",
        human::good("offline"),
        human::strong(&done.label),
    )
}
