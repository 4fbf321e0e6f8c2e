//! `tamga authority restore FILE`.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::backup;
use tamga_app::report::Answer;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority restore lab-authorities.age")]
pub(crate) struct RestoreArgs {
    /// What tamga authority backup wrote
    #[arg(value_name = "FILE")]
    file: PathBuf,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: RestoreArgs) -> Result<Done> {
    let data = session.machine.data().shown();
    let report = backup::restore(session, &args.file, &args.secrets.into())?;
    let text = match &report {
        Answer::Planned(_) => format!("would restore {} into {data}\n", args.file.shown()),
        Answer::Done(done) => format!(
            "{} {} into {data}\nnote     what was issued or revoked after the backup was made is not in it; before the next list of\n         revoked certificates is signed, give the latest one that was published: tamga authority crl LABEL --previous FILE\n",
            human::good("restored"),
            human::strong(&done.labels.join(", ")),
        ),
    };
    Ok(Done::report(text, &report))
}
