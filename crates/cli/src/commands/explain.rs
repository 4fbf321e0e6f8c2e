//! `tamga explain [CODE or log text]`.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use schemars::JsonSchema;
use serde::Serialize;
use tamga_app::explain::{self, Report, messages};
use tamga_core::finding::{self, Entry};

#[derive(clap::Args)]
pub(crate) struct ExplainArgs {
    /// A finding's code, or a line of a server's or client's log; without it, all codes
    #[arg(value_name = "CODE or TEXT")]
    code: Vec<String>,
    /// Every finding at length, in Markdown: docs/findings.md is made from it
    #[arg(long, conflicts_with = "code")]
    markdown: bool,
}

/// Every finding in one text.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Markdown {
    markdown: String,
}

pub(crate) fn run(_: &Session, args: &ExplainArgs) -> Result<Done> {
    if args.markdown {
        let text = markdown();
        return Ok(Done::report(text.clone(), &Markdown { markdown: text }));
    }
    if args.code.is_empty() {
        let rows: Vec<Vec<String>> =
            finding::entries().map(|e| vec![human::strong(e.code.word()), e.summary.to_owned()]).collect();
        return Ok(Done::report(human::table(&rows), &explain::all()));
    }
    let report = explain::explain(&args.code.join(" "))?;
    let text = match (&report.servers, report.findings.as_slice()) {
        (None, [entry]) => render_entry(entry),
        _ => render_log(&report),
    };
    Ok(Done::report(text, &report).with_code(exit::of(report.outcome())))
}

/// What a line of a log means.
fn render_log(report: &Report) -> String {
    let servers = report.servers.as_deref().unwrap_or_default();
    if servers.is_empty() && report.findings.is_empty() {
        return format!(
            "{} this is no text of a server or client that Tamga knows\n  {}  tamga check HOST:PORT looks for itself; tamga check FOLDER looks at the files\n",
            human::care("unknown"),
            human::dim("do:")
        );
    }
    let mut text = String::new();
    for k in servers {
        let code = k.fault.code.map(|c| format!("  {}", human::dim(&format!("(tamga explain {})", c.word()))));
        text.push_str(&format!(
            "{} {}{}\n      {}\n  {}  {}\n",
            human::strong(k.recipe.id),
            human::care(k.fault.text),
            code.unwrap_or_default(),
            k.fault.why,
            human::dim("do:"),
            k.fault.remedy
        ));
    }
    for e in report.findings.iter().filter(|e| !servers.iter().any(|k| k.fault.code == Some(e.code))) {
        text.push_str(&format!(
            "{} {}\n      {}\n  {}  {}\n",
            human::strong(e.code.word()),
            e.summary,
            e.cause,
            human::dim("do:"),
            e.remedy
        ));
    }
    text
}

fn render_entry(e: &Entry) -> String {
    let mut text = format!("{}: {}\n", human::strong(e.code.word()), e.summary);
    for (head, body) in [
        ("what it means", e.meaning),
        ("how it comes about", e.cause),
        ("fix it with Tamga", e.remedy),
        ("fix it by hand", e.by_hand),
    ] {
        text.push_str(&format!("\n{}\n  {body}\n", human::strong(head)));
    }
    let said = messages(e.code);
    if !said.is_empty() {
        text.push_str(&format!("\n{}\n", human::strong("what clients say")));
        let rows: Vec<Vec<String>> = said.iter().map(|(c, s)| vec![(*c).to_owned(), s.clone()]).collect();
        text.push_str(&human::table(&rows));
    }
    text
}

fn markdown() -> String {
    let mut text = String::from("# Findings\n\nMade by `tamga explain --markdown`; do not edit.\n");
    for e in finding::entries() {
        text.push_str(&format!(
            "\n## {}\n\n{}.\n\n* What it means: {}\n* Cause: {}\n* Fix it with Tamga: {}\n* Fix it by hand: {}\n",
            e.code.word(),
            e.summary,
            e.meaning,
            e.cause,
            e.remedy,
            e.by_hand
        ));
        for (client, message) in messages(e.code) {
            text.push_str(&format!("* {client} says: `{message}`\n"));
        }
    }
    text
}
