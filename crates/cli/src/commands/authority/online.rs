//! `tamga authority online DIR`: the key comes back.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::online;
use tamga_app::report::Answer;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority online /media/lab-key")]
pub(crate) struct OnlineArgs {
    /// Where tamga authority offline put the key
    #[arg(value_name = "DIR")]
    folder: PathBuf,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: OnlineArgs) -> Result<Done> {
    let request = online::Request { from: args.folder, secret: args.secrets.into() };
    let from = request.from.shown();
    let report = online::online(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => format!("would bring the key of {} back from {from}\n", p.label),
        Answer::Done(done) => render(done, &from),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &online::Done, from: &str) -> String {
    let a = &done.authority;
    let how = match done.is_encrypted {
        true => format!("encrypted: tamga authority passphrase {} changes that", a.label),
        false => "not encrypted".into(),
    };
    format!(
        "{} the key of {} is in {} again ({how})\nnote   the copy in {from} is left as it is\n",
        human::good("online"),
        human::strong(&a.label),
        a.folder.shown(),
    )
}
