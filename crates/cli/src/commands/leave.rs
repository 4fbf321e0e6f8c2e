//! `tamga leave`: everything undone, from the stores' marks alone if the data directory is gone.

use super::parse;
use super::trust::render_rows;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::hosts::FILE;
use tamga_app::leave::{self, Plan, Remains};
use tamga_app::report::Answer;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
pub(crate) struct LeaveArgs {
    /// A PEM bundle that our root was put into (repeatable)
    #[arg(long, value_name = "FILE")]
    bundle: Vec<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &LeaveArgs) -> Result<Done> {
    let report = leave::leave(session, &parse::absolute(&args.bundle))?;
    Ok(match &report {
        Answer::Planned(plan) => Done::report(render_plan(plan), &report),
        Answer::Done(done) => Done::report(render(done), &report).with_code(exit::of(done.outcome())),
    })
}

fn render_plan(plan: &Plan) -> String {
    let mut text: String =
        plan.roots.iter().map(|(mark, store)| format!("would take {mark} out of {store}\n")).collect();
    for (server, label) in &plan.servers {
        text.push_str(&format!("would leave {server} as it was before {label}\n"));
    }
    for host in &plan.hosts {
        text.push_str(&format!("would take Tamga's roots out of the stores of {host}\n"));
    }
    if let Some(data) = &plan.data {
        text.push_str(&format!("would ask whether to remove the data directory {}\n", data.shown()));
    }
    text
}

fn render(done: &leave::Done) -> String {
    let mut text = String::new();
    for removed in &done.servers {
        text.push_str(&format!("left {} as it was before {}\n", removed.server, removed.label));
    }
    for i in &done.identities {
        text.push_str(&format!("removed {} identities from {}\n", i.count, i.place.shown()));
    }
    for word in &done.timers {
        text.push_str(&format!("removed the timer of {word}\n"));
    }
    if let Some(n) = done.exceptions {
        text.push_str(&format!("made Firefox forget {n} exceptions for names of yours\n"));
    }
    for host in &done.hosts_cleared {
        text.push_str(&format!("removed Tamga's roots from {host}\n"));
    }
    if done.hosts {
        text.push_str(&format!("removed Tamga's names from {FILE}\n"));
    }
    let of_stores = |r: &Remains| match r {
        Remains::UnknownRoot { .. } | Remains::Root { .. } | Remains::Database(_) | Remains::Identities(..) => true,
        Remains::Server(_) | Remains::ServerKept(_) | Remains::Timer(..) | Remains::Hosts => false,
        Remains::Host(..)
        | Remains::Ledger(_)
        | Remains::DataInUse(_)
        | Remains::DataKept(_)
        | Remains::DataUnasked(_)
        | Remains::Directory { .. } => false,
    };
    if done.rows.is_empty() && !done.remains.iter().any(of_stores) {
        text.push_str("no root of Tamga's is in any store\n");
    } else {
        text.push_str(&render_rows(&done.rows));
    }
    if let Some(data) = &done.data {
        text.push_str(&format!("removed the data directory {}\n", data.shown()));
    }
    if !done.remains.is_empty() {
        text.push_str(&format!("{}\n", human::strong("remains")));
        for r in &done.remains {
            text.push_str(&format!("  {}\n", r.line()));
        }
    }
    text
}
