//! Many targets: a line each as it comes, and a summary by finding.

use super::{page, report};
use crate::args::Format;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, to_json};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;
use tamga_app::check::on_hosts::{self, OnHosts, Unreached};
use tamga_app::check::{self, Checked, Request};
use tamga_app::interact::Task;
use tamga_app::report::Outcome as Ending;
use tamga_core::deploy::lab::host::Host;
use tamga_core::finding::{Code, Severity};
use tamga_core::vocabulary::text::{Shown, harmless};

/// More targets than this are reported in one line each; `--verbose` reports all of each.
const AT_LENGTH: usize = 5;

/// What is kept of one target: never the chain itself, so that a thousand cost no more memory than their words.
struct Diagnostic {
    text: String,
    json: Value,
    ending: Ending,
    target: String,
    /// The findings, or that there is no verdict.
    reason: String,
    /// Its row among those that are not good.
    row: Option<Vec<String>>,
    section: String,
    findings: Vec<Code>,
    /// The machine, and what to do there.
    host: Option<(String, Vec<String>)>,
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct Targets {
    #[schemars(with = "Vec<Checked>")]
    targets: Vec<Value>,
    /// Machines whose clients were meant, and which were not reached.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    unreached: Vec<Unreached>,
}

/// Checks all of them, as the clients of these hosts if there are any; with a file, a page of it all goes there.
pub(super) fn all(session: &Session, request: &Request, hosts: &[Host], file: Option<&Path>) -> Result<Done> {
    let count = request.targets.len() * hosts.len().max(1);
    let many = count > AT_LENGTH || hosts.len() > 1;
    let lines = session.common.format == Format::Lines;
    // Where clients are run, one target shows them itself.
    let task = match (request.observe, many) {
        (true, false) => None,
        (_, true) => Some(Task::Many("checking", count)),
        (false, false) => Some(Task::One("checking")),
    };
    let progress = task.map(|t| session.caller.progress(t));
    let seen = |c: Checked| {
        let summaries = tell(session, &c, many, file.is_some());
        if lines {
            human::json_line(&summaries.json);
        }
        if let Some(p) = &progress {
            p.step();
        }
        summaries
    };
    let OnHosts { done: summaries, unreached } = match hosts.is_empty() {
        true => OnHosts { done: check::check(session, request, seen)?, unreached: Vec::new() },
        false => on_hosts::on_hosts(session, request, hosts, seen)?,
    };
    drop(progress);
    let endings = summaries.iter().map(|t| t.ending);
    let code = exit::of(check::outcome(endings.chain(unreached.iter().map(|_| Ending::Blocked))));
    if let Some(file) = file {
        let mut sections: Vec<String> = summaries.iter().map(|t| t.section.clone()).collect();
        sections.extend(unreached.iter().map(page::unreached));
        let good = summaries.iter().filter(|t| t.ending == Ending::Good).count();
        tamga_host::fs::write_whole(file, page::page(&sections, good, session.now).as_bytes(), 0o644)?;
    }
    let mut text = match (lines, many && !session.common.verbose) {
        (true, _) => String::new(),
        (false, true) if summaries.is_empty() => String::new(),
        (false, true) => summary(&summaries),
        (false, false) => {
            let mut text = summaries.iter().map(|t| t.text.as_str()).collect::<Vec<_>>().join("\n");
            if many {
                text.push_str(&format!("\n{}", summary(&summaries)));
            }
            text
        }
    };
    for one in &unreached {
        let failure = &one.failure;
        match lines {
            true => human::json_line(&to_json(one)),
            false => {
                text.push_str(&format!("{} {}: {}\n", human::bad("not reached"), one.host, failure.why));
                text.push_str(&format!("  {}  {}\n", human::dim("do:"), failure.remedy));
            }
        }
    }
    if let (Some(file), false) = (file, lines) {
        text.push_str(&format!("{} {}\n", human::dim("page:"), file.shown()));
    }
    let brief = match summaries.as_slice() {
        [one] => format!("{}: {}\n", harmless(&one.target), one.reason),
        [] => "no host was reached\n".to_owned(),
        all => {
            let bad = all.iter().filter(|t| t.ending != Ending::Good).count();
            format!("{bad} of {} targets are not good\n", all.len())
        }
    };
    let members: Vec<Value> = if lines { Vec::new() } else { summaries.into_iter().map(|t| t.json).collect() };
    Ok(Done::report(text, &Targets { targets: members, unreached }).with_code(code).with_brief(brief))
}

fn tell(session: &Session, c: &Checked, many: bool, paged: bool) -> Diagnostic {
    let mut findings: Vec<Code> = Vec::new();
    for f in &c.findings {
        if f.severity != Severity::Note && !findings.contains(&f.code) {
            findings.push(f.code);
        }
    }
    let words: Vec<&str> = findings.iter().map(|f| f.word()).collect();
    let verdict = match c.ending {
        Ending::Good => None,
        Ending::Blocked => Some(human::care("not reached")),
        _ => Some(human::bad("would warn")),
    };
    let row = verdict.map(|v| {
        let mut row = vec![v];
        row.extend(c.host.clone());
        row.extend([c.target.clone(), words.join(" ")]);
        // Of one target on many machines it is of interest who minds.
        row.extend(c.host.is_some().then(|| match c.minding() {
            all if !all.is_empty() && all.len() == c.rows.len() => "every client".to_owned(),
            some => some.join(", "),
        }));
        row
    });
    let at_length = !many || session.common.verbose;
    Diagnostic {
        text: if at_length { report::words(c, session.common.verbose) } else { String::new() },
        json: if session.common.format == Format::Text { Value::Null } else { to_json(c) },
        ending: c.ending,
        target: c.named(),
        reason: if words.is_empty() { "no client could be judged".to_owned() } else { words.join(" ") },
        row,
        section: if paged { page::section(c) } else { String::new() },
        findings,
        host: c.host.clone().map(|h| {
            (h, c.findings.iter().filter(|f| f.severity != Severity::Note).map(|f| f.remedy.clone()).collect())
        }),
    }
}

/// The verdict over all, the bad ones a line each, and how often each finding came up.
fn summary(summaries: &[Diagnostic]) -> String {
    let count = |ending: Ending| summaries.iter().filter(|t| t.ending == ending).count();
    let (good, unreached) = (count(Ending::Good), count(Ending::Blocked));
    let bad = summaries.len() - good - unreached;
    let verdict = match (bad, unreached) {
        (0, 0) => human::good("no client would warn"),
        (0, n) => human::care(&format!("{n} not reached")),
        (n, 0) => human::bad(&format!("{n} would make a client warn")),
        (n, m) => human::bad(&format!("{n} would make a client warn, {m} not reached")),
    };
    let mut hosts: Vec<&str> = summaries.iter().filter_map(|t| Some(t.host.as_ref()?.0.as_str())).collect();
    hosts.dedup();
    let checked = match hosts.len() {
        0 => format!("{} targets: {good} good", summaries.len()),
        n => format!("{} on {n} hosts: {good} of {} good", targets(summaries.len() / n), summaries.len()),
    };
    let mut text = format!("{} {checked}\n{verdict}\n", human::dim("checked"));
    let mut by_code: BTreeMap<&'static str, usize> = BTreeMap::new();
    for f in summaries.iter().flat_map(|t| &t.findings) {
        *by_code.entry(f.word()).or_default() += 1;
    }
    if !by_code.is_empty() {
        let mut rows = vec![["finding", "targets"].map(human::dim).to_vec()];
        let mut counted: Vec<(&str, usize)> = by_code.into_iter().collect();
        counted.sort_by_key(|(word, n)| (std::cmp::Reverse(*n), *word));
        rows.extend(counted.iter().map(|(word, n)| vec![human::strong(word), n.to_string()]));
        text.push_str(&format!("\n{}\n", human::table(&rows)));
    }
    let rows: Vec<Vec<String>> = summaries.iter().filter_map(|t| t.row.clone()).collect();
    text.push_str(&human::table(&rows));
    text.push_str(&steps(summaries));
    if bad + unreached > 0 {
        text.push_str(&format!(
            "{} tamga explain FINDING, or the same with one of these, or with --verbose\n",
            human::dim("next:")
        ));
    }
    text
}

fn targets(count: usize) -> String {
    if count == 1 { "1 target".to_owned() } else { format!("{count} targets") }
}

/// What to do on the machines: one line for all on which it is the same.
fn steps(summaries: &[Diagnostic]) -> String {
    let mut all: Vec<(String, Vec<&str>)> = Vec::new();
    for (host, remedies) in summaries.iter().filter_map(|t| t.host.as_ref()) {
        for remedy in remedies {
            let Some(step) = remedy.strip_suffix(&format!(" --on {host}")) else { continue };
            match all.iter_mut().find(|(known, _)| known == step) {
                Some((_, hosts)) if hosts.contains(&host.as_str()) => {}
                Some((_, hosts)) => hosts.push(host),
                None => all.push((step.to_owned(), vec![host])),
            }
        }
    }
    all.into_iter().map(|(step, hosts)| format!("{} {step} --on {}\n", human::dim("do:"), hosts.join(","))).collect()
}
