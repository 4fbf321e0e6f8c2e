//! `tamga trust add|remove|status [ROOT]`.

use super::parse;
use crate::args::{SecretArgs, StoreArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::report::Answer;
use tamga_app::trust::change::{self, Plan};
use tamga_app::trust::exceptions::{MANAGER, Running};
use tamga_app::trust::status::{self, Report};
use tamga_app::trust::{Which, exceptions as remembered};
use tamga_core::finding::Code;
use tamga_core::stores::trust::Goal;
use tamga_core::vocabulary::text::Shown;

mod environment;
mod exceptions;
mod rows;
pub(crate) mod share;
mod share_page;

use environment::EnvironmentArgs;
pub(crate) use environment::{RunArgs, run as run_program};
pub(crate) use rows::render_rows;

#[derive(clap::Subcommand)]
pub(crate) enum TrustCommand {
    /// Add a root to stores; a second time changes nothing
    #[command(after_help = "Example: tamga trust add saltmarsh --scope both")]
    Add(TrustArgs),
    /// Remove a root from stores, and nothing else
    Remove(TrustArgs),
    /// List which root is in which store
    Status(TrustArgs),
    /// Serve a page from which phones and other machines get the root
    Share(share::ShareArgs),
    /// Print variables for runtimes whose list of roots is compiled in
    Environment(EnvironmentArgs),
}

#[derive(clap::Args)]
pub(crate) struct TrustArgs {
    /// An authority's label or a root's file; without it the only authority (status: all)
    root: Option<String>,
    #[command(flatten)]
    pub(crate) stores: StoreArgs,
    /// Fetch the root that another machine serves over plain HTTP, instead of ROOT
    #[arg(long, value_name = "http://HOST:PORT", conflicts_with = "root")]
    url: Option<String>,
    /// Its SHA-256, read from the other machine's screen
    #[arg(long, value_name = "SHA256", requires = "url")]
    fingerprint: Option<String>,
    /// Lift exactly this finding about the root (repeatable)
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    /// Forget the exception that a browser remembers for this host (remove)
    #[arg(long, value_name = "HOST:PORT")]
    exception: Option<String>,
    /// Use the stores of an image, a chroot or a container's file system
    #[arg(long, value_name = "DIR", conflicts_with_all = ["scope", "elevate", "exception"])]
    sysroot: Option<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, command: TrustCommand) -> Result<Done> {
    match command {
        TrustCommand::Add(args) => change(session, args, Goal::Add),
        TrustCommand::Remove(TrustArgs { exception: Some(place), .. }) => {
            let report = remembered::forget(session, &place)?;
            Ok(exceptions::render(&report))
        }
        TrustCommand::Remove(args) => change(session, args, Goal::Remove),
        TrustCommand::Status(args) => status(session, args),
        TrustCommand::Share(args) => share::run(session, args),
        TrustCommand::Environment(args) => environment::environment(session, &args),
    }
}

impl TrustArgs {
    fn which(&self) -> Option<Which> {
        match (&self.url, &self.root) {
            (Some(url), _) => Some(Which::Fetched { url: url.clone(), fingerprint: self.fingerprint.clone() }),
            (None, Some(typed)) => Some(Which::Named(typed.clone())),
            (None, None) => None,
        }
    }
}

fn change(session: &Session, args: TrustArgs, goal: Goal) -> Result<Done> {
    session.elevate(&args.stores)?;
    let request = change::Request {
        goal,
        root: args.which().unwrap_or_default(),
        stores: parse::stores(args.stores, args.sysroot.is_some()),
        accepted: args.accept,
        sysroot: args.sysroot,
        secret: args.secrets.into(),
    };
    let report = change::change(session, &request)?;
    Ok(match &report {
        Answer::Planned(plan) => Done::report(render_plan(plan), &report),
        Answer::Done(done) => Done::report(render_change(done, goal), &report).with_code(exit::of(done.outcome())),
    })
}

fn render_plan(plan: &Plan) -> String {
    let mut text = String::new();
    for p in &plan.places {
        match &p.hindrance {
            Some(h) => text.push_str(&format!("  {}: {}; do: {}\n", p.store, h.why, h.remedy)),
            None if p.steps.is_empty() => {
                text.push_str(&format!("  {}: nothing to do in {}\n", p.store, p.place.shown()));
            }
            None => p.steps.iter().for_each(|s| text.push_str(&format!("  {}: would {}\n", s.store, s.step))),
        }
    }
    text
}

fn render_change(done: &change::Done, goal: Goal) -> String {
    let mut text = render_rows(&done.rows);
    for old in &done.older {
        text.push_str(&format!(
            "{} an older root of the same name, {}, is installed in {}\n  {}  tamga trust add {} --yes takes it out\n",
            human::care("older"),
            old.mark,
            old.place.shown(),
            human::dim("do:"),
            old.new
        ));
    }
    if goal == Goal::Add && done.has_added() {
        text.push_str("next: tamga check NAME or LABEL shows whether anyone would still warn\n");
    }
    for profile in &done.copies {
        text.push_str(&format!(
            "{} a copy imported by hand stays in the certificate manager of Chromium's profile {profile}\n  {}  {MANAGER}\n",
            human::care("note"),
            human::dim("do:")
        ));
    }
    for running in &done.running {
        let (name, what) = match running {
            Running::Refusing(name) => (name, "hosts that it refused before stay refused until it is restarted"),
            Running::Accepting(name) => (name, "hosts that it accepted before stay accepted until it is restarted"),
        };
        text.push_str(&format!("{} {name} is running: {what}\n", human::care("note")));
    }
    text
}

fn status(session: &Session, args: TrustArgs) -> Result<Done> {
    session.elevate(&args.stores)?;
    let request = status::Request {
        root: args.which(),
        stores: parse::stores(args.stores, args.sysroot.is_some()),
        sysroot: args.sysroot,
    };
    let report = status::status(session, &request)?;
    Ok(Done::report(render_status(&report), &report).with_code(exit::of(report.outcome())))
}

fn render_status(report: &Report) -> String {
    let mut text = match report.is_empty {
        true => "no authority yet, and no root with Tamga's mark in any store\n".to_owned(),
        false => render_rows(&report.rows),
    };
    for mark in &report.leftovers {
        text.push_str(&format!(
            "{} {mark} is in a store, but this data folder does not know it\n  {}  tamga leave takes it out\n",
            human::care("leftover"),
            human::dim("do:")
        ));
    }
    if !report.findings.is_empty() {
        text.push_str(&format!("\n{}", human::findings(&report.findings)));
    }
    if report.is_lacking {
        text.push_str("next: tamga trust add puts the root where it is absent\n");
    }
    text
}
