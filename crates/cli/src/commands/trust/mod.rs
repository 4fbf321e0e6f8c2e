//! `tamga trust add|remove|status [ROOT]`.

use super::parse;
use crate::args::{OnArgs, SecretArgs, StoreArgs};
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
use tamga_core::stores::{InScope, StoreId};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::text::Shown;

mod environment;
mod exceptions;
mod hosts;
mod rows;
pub(crate) mod share;
mod share_page;

use environment::EnvironmentArgs;
pub(crate) use environment::{RunArgs, run as run_program};
pub(crate) use rows::{render_found, render_rows};

#[derive(clap::Subcommand)]
pub(crate) enum TrustCommand {
    /// Add a root to stores; a second time changes nothing
    #[command(after_help = "Example: tamga trust add saltmarsh --scope both")]
    Add(AddArgs),
    /// Remove a root from stores, and nothing else
    #[command(after_help = "Example: tamga trust remove saltmarsh --scope both")]
    Remove(RemoveArgs),
    /// List which root is in which store
    #[command(after_help = "Example: tamga trust status --scope user")]
    Status(StatusArgs),
    /// Serve a page from which phones and other machines get the root
    Share(share::ShareArgs),
    /// Print variables for runtimes whose list of roots is compiled in
    Environment(EnvironmentArgs),
}

#[derive(clap::Args)]
pub(crate) struct AddArgs {
    /// An authority's label or a root's file; without it the only authority
    root: Option<String>,
    #[command(flatten)]
    stores: StoreArgs,
    /// Fetch the root that another machine serves over plain HTTP, instead of ROOT
    #[arg(long, value_name = "http://HOST:PORT", conflicts_with_all = ["root", "on"])]
    from: Option<String>,
    /// Its SHA-256, read from the other machine's screen
    #[arg(long, value_name = "HEX", requires = "from")]
    sha256: Option<Sha256Fingerprint>,
    /// Lift exactly this finding about the root (repeatable)
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    /// Use the stores of an image, a chroot or a container's file system
    #[arg(long, value_name = "DIR", conflicts_with_all = ["scope", "elevate"])]
    sysroot: Option<PathBuf>,
    #[command(flatten)]
    on: OnArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

#[derive(clap::Args)]
pub(crate) struct RemoveArgs {
    /// An authority's label, a root's file, or the name of a root in a store; without it the only authority
    root: Option<String>,
    #[command(flatten)]
    stores: StoreArgs,
    /// Remove nothing but the exception that a browser remembers for this host
    #[arg(long, value_name = "HOST:PORT", conflicts_with_all = ["root", "scope", "stores", "bundle", "elevate", "passphrase_file", "passphrase_env", "on"])]
    exception: Option<String>,
    /// Use the stores of an image, a chroot or a container's file system
    #[arg(long, value_name = "DIR", conflicts_with_all = ["scope", "elevate", "exception"])]
    sysroot: Option<PathBuf>,
    #[command(flatten)]
    on: OnArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

#[derive(clap::Args)]
pub(crate) struct StatusArgs {
    /// An authority's label or a root's file; without it every root
    root: Option<String>,
    /// Whose stores [default: both]
    #[arg(long, value_parser = values::word::<InScope>())]
    scope: Option<InScope>,
    /// Exactly these stores, of the user or the machine
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<StoreId>())]
    stores: Vec<StoreId>,
    /// A PEM bundle as a store of its own (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
    /// Use the stores of an image, a chroot or a container's file system
    #[arg(long, value_name = "DIR", conflicts_with = "scope")]
    sysroot: Option<PathBuf>,
    #[command(flatten)]
    on: OnArgs,
}

pub(crate) fn run(session: &Session, command: TrustCommand) -> Result<Done> {
    match command {
        TrustCommand::Add(args) => add(session, args),
        TrustCommand::Remove(RemoveArgs { exception: Some(place), .. }) => {
            let report = remembered::forget(session, &place)?;
            Ok(exceptions::render(&report))
        }
        TrustCommand::Remove(args) => remove(session, args),
        TrustCommand::Status(args) => status(session, args),
        TrustCommand::Share(args) => share::run(session, args),
        TrustCommand::Environment(args) => environment::environment(session, &args),
    }
}

fn add(session: &Session, args: AddArgs) -> Result<Done> {
    if !args.on.on.is_empty() {
        let root = args.root.map_or(Which::Only, Which::Named);
        return hosts::change(session, Goal::Add, root, args.stores, &args.on, args.accept);
    }
    session.elevate(&args.stores)?;
    let root = match (args.from, args.root) {
        (Some(url), _) => Which::Fetched { url, fingerprint: args.sha256 },
        (None, Some(typed)) => Which::Named(typed),
        (None, None) => Which::Only,
    };
    let request = change::Request {
        goal: Goal::Add,
        root,
        stores: parse::stores(args.stores, args.sysroot.is_some()),
        accepted: args.accept,
        sysroot: args.sysroot,
        secret: args.secrets.into(),
    };
    change(session, &request)
}

fn remove(session: &Session, args: RemoveArgs) -> Result<Done> {
    if !args.on.on.is_empty() {
        let root = args.root.map_or(Which::Only, Which::Named);
        return hosts::change(session, Goal::Remove, root, args.stores, &args.on, Vec::new());
    }
    session.elevate(&args.stores)?;
    let request = change::Request {
        goal: Goal::Remove,
        root: args.root.map_or(Which::Only, Which::Named),
        stores: parse::stores(args.stores, args.sysroot.is_some()),
        accepted: Vec::new(),
        sysroot: args.sysroot,
        secret: args.secrets.into(),
    };
    change(session, &request)
}

fn change(session: &Session, request: &change::Request) -> Result<Done> {
    let goal = request.goal;
    let report = change::change(session, request)?;
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

fn status(session: &Session, args: StatusArgs) -> Result<Done> {
    if !args.on.on.is_empty() {
        let stores = StoreArgs { scope: InScope::Machine, stores: args.stores, bundle: args.bundle, elevate: false };
        return hosts::status(session, args.root.map(Which::Named), stores, &args.on);
    }
    let scope = args.scope.unwrap_or(InScope::Both);
    let stores = StoreArgs { scope, stores: args.stores, bundle: args.bundle, elevate: false };
    let request = status::Request {
        root: args.root.map(Which::Named),
        stores: parse::stores(stores, args.sysroot.is_some()),
        is_scope_typed: args.scope.is_some(),
        sysroot: args.sysroot,
    };
    let report = status::status(session, &request)?;
    Ok(Done::report(render_status(&report), &report).with_code(exit::of(report.outcome())))
}

fn render_status(report: &Report) -> String {
    let mut text = match report.is_empty {
        true => "no authority yet, and no root with Tamga's mark in any store\n".to_owned(),
        false => render_found(&report.rows),
    };
    for mark in &report.leftovers {
        text.push_str(&format!(
            "{} {mark} is in a store, and no authority of this ledger has that root\n  {}  tamga trust remove {mark}\n",
            human::care("other"),
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
