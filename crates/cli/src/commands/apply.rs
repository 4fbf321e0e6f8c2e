//! `tamga apply [FILE]`: everything as one file says; only what differs is done.

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_app::apply::{self, Change, Report, Request};
use tamga_core::deploy::lab::EXAMPLE;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga apply --example > tamga.toml\n          tamga apply --dry-run\n          tamga apply --only charts"
)]
pub(crate) struct ApplyArgs {
    /// What the lab is to have [default: tamga.toml]
    #[arg(value_name = "FILE")]
    file: Option<PathBuf>,
    /// Print a file to begin with, with a remark at everything, and do nothing
    #[arg(long)]
    example: bool,
    /// Only these certificates and authorities (repeatable)
    #[arg(long, value_name = "LABEL", value_delimiter = ',')]
    only: Vec<String>,
    /// Carry out the checks of the file even if nothing was changed
    #[arg(long)]
    check: bool,
    /// Withdraw what an earlier run made for this file and the file lists no more
    #[arg(long, conflicts_with = "only")]
    prune: bool,
    #[command(flatten)]
    secrets: SecretArgs,
}

/// A file to begin with.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Example {
    example: &'static str,
}

pub(crate) fn run(session: &Session, args: ApplyArgs) -> Result<Done> {
    if args.example {
        return Ok(Done::report(EXAMPLE.to_owned(), &Example { example: EXAMPLE }));
    }
    let request =
        Request { file: args.file, only: args.only, check: args.check, prune: args.prune, secret: args.secrets.into() };
    let report = apply::apply(session, &request)?;
    Ok(Done::report(render(&report), &report).with_code(exit::of(report.outcome())))
}

/// A line each, and what to do about what failed or is left.
fn render(report: &Report) -> String {
    let base = format!("{}/", report.base.shown());
    let short = |text: &str| text.replace(&base, "");
    let lines: Vec<Vec<String>> = report
        .changes
        .iter()
        .map(|r| {
            let change = match r.change {
                Change::Failed => human::bad(r.change.word()),
                Change::Would => human::care("would change"),
                Change::Unlisted => human::care(r.change.word()),
                done => human::good(done.word()),
            };
            vec![change, r.what.word().to_owned(), human::strong(&short(&r.about)), short(&r.why)]
        })
        .collect();
    let mut text = human::table(&lines);
    if report.changes.iter().all(|r| r.change == Change::Unlisted) {
        text = format!("{} everything is as the file says\n{text}", human::good("nothing to do"));
    }
    let mut said: Vec<&str> = Vec::new();
    for r in &report.changes {
        let Some(remedy) = r.remedy.as_deref().filter(|r| !r.is_empty()) else { continue };
        match r.change {
            // The same for all of them: once is enough.
            Change::Unlisted if said.contains(&remedy) => {}
            Change::Unlisted => text.push_str(&format!("{} {remedy}\n", human::dim("do:"))),
            _ => text.push_str(&format!("{} {}: {remedy}\n", human::dim("do:"), short(&r.about))),
        }
        said.push(remedy);
    }
    text
}
