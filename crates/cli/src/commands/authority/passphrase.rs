//! `tamga authority passphrase LABEL`: a passphrase for its key, another one, or none.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use tamga_app::authority::passphrase;
use tamga_app::report::Answer;
use tamga_core::vocabulary::label::Label;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority passphrase saltmarsh")]
pub(crate) struct PassphraseArgs {
    /// Which
    label: Label,
    /// Leave the key open from now on: anyone who reads the file has it
    #[arg(long, conflicts_with_all = ["encrypt_key", "new_passphrase_file", "new_passphrase_env"])]
    remove: bool,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: PassphraseArgs) -> Result<Done> {
    let request = passphrase::Request {
        label: args.label,
        remove: args.remove,
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
    };
    let report = passphrase::passphrase(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            let verb = if args.remove { "remove" } else { "change" };
            format!("would {verb} the passphrase of the key of {}\n", p.label)
        }
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &passphrase::Done) -> String {
    let word = match done.change {
        "passphrase-set" => "encrypted",
        "passphrase-changed" => "encrypted with the new passphrase",
        _ => "not encrypted",
    };
    let mut text = format!("{} the key of {} is {word} now\n", human::good("done"), human::strong(&done.label));
    if done.encrypted {
        text.push_str("note a lost passphrase cannot be recovered: keep it in a safe place\n");
    }
    text
}
