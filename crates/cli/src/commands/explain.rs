//! `tamga explain [CODE or log text]`.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::client::Client;
use tamga_core::error::Error;
use tamga_core::finding::{self, Code, Entry};
use tamga_core::recipe;

#[derive(clap::Args)]
pub(crate) struct ExplainArgs {
    /// A finding's code, or a line of a server's or client's log; without it, all codes
    #[arg(value_name = "CODE or TEXT")]
    code: Vec<String>,
    /// Every finding at length, in Markdown: docs/findings.md is made from it
    #[arg(long, conflicts_with = "code")]
    markdown: bool,
}

pub(crate) fn run(_: &Session, args: &ExplainArgs) -> Result<Done> {
    if args.markdown {
        let text = markdown();
        return Ok(Done::good(text.clone(), json!({"markdown": text})));
    }
    if args.code.is_empty() {
        let rows: Vec<Vec<String>> =
            finding::entries().map(|e| vec![human::strong(e.code.word()), e.summary.to_owned()]).collect();
        let all: Vec<Value> = finding::entries().map(entry_json).collect();
        return Ok(Done::good(human::table(&rows), json!({"findings": all})));
    }
    let typed = args.code.join(" ");
    match Code::parse(typed.trim()) {
        Some(code) => Ok(at_length(finding::entry(code))),
        None => of_a_log(&typed),
    }
}

/// What a line of a log means: the server's own words first, else what a client says.
fn of_a_log(line: &str) -> Result<Done> {
    let mut servers = recipe::known(line);
    // The same words of several servers are told once, with all their names.
    let strongest = servers.first().map(|k| k.fault.text.len());
    servers.retain(|k| Some(k.fault.text.len()) >= strongest.map(|n| n / 2));
    let mut codes: Vec<Code> = servers.iter().filter_map(|k| k.fault.code).collect();
    let lower = tamga_core::client::java::said(line).to_lowercase();
    for e in finding::entries() {
        let says = |s: &str| {
            let s = s.to_lowercase();
            // What stands before and after the name; short pieces are in too many lines to tell anything.
            let mut pieces = s.split("name").map(str::trim).filter(|p| p.len() > 8).peekable();
            pieces.peek().is_some() && pieces.all(|p| lower.contains(p))
        };
        if sayings(e.code).iter().any(|(_, s)| says(s)) && !codes.contains(&e.code) {
            codes.push(e.code);
        }
    }
    codes.dedup();
    if servers.is_empty() && codes.is_empty() && line.trim().contains(' ') {
        let text = format!(
            "{} this is no text of a server or client that Tamga knows\n  {}  tamga check HOST:PORT looks for itself; tamga check FOLDER looks at the files\n",
            human::care("unknown"),
            human::dim("do:")
        );
        return Ok(Done { text, json: json!({"servers": [], "findings": []}), code: exit::BAD });
    }
    if servers.is_empty() && codes.is_empty() {
        return Err(Error::Word {
            what: "finding or text of a log",
            typed: line.to_owned(),
            accepted: "a code that tamga explain lists, or a line that a server or client wrote, between quotes".into(),
        }
        .into());
    }
    let mut text = String::new();
    for k in &servers {
        let code = k
            .fault
            .code
            .map(|c| format!("  {}", human::dim(&format!("(tamga explain {})", c.word()))))
            .unwrap_or_default();
        text.push_str(&format!(
            "{} {}{code}\n      {}\n  {}  {}\n",
            human::strong(k.recipe.id),
            human::care(k.fault.text),
            k.fault.why,
            human::dim("do:"),
            k.fault.remedy
        ));
    }
    for code in codes.iter().filter(|c| !servers.iter().any(|k| k.fault.code == Some(**c))) {
        let e = finding::entry(*code);
        text.push_str(&format!(
            "{} {}\n      {}\n  {}  {}\n",
            human::strong(code.word()),
            e.summary,
            e.cause,
            human::dim("do:"),
            e.remedy
        ));
    }
    let json = json!({
        "servers": servers.iter().map(|k| {
            let mut known = super::recipe::fault_json(k.fault);
            known["server"] = json!(k.recipe.id);
            known
        }).collect::<Vec<_>>(),
        "findings": codes.iter().map(|c| entry_json(finding::entry(*c))).collect::<Vec<_>>(),
    });
    Ok(Done::good(text, json))
}

fn at_length(e: &Entry) -> Done {
    let mut text = format!("{}: {}\n", human::strong(e.code.word()), e.summary);
    for (head, body) in [
        ("what it means", e.meaning),
        ("how it comes about", e.cause),
        ("mend it with Tamga", e.remedy),
        ("mend it by hand", e.by_hand),
    ] {
        text.push_str(&format!("\n{}\n  {body}\n", human::strong(head)));
    }
    let sayings = sayings(e.code);
    if !sayings.is_empty() {
        text.push_str(&format!("\n{}\n", human::strong("what clients say")));
        let rows: Vec<Vec<String>> = sayings.iter().map(|(c, s)| vec![(*c).to_owned(), s.clone()]).collect();
        text.push_str(&human::table(&rows));
    }
    Done::good(text, json!({"findings": [entry_json(e)]}))
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
        for (client, saying) in sayings(e.code) {
            text.push_str(&format!("* {client} says: `{saying}`\n"));
        }
    }
    text
}

/// The words in which each client refuses because of this.
fn sayings(code: Code) -> Vec<(&'static str, String)> {
    Client::ALL
        .into_iter()
        .flat_map(|c| tamga_core::client::words(c, code).into_iter().map(move |saying| (c.word(), saying)))
        .collect()
}

fn entry_json(e: &Entry) -> Value {
    json!({
        "code": e.code.word(), "severity": e.severity.word(), "summary": e.summary, "meaning": e.meaning,
        "cause": e.cause, "remedy": e.remedy, "by_hand": e.by_hand,
        "clients": sayings(e.code).into_iter().map(|(c, s)| json!({"client": c, "code": s})).collect::<Vec<_>>(),
    })
}
