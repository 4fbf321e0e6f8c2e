//! `tamga authority retire LABEL`: the end of an authority; its records stay.

use super::crl::count;
use crate::args::SecretArgs;
use crate::commands::parse;
use crate::commands::trust::render_rows;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::retire;
use tamga_app::report::Answer;
use tamga_core::ca::report::KeyPlace;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority retire saltmarsh --discard-key")]
pub(crate) struct RetireArgs {
    /// Which
    label: Label,
    /// Delete its private key: it can never sign again, not even a revocation list
    #[arg(long)]
    discard_key: bool,
    /// Where to write its last revocation list as well
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// A PEM bundle that the root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: RetireArgs) -> Result<Done> {
    let request = retire::Request {
        label: args.label,
        discard_key: args.discard_key,
        output: args.output,
        bundles: parse::absolute(&args.bundle),
        secret: args.secrets.into(),
        is_confirmed: false,
    };
    let report = retire::retire(session, &request)?;
    Ok(match &report {
        Answer::Planned(p) => {
            let key = if request.discard_key { ", and delete its key" } else { "" };
            let text = format!("would sign the last list of {}, take it out of the stores{key}\n", p.label);
            Done::report(text, &report)
        }
        Answer::Done(done) => {
            Done::report(render(done, request.discard_key), &report).with_code(exit::of(done.outcome()))
        }
    })
}

fn render(done: &retire::Done, discard: bool) -> String {
    let a = &done.authority;
    let mut text = match &done.list {
        None if done.was_retired => String::new(),
        None => format!("{} no last list: the key of {} is not at hand\n", human::care("note"), a.label),
        Some(list) => format!(
            "{} the last list, number {}, with {}, good until {}: {}\n",
            human::good("signed "),
            list.number,
            count(list.entries),
            list.until.date(),
            list.file.shown()
        ),
    };
    text.push_str(&match done.was_retired {
        true => format!("{} was retired already\n", human::strong(&a.label)),
        false => {
            format!("{} {}: it can no longer sign; its records stay\n", human::good("retired"), human::strong(&a.label))
        }
    });
    if discard {
        text.push_str(&match &a.key {
            KeyPlace::Discarded => {
                "        its key was deleted; deleted data may still be recoverable from the disk\n".to_owned()
            }
            KeyPlace::Offline(p) => format!("        its key is in {}: delete it there\n", p.shown()),
            KeyPlace::Token(uri) => {
                format!("        its key is on {}: delete it with the token's own tools\n", uri.portable())
            }
            _ => "        its key was not here\n".to_owned(),
        });
    }
    if !done.rows.is_empty() {
        text.push_str(&render_rows(&done.rows));
    }
    if !done.live.is_empty() {
        let shown: Vec<&str> = done.live.iter().take(8).map(String::as_str).collect();
        let more = if done.live.len() > 8 { format!(" and {} more", done.live.len() - 8) } else { String::new() };
        text.push_str(&format!(
            "{} still in force under it: {}{more}; without the root in a store their visitors are warned\n",
            human::care("note"),
            shown.join(", ")
        ));
    }
    text
}
