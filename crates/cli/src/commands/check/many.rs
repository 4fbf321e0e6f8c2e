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
use tamga_app::check::{self, Checked, Request};
use tamga_app::interact::Task;
use tamga_app::report::Outcome as Ending;
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
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct Targets {
    #[schemars(with = "Vec<Checked>")]
    targets: Vec<Value>,
}

/// Checks all of them; with a file, a page of it all goes there.
pub(super) fn all(session: &Session, request: &Request, file: Option<&Path>) -> Result<Done> {
    let many = request.targets.len() > AT_LENGTH;
    let lines = session.common.format == Format::Lines;
    // Where clients are run, one target shows them itself.
    let task = match (request.observe, many) {
        (true, false) => None,
        (_, true) => Some(Task::Many("checking", request.targets.len())),
        (false, false) => Some(Task::One("checking")),
    };
    let progress = task.map(|t| session.caller.progress(t));
    let summaries: Vec<Diagnostic> = check::check(session, request, |c| {
        let summaries = tell(session, &c, many, file.is_some());
        if lines {
            human::json_line(&summaries.json);
        }
        if let Some(p) = &progress {
            p.step();
        }
        summaries
    })?;
    drop(progress);
    let code = exit::of(check::outcome(summaries.iter().map(|t| t.ending)));
    if let Some(file) = file {
        let sections: Vec<String> = summaries.iter().map(|t| t.section.clone()).collect();
        let good = summaries.iter().filter(|t| t.ending == Ending::Good).count();
        tamga_host::fs::write_whole(file, page::page(&sections, good, session.now).as_bytes(), 0o644)?;
    }
    let mut text = match (lines, many && !session.common.verbose) {
        (true, _) => String::new(),
        (false, true) => summary(&summaries),
        (false, false) => {
            let mut text = summaries.iter().map(|t| t.text.as_str()).collect::<Vec<_>>().join("\n");
            if many {
                text.push_str(&format!("\n{}", summary(&summaries)));
            }
            text
        }
    };
    if let (Some(file), false) = (file, lines) {
        text.push_str(&format!("{} {}\n", human::dim("page:"), file.shown()));
    }
    let brief = match summaries.as_slice() {
        [one] => format!("{}: {}\n", harmless(&one.target), one.reason),
        all => {
            let bad = all.iter().filter(|t| t.ending != Ending::Good).count();
            format!("{bad} of {} targets are not good\n", all.len())
        }
    };
    let members: Vec<Value> = if lines { Vec::new() } else { summaries.into_iter().map(|t| t.json).collect() };
    Ok(Done::report(text, &Targets { targets: members }).with_code(code).with_brief(brief))
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
    let row = verdict.map(|v| vec![v, c.target.clone(), words.join(" ")]);
    let at_length = !many || session.common.verbose;
    Diagnostic {
        text: if at_length { report::words(c, session.common.verbose) } else { String::new() },
        json: if session.common.format == Format::Text { Value::Null } else { to_json(c) },
        ending: c.ending,
        target: c.target.clone(),
        reason: if words.is_empty() { "no client could be judged".to_owned() } else { words.join(" ") },
        row,
        section: if paged { page::section(c) } else { String::new() },
        findings,
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
    let mut text = format!("{} {} targets: {good} good\n{verdict}\n", human::dim("checked"), summaries.len());
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
    if bad + unreached > 0 {
        text.push_str(&format!(
            "{} tamga explain FINDING, or tamga check with one of these targets\n",
            human::dim("next:")
        ));
    }
    text
}
