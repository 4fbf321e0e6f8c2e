//! The same on machines beyond this one.

use crate::args::{OnArgs, StoreArgs};
use crate::commands::parse;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use tamga_app::report::Outcome;
use tamga_app::trust::Which;
use tamga_app::trust::on_hosts::{self, OnHost, Report, Request};
use tamga_app::trust::row::{Change, Row};
use tamga_core::finding::Code;
use tamga_core::stores::trust::{Goal, State};

pub(super) fn change(
    session: &Session,
    goal: Goal,
    root: Which,
    stores: StoreArgs,
    on: &OnArgs,
    accepted: Vec<Code>,
) -> Result<Done> {
    let hosts = parse::machines(session, &on.on, on.lab_file.as_deref())?;
    done(session, &Request { goal: Some(goal), root: Some(root), stores: parse::stores(stores, true), hosts, accepted })
}

pub(super) fn status(session: &Session, root: Option<Which>, stores: StoreArgs, on: &OnArgs) -> Result<Done> {
    let hosts = parse::machines(session, &on.on, on.lab_file.as_deref())?;
    done(session, &Request { goal: None, root, stores: parse::stores(stores, true), hosts, accepted: Vec::new() })
}

fn done(session: &Session, request: &Request) -> Result<Done> {
    let report = on_hosts::on_hosts(session, request)?;
    Ok(Done::report(render(&report), &report).with_code(exit::of(report.outcome())))
}

fn render(report: &Report) -> String {
    let mut head = vec!["host", "store", "root", "state"];
    let shows_change = report.changes && !report.dry_run;
    head.extend(shows_change.then_some("change"));
    let mut cells = vec![head.into_iter().map(human::dim).collect::<Vec<_>>()];
    for host in &report.hosts {
        cells.extend(rows_of(host, shows_change));
    }
    let mut text = human::table_with(&cells, human::Fit { expendable: &[], cut: None });
    text.push_str(&reasons(&report.hosts));
    if report.dry_run {
        for host in &report.hosts {
            host.steps.iter().for_each(|step| text.push_str(&format!("  {}: would {step}\n", host.host)));
        }
        return text;
    }
    let good = report.hosts.iter().filter(|h| h.outcome() == Outcome::Good).count();
    text.push_str(&format!("{} of {} hosts are as they should be\n", good, report.hosts.len()));
    text
}

fn rows_of(host: &OnHost, shows_change: bool) -> Vec<Vec<String>> {
    if host.failure.is_some() {
        let mut row = vec![human::strong(&host.host), "-".into(), "-".into(), human::bad("not reached")];
        row.extend(shows_change.then(|| human::dim("none")));
        return vec![row];
    }
    // A store that a machine does not have is of no interest, unless it was asked for.
    let counts = |r: &&Row| r.state != State::Unavailable || r.outcome != Outcome::Good;
    let mut out = Vec::new();
    for (n, r) in host.stores.iter().filter(counts).enumerate() {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::Absent => human::dim(r.state.word()),
            _ => human::bad(r.state.word()),
        };
        let name = if n == 0 { human::strong(&host.host) } else { String::new() };
        let mut row = vec![name, r.store.word().to_owned(), r.label.to_string(), state];
        row.extend(shows_change.then(|| change_of(r)));
        out.push(row);
    }
    if out.is_empty() {
        let mut row = vec![human::strong(&host.host), "-".into(), "-".into(), human::dim("no such store")];
        row.extend(shows_change.then(|| human::dim("none")));
        out.push(row);
    }
    out
}

fn change_of(r: &Row) -> String {
    match r.change {
        Change::Failed => human::bad(r.change.word()),
        Change::None => human::dim(r.change.word()),
        Change::Added | Change::Removed => human::good(r.change.word()),
    }
}

/// Why something is not as it should be: one line for all machines with the same reason.
fn reasons(hosts: &[OnHost]) -> String {
    let mut all: Vec<(String, String, Vec<&str>)> = Vec::new();
    let mut add = |why: &str, remedy: &str, host| match all.iter_mut().find(|(w, r, _)| w == why && r == remedy) {
        Some((_, _, names)) if names.contains(&host) => {}
        Some((_, _, names)) => names.push(host),
        None => all.push((why.to_owned(), remedy.to_owned(), vec![host])),
    };
    for host in hosts {
        if let Some(failure) = &host.failure {
            add(&failure.why, &failure.remedy, &host.host);
        }
        for r in host.stores.iter().filter(|r| r.outcome != Outcome::Good) {
            add(r.why.as_deref().unwrap_or_default(), r.remedy.as_deref().unwrap_or_default(), &host.host);
        }
    }
    let mut text = String::new();
    for (why, remedy, names) in all {
        text.push_str(&format!("{} {}: {why}\n", human::bad("failed"), names.join(", ")));
        if !remedy.is_empty() {
            text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
        }
    }
    text
}
