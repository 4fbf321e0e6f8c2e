//! Many targets: from a file, side by side, one line each as it comes, and a summary by finding.

use super::live::{Meeting, live};
use super::{Around, Checked, files, page, plain, report};
use crate::args::Format;
use crate::commands::target::{self, Target};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::progress::Progress;
use crate::words::{human, json};
use serde_json::Value;
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::text::Shown;
use tamga_host::fs;

/// More than so many are told in one line each; `--verbose` tells all of each.
const AT_LENGTH: usize = 5;

/// The targets of a file: one a line, `#` begins a remark.
///
/// Errors: it cannot be read; there is none in it.
pub(super) fn listed(path: &Path) -> Result<Vec<String>> {
    let text = fs::read_named_text(path)?;
    let lines = text.trim_start_matches('\u{feff}').lines();
    let found: Vec<String> = lines
        .map(|l| l.split(" #").next().unwrap_or_default().trim())
        .filter(|l| !l.is_empty() && !l.starts_with('#'))
        .map(str::to_owned)
        .collect();
    if found.is_empty() {
        let what = path.shown();
        return Err(Error::Malformed { what, why: "no line of it names a target".into() }.into());
    }
    Ok(found)
}

/// Checks one target.
pub(super) fn one(session: &Session, around: &Around, typed: &str, observe: bool) -> Result<Checked> {
    let mut checked = match target::parse(typed, &around.issued)? {
        Target::Live { host, port, prelude, path } => {
            live(session, around, typed, &Meeting { host, port, prelude, path }, observe)
        }
        Target::Plain(address) => plain::from(session, around, typed, &address, observe),
        Target::File(path) => files::file(session, around, typed, &path)?,
        Target::Label(issued) => files::label(session, around, typed, &issued)?,
    };
    checked.show_wire = around.wire;
    Ok(checked)
}

/// How they are gone through.
pub(super) struct How<'a> {
    /// So many side by side.
    pub(super) jobs: usize,
    /// With real clients too.
    pub(super) observe: bool,
    /// Where a page of it all goes.
    pub(super) report: Option<&'a Path>,
}

/// What is kept of one target: never the chain itself, so that a thousand cost no more memory than their words.
struct Told {
    text: String,
    json: Value,
    code: u8,
    /// Its row among those that are not good.
    row: Option<Vec<String>>,
    section: String,
    findings: Vec<Code>,
}

/// Checks all of them, so many at a time. What is typed wrong is said before the first is met.
pub(super) fn all(session: &Session, around: &Around, targets: &[String], how: &How<'_>) -> Result<Done> {
    for typed in targets {
        target::parse(typed, &around.issued)?;
    }
    let many = targets.len() > AT_LENGTH;
    let lines = session.common.format == Format::Lines;
    let progress = many.then(|| Progress::new(&session.common, targets.len()));
    let next = AtomicUsize::new(0);
    let told: Mutex<Vec<(usize, Result<Told>)>> = Mutex::new(Vec::with_capacity(targets.len()));
    let work = || {
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(typed) = targets.get(at) else { return };
            let done = one(session, around, typed, how.observe).map(|c| tell(session, &c, many, how.report.is_some()));
            if let (true, Ok(t)) = (lines, &done) {
                human::json_line(&t.json);
            }
            if let Some(p) = &progress {
                p.step();
            }
            told.lock().unwrap_or_else(|e| e.into_inner()).push((at, done));
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..how.jobs.min(targets.len()) {
            scope.spawn(work);
        }
        work();
    });
    if let Some(p) = &progress {
        p.finish();
    }
    let mut told = told.into_inner().unwrap_or_else(|e| e.into_inner());
    told.sort_by_key(|(at, _)| *at);
    let told: Vec<Told> = told.into_iter().map(|(_, t)| t).collect::<Result<_>>()?;
    let code = code(&told);
    if let Some(file) = how.report {
        let sections: Vec<String> = told.iter().map(|t| t.section.clone()).collect();
        let good = told.iter().filter(|t| t.code == exit::GOOD).count();
        tamga_host::fs::write_whole(file, page::page(&sections, good, session.now).as_bytes(), 0o644)?;
    }
    let mut text = match (lines, many && !session.common.verbose) {
        (true, _) => String::new(),
        (false, true) => summary(&told),
        (false, false) => {
            let mut text = told.iter().map(|t| t.text.as_str()).collect::<Vec<_>>().join("\n");
            if many {
                text.push_str(&format!("\n{}", summary(&told)));
            }
            text
        }
    };
    if let (Some(file), false) = (how.report, lines) {
        text.push_str(&format!("{} {}\n", human::dim("page:"), file.shown()));
    }
    let members: Vec<Value> = if lines { Vec::new() } else { told.into_iter().map(|t| t.json).collect() };
    Ok(Done { text, json: json!({"targets": members}), code })
}

fn tell(session: &Session, c: &Checked, many: bool, paged: bool) -> Told {
    let mut findings: Vec<Code> = Vec::new();
    for f in &c.findings {
        if f.severity != tamga_core::finding::Severity::Note && !findings.contains(&f.code) {
            findings.push(f.code);
        }
    }
    let words: Vec<&str> = findings.iter().map(|f| f.word()).collect();
    let verdict = match c.code {
        exit::GOOD => None,
        exit::SURROUNDINGS => Some(human::care("not reached")),
        _ => Some(human::bad("would warn")),
    };
    let row = verdict.map(|v| vec![v, c.target.clone(), words.join(" ")]);
    let at_length = !many || session.common.verbose;
    let text = if at_length { report::words(c, session.common.verbose) } else { String::new() };
    let json = if session.common.format == Format::Text { Value::Null } else { report::json_of(c) };
    let section = if paged { page::section(c) } else { String::new() };
    Told { text, json, code: c.code, row, section, findings }
}

fn code(told: &[Told]) -> u8 {
    let unreached = told.iter().filter(|t| t.code == exit::SURROUNDINGS).count();
    let others = told.iter().map(|t| t.code).filter(|c| *c != exit::SURROUNDINGS);
    let code = others.fold(exit::GOOD, exit::worst);
    match unreached {
        0 => code,
        n if n == told.len() => exit::worst(code, exit::SURROUNDINGS),
        _ => exit::worst(code, exit::PARTLY),
    }
}

/// The verdict over all, the bad ones a line each, and how often each finding came up.
fn summary(told: &[Told]) -> String {
    let count = |code: u8| told.iter().filter(|t| t.code == code).count();
    let (good, unreached) = (count(exit::GOOD), count(exit::SURROUNDINGS));
    let bad = told.len() - good - unreached;
    let verdict = match (bad, unreached) {
        (0, 0) => human::good("no client would warn"),
        (0, n) => human::care(&format!("{n} not reached")),
        (n, 0) => human::bad(&format!("{n} would make a client warn")),
        (n, m) => human::bad(&format!("{n} would make a client warn, {m} not reached")),
    };
    let mut text = format!("{} {} targets: {good} good\n{verdict}\n", human::dim("checked"), told.len());
    let mut by_code: BTreeMap<&'static str, usize> = BTreeMap::new();
    for f in told.iter().flat_map(|t| &t.findings) {
        *by_code.entry(f.word()).or_default() += 1;
    }
    if !by_code.is_empty() {
        let mut rows = vec![["finding", "targets"].map(human::dim).to_vec()];
        let mut counted: Vec<(&str, usize)> = by_code.into_iter().collect();
        counted.sort_by_key(|(word, n)| (std::cmp::Reverse(*n), *word));
        rows.extend(counted.iter().map(|(word, n)| vec![human::strong(word), n.to_string()]));
        text.push_str(&format!("\n{}\n", human::table(&rows)));
    }
    let rows: Vec<Vec<String>> = told.iter().filter_map(|t| t.row.clone()).collect();
    text.push_str(&human::table(&rows));
    if bad + unreached > 0 {
        text.push_str(&format!(
            "{} tamga explain FINDING, or tamga check with one of these targets\n",
            human::dim("next:")
        ));
    }
    text
}
