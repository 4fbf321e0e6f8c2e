//! `tamga setup [NAME…]`: the job in one step, and its proof.

use super::issue::render_form;
use super::parse;
use super::trust::render_rows;
use crate::args::{SecretArgs, StoreArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::net::IpAddr;
use std::path::PathBuf;
use tamga_app::report::Answer;
use tamga_app::setup::{self, Change, Plan, Proof, Request};
use tamga_core::ca::authority::limits::briefly;
use tamga_core::ca::issue;
use tamga_core::check::client::Outcome;
use tamga_core::deploy::recipe::Recipe;
use tamga_core::vocabulary::client_id::Roots;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::word::joined;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga setup charts.saltmarsh.test --into tls")]
pub(crate) struct SetupArgs {
    /// Names and addresses; localhost, 127.0.0.1 and ::1 are always included
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// What to call the certificate [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<Label>,
    /// The directory for the certificate's files [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Key kind, purposes and form as this server needs them (tamga recipe lists the servers)
    #[arg(long = "for", value_name = "SERVER", value_parser = values::server(), hide_possible_values = true, ignore_case = true)]
    server: Option<&'static Recipe>,
    #[command(flatten)]
    stores: StoreArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

const LOOPBACK: [&str; 3] = ["localhost", "127.0.0.1", "::1"];

pub(crate) fn run(session: &Session, args: SetupArgs) -> Result<Done> {
    let typed: Vec<String> = args.names.into_iter().chain(LOOPBACK.map(str::to_owned)).collect();
    let request = Request {
        names: issue::distinct(parse::names(&typed)?),
        issuer: args.issuer,
        label: args.label,
        into: args.into,
        server: args.server,
        stores: parse::stores(args.stores, false),
        secret: args.secrets.into(),
    };
    let report = setup::setup(session, &request)?;
    Ok(match &report {
        Answer::Planned(plan) => Done::report(render_plan(plan, &request.names), &report),
        Answer::Done(done) => {
            let text = render(done, &request, session.raise());
            Done::report(text, &report).with_code(exit::of(done.outcome()))
        }
    })
}

fn render_plan(plan: &Plan, names: &[Name]) -> String {
    let authority = match &plan.authority {
        None => format!("make the root {}", Plan::NEW_AUTHORITY),
        Some(label) => format!("use the root {label}"),
    };
    let names: Vec<String> = names.iter().map(ToString::to_string).collect();
    format!(
        "would {authority}\nwould issue {} for {} into {}\nwould put the root into: {}\n",
        plan.label,
        names.join(", "),
        plan.directory.shown(),
        joined(&plan.ids)
    )
}

fn render(done: &setup::Done, request: &Request, raise: &str) -> String {
    let [certificate] = &done.certificates;
    let (authority, issued) = (&done.authority, &certificate.issued);
    let host = request.names.first().map(reachable).unwrap_or_default();
    let mut text = render_answer(done, &host);
    text.push_str(&format!(
        "\n{} {} {}, may certify {}\n",
        human::dim("authority  "),
        human::strong(&authority.label),
        if done.is_new_root { human::good("made") } else { "unchanged".into() },
        briefly(&authority.certificate),
    ));
    text.push_str(&format!(
        "{} {} {} for {}\n{} {}: certificate.pem, private-key.pem, root.pem\n",
        human::dim("certificate"),
        human::strong(&issued.label),
        if done.change == Change::Unchanged { done.change.word().into() } else { human::good(done.change.word()) },
        issued.certificate.name_words().join(", "),
        human::dim("files      "),
        issued.folder.shown()
    ));
    text.push_str(&format!("\n{}", render_rows(&done.rows)));
    let in_scope: Vec<&Proof> = done.proofs.iter().filter(|p| p.is_in_scope).collect();
    if !in_scope.is_empty() {
        text.push_str(&format!("\n{}", table(&in_scope)));
    }
    let unresolved: Vec<&str> = done.names.iter().filter(|n| !n.resolves).map(|n| n.name.as_str()).collect();
    let advice = render_advice(&done.proofs, &unresolved, &authority.label, raise);
    if !advice.is_empty() {
        text.push_str(&format!("\n{advice}"));
    }
    text.push_str(&human::findings(&done.findings));
    text.push_str(&format!(
        "\n{} tamga recipe SERVER {} shows how your server reads the files\n     tamga check https://{host}:PORT checks it once it runs\n     tamga leave undoes all of this\n",
        human::dim("next"),
        issued.label,
    ));
    if done.change != Change::Unchanged {
        text.push_str(&render_form(done.form.as_ref(), request.server, &issued.label));
    }
    text
}

/// A host that the first name stands for, as it is typed in an address.
fn reachable(name: &Name) -> String {
    match name {
        Name::Dns(d) => d.strip_prefix("*.").map_or_else(|| d.clone(), |rest| format!("www.{rest}")),
        Name::Ip(IpAddr::V6(a)) => format!("[{a}]"),
        other => other.to_string(),
    }
}

/// The answer, before anything else: who opens the first name without a warning.
fn render_answer(done: &setup::Done, host: &str) -> String {
    let in_scope = |accepts: bool| -> Vec<&str> {
        let meant = done.proofs.iter().filter(|p| p.is_in_scope && p.accepts() == accepts);
        meant.map(|p| p.client.title()).collect()
    };
    let (good, bad) = (in_scope(true), in_scope(false));
    let url = format!("https://{host}");
    let verb = |n: usize, one: &'static str, many: &'static str| if n == 1 { one } else { many };
    match (good.as_slice(), bad.as_slice()) {
        ([], []) if done.proofs.is_empty() => {
            human::care("No client was asked: none that Tamga can run is installed here.") + "\n"
        }
        ([], []) => human::care("No client was asked: none that is installed here reads the chosen stores.") + "\n",
        (good, []) => {
            let opens = verb(good.len(), "opens", "open");
            human::good(&format!("{} {opens} {url} without a warning.", listed(good))) + "\n"
        }
        (good, bad) => {
            let warn = verb(bad.len(), "warns", "warn");
            let mut text = human::bad(&format!("{} still {warn} about {url}.", listed(bad))) + "\n";
            if !good.is_empty() {
                let opens = verb(good.len(), "opens", "open");
                text.push_str(&format!("{} {opens} it without a warning.\n", listed(good)));
            }
            text
        }
    }
}

/// `a, b and c`.
fn listed(all: &[&str]) -> String {
    match all {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

fn table(proofs: &[&Proof]) -> String {
    let mut rows = vec![["client", "verdict", "names", "its message"].map(human::dim).to_vec()];
    for p in proofs {
        let mut groups: Vec<(Outcome, Option<String>, Vec<String>)> = Vec::new();
        for (name, o) in &p.seen {
            // Words that quote the name differ only in it.
            let quoted = format!("'{name}'");
            let alike = |c: &Option<String>| c.as_ref().map(|c| c.replace(&quoted, "'…'"));
            let code = if p.seen.len() > 1 { alike(&o.code) } else { o.code.clone() };
            match groups.iter_mut().find(|g| g.0 == o.outcome && g.1 == code) {
                Some(g) => g.2.push(name.to_string()),
                None => groups.push((o.outcome, code, vec![name.to_string()])),
            }
        }
        for (outcome, code, names) in groups {
            rows.push(vec![
                human::strong(p.client.word()),
                super::check::outcome(outcome),
                if names.len() == p.seen.len() { format!("all {}", names.len()) } else { names.join(", ") },
                code.unwrap_or_default(),
            ]);
        }
    }
    human::table(&rows)
}

/// Where somebody warns, what to do.
fn render_advice(proofs: &[Proof], unresolved: &[&str], label: &str, raise: &str) -> String {
    let mut text = String::new();
    // Clients that one command helps are named together.
    let mut groups: Vec<(bool, String, Vec<&str>)> = Vec::new();
    for p in proofs.iter().filter(|p| !p.accepts()) {
        let command = match (p.client.roots(), p.is_in_scope) {
            (Roots::Jvm, false) => format!("{raise}tamga trust add {label} --stores java"),
            (Roots::Machine, false) => format!("{raise}tamga trust add {label} --scope machine"),
            (Roots::Variable, _) => {
                format!("eval \"$(tamga trust environment)\", or for one call: tamga run -- {} …", p.client)
            }
            (_, false) => format!("tamga trust add {label}"),
            (_, true) => format!("tamga trust status {label}"),
        };
        match groups.iter_mut().find(|g| g.0 == p.is_in_scope && g.1 == command) {
            Some(g) => g.2.push(p.client.word()),
            None => groups.push((p.is_in_scope, command, vec![p.client.word()])),
        }
    }
    for (in_scope, command, clients) in groups {
        let line = format!("{}\n  do:  {command}", clients.join(", "));
        match in_scope {
            true => text.push_str(&format!("{} {line}\n", human::bad("warns"))),
            false => text.push_str(&format!("{}\n", human::dim(&format!("not set up  {line}")))),
        }
    }
    if !unresolved.is_empty() {
        let verb = if unresolved.len() == 1 { "does" } else { "do" };
        text.push_str(&format!(
            "{} {} {verb} not resolve on this machine\n  {}  {raise}tamga hosts add {}\n",
            human::care("note"),
            unresolved.join(", "),
            human::dim("do:"),
            unresolved.join(" ")
        ));
    }
    text
}
