//! `tamga explain [CODE or log text]`.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use schemars::JsonSchema;
use serde::Serialize;
use tamga_app::explain::{self, Report, said_by};
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
    let messages = report.messages.as_deref().unwrap_or_default();
    // One line has one answer: that of the server if it says more, else that of its TLS library.
    let servers = match report.is_of_server || messages.is_empty() {
        true => report.servers.as_deref().unwrap_or_default(),
        false => &[],
    };
    if !report.success.is_empty() {
        let servers = report.success.join(" and ");
        return format!(
            "{} by this line {servers} says that all is well\n  {}  tamga check HOST:PORT asks the clients\n",
            human::good("success"),
            human::dim("do:")
        );
    }
    if servers.is_empty() && report.findings.is_empty() {
        return format!(
            "{} Tamga does not know this text\n  {}  tamga check HOST:PORT looks at the server itself, tamga check DIR at the files\n",
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
    for m in messages.iter().filter(|m| !servers.iter().any(|k| k.fault.code == Some(m.code))) {
        let entry = finding::entry(m.code);
        text.push_str(&format!(
            "{} {}  {}\n      {}\n  {}  {}\n",
            human::strong(m.library.word()),
            human::care(m.text),
            human::dim(&format!("(tamga explain {})", m.code.word())),
            m.says.unwrap_or(entry.summary),
            human::dim("do:"),
            entry.remedy
        ));
    }
    let by_library = |e: &Entry| messages.iter().any(|m| m.code == e.code);
    for e in report.findings.iter().filter(|e| !by_library(e) && !servers.iter().any(|k| k.fault.code == Some(e.code)))
    {
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
        ("cause", e.cause),
        ("fix it with Tamga", e.remedy),
        ("fix it by hand", e.by_hand),
    ] {
        text.push_str(&format!("\n{}\n  {body}\n", human::strong(head)));
    }
    let said = said_by(e.code);
    if !said.is_empty() {
        text.push_str(&format!("\n{}\n", human::strong("messages of clients")));
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
        for (client, message) in said_by(e.code) {
            text.push_str(&format!("* {client} says: `{message}`\n"));
        }
    }
    text
}
