//! `tamga hosts add|remove|status`: names in the hosts file, in a marked block.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::hosts::{self, FILE_OF_WINDOWS, Plan, Request, Verb};
use tamga_app::report::Answer;
use tamga_core::deploy::hosts::{State, Wanted};
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Subcommand)]
pub(crate) enum HostsCommand {
    /// Add names for this machine, or for an address
    Add(NamesArgs),
    /// Remove names; without a name all that Tamga added
    Remove(AnyNamesArgs),
    /// Show how names resolve
    Status(AnyNamesArgs),
}

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga hosts add charts.saltmarsh.test\n          tamga hosts add gauge-7.saltmarsh.test=192.168.7.7"
)]
pub(crate) struct NamesArgs {
    /// Host names; without an address both of loopback
    #[arg(required = true, value_name = "NAME[=ADDRESS]")]
    names: Vec<String>,
    /// Another hosts file
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

#[derive(clap::Args)]
pub(crate) struct AnyNamesArgs {
    /// Hosts [default: those that were added]
    #[arg(value_name = "NAME[=ADDRESS]")]
    names: Vec<String>,
    /// Another hosts file
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

pub(crate) fn run(session: &Session, command: HostsCommand) -> Result<Done> {
    let (typed, file, verb) = match command {
        HostsCommand::Add(a) => (a.names, a.file, Verb::Add),
        HostsCommand::Remove(a) => (a.names, a.file, Verb::Remove),
        HostsCommand::Status(a) => (a.names, a.file, Verb::Status),
    };
    let names = typed.iter().map(|n| Wanted::parse(n)).collect::<tamga_core::error::Result<_>>()?;
    let report = hosts::hosts(session, &Request { verb, names, typed, file })?;
    Ok(match &report {
        Answer::Planned(plan) => Done::report(render_plan(plan), &report),
        Answer::Done(done) => Done::report(render(done), &report).with_code(exit::of(done.outcome())),
    })
}

fn render_plan(plan: &Plan) -> String {
    let line = |r: &tamga_core::deploy::hosts::Row| {
        let verb = if r.change == "added" { "add" } else { "remove" };
        let address = r.address.map(|a| a.to_string()).unwrap_or_default();
        format!("would {verb} {address} {} in {}\n", r.name, plan.file.shown())
    };
    plan.rows.iter().map(line).collect()
}

fn render(done: &hosts::Done) -> String {
    let mut text = String::new();
    if done.rows.is_empty() {
        text.push_str(&format!("no name of Tamga's is in {}\n", done.file.shown()));
    } else {
        let changes = done.rows.iter().any(|r| r.change != "none");
        let says_why = done.rows.iter().any(|r| r.why.is_some());
        let mut head = vec!["name", "address", "state"];
        head.extend(changes.then_some("change"));
        head.extend(says_why.then_some("why"));
        let mut table = vec![head.into_iter().map(human::dim).collect::<Vec<_>>()];
        table.extend(done.rows.iter().map(|r| {
            let state = match r.state {
                State::Present => human::good(r.state.word()),
                State::Elsewhere => human::bad(r.state.word()),
                _ => human::dim(r.state.word()),
            };
            let change = if r.change == "none" { human::dim(r.change) } else { human::good(r.change) };
            let address = r.address.map_or_else(String::new, |a| a.to_string());
            let mut row = vec![human::strong(&r.name), address, state];
            row.extend(changes.then_some(change));
            row.extend(says_why.then(|| r.why.clone().unwrap_or_default()));
            row
        }));
        text.push_str(&human::table(&table));
    }
    if let Some(copy) = &done.copy {
        text.push_str(&format!("what {} was before is kept in {}\n", done.file.shown(), copy.shown()));
    }
    if done.windows_differs {
        let names: Vec<&str> = done.rows.iter().map(|r| r.name.as_str()).collect();
        text.push_str(&format!(
            "{} browsers on Windows look elsewhere; in a terminal with an administrator's rights: tamga hosts add {} --file {FILE_OF_WINDOWS}\n",
            human::dim("note"),
            names.join(" ")
        ));
    }
    text
}
