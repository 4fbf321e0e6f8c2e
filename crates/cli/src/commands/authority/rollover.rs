//! `tamga authority rollover OLD NEW`: a new root beside the old one, each certified by the other.

use crate::args::{AuthoritySecretArgs, SecretArgs};
use crate::commands::parse;
use crate::commands::trust::render_rows;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::rollover;
use tamga_app::report::Answer;
use tamga_core::ca::authority::limits::briefly;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Span;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority rollover saltmarsh saltmarsh-2027")]
pub(crate) struct RolloverArgs {
    /// The root that there is
    old: String,
    /// What to call the new one
    new: Label,
    /// How long the new one lives: m h d w y [default: 3650d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// Another kind of key [default: as the old one]
    #[arg(long, value_name = "KIND", value_parser = values::word::<KeyAlgorithm>())]
    key_algorithm: Option<KeyAlgorithm>,
    /// A PEM bundle that the old root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: AuthoritySecretArgs,
}

pub(super) fn run(session: &Session, args: RolloverArgs) -> Result<Done> {
    let request = rollover::Request {
        old: args.old,
        new: args.new,
        valid_for: args.valid_for,
        key_algorithm: args.key_algorithm,
        bundles: parse::absolute(&args.bundle),
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
    };
    let report = rollover::rollover(session, &request)?;
    Ok(match &report {
        Answer::Planned(p) => {
            let new = &request.new;
            let text = format!("would make the root {new} beside {} and certify each with the other's key\n", p.old);
            Done::report(text, &report)
        }
        Answer::Done(done) => Done::report(render(done), &report).with_code(exit::of(done.outcome())),
    })
}

fn render(done: &rollover::Done) -> String {
    let (new, old) = (&done.authority, &done.old);
    let mut text = format!(
        "{} the root {} beside {old}: it may certify {}\n       each is certified by the other; what is issued from now on leads to both\n",
        human::good("made"),
        human::strong(&new.label),
        briefly(&new.certificate)
    );
    if done.rows.is_empty() {
        text.push_str(&format!("no store here held {old}; tamga trust add {} puts the new one into them\n", new.label));
    } else {
        text.push_str(&render_rows(&done.rows));
    }
    text.push_str(&format!(
        "next   put {0} wherever {old} is trusted; issue and renew with --issuer {0}; at the end: tamga authority retire {old}\n",
        new.label
    ));
    text
}
