//! `tamga explain [CODE]`.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use serde_json::{Value, json};
use tamga_core::client::Client;
use tamga_core::error::Error;
use tamga_core::finding::{self, Code, Entry};

#[derive(clap::Args)]
pub(crate) struct ExplainArgs {
    /// A finding's code; without it, all of them
    code: Option<String>,
    /// Every finding at length, in Markdown: docs/findings.md is made from it
    #[arg(long, conflicts_with = "code")]
    markdown: bool,
}

pub(crate) fn run(_: &Session, args: &ExplainArgs) -> Result<Done> {
    if args.markdown {
        let text = markdown();
        return Ok(Done::good(text.clone(), json!({"markdown": text})));
    }
    let Some(word) = &args.code else {
        let rows: Vec<Vec<String>> =
            finding::entries().map(|e| vec![human::strong(e.code.word()), e.summary.to_owned()]).collect();
        let all: Vec<Value> = finding::entries().map(entry_json).collect();
        return Ok(Done::good(human::table(&rows), json!({"findings": all})));
    };
    let code = Code::parse(word).ok_or_else(|| Error::Word {
        what: "finding",
        typed: word.clone(),
        accepted: "one of those that tamga explain lists".into(),
    })?;
    let e = finding::entry(code);
    let mut text = format!("{}: {}\n", human::strong(e.code.word()), e.summary);
    for (head, body) in [
        ("what it means", e.meaning),
        ("how it comes about", e.cause),
        ("mend it with Tamga", e.remedy),
        ("mend it by hand", e.by_hand),
    ] {
        text.push_str(&format!("\n{}\n  {body}\n", human::strong(head)));
    }
    let sayings = sayings(code);
    if !sayings.is_empty() {
        text.push_str(&format!("\n{}\n", human::strong("what clients say")));
        let rows: Vec<Vec<String>> = sayings.iter().map(|(c, s)| vec![(*c).to_owned(), s.clone()]).collect();
        text.push_str(&human::table(&rows));
    }
    Ok(Done::good(text, json!({"findings": [entry_json(e)]})))
}

fn markdown() -> String {
    let mut text = String::from("# Findings\n\nMade by `tamga explain --markdown`; do not edit.\n");
    for e in finding::entries() {
        text.push_str(&format!(
            "\n## {}\n\n{}.\n\n* What it means: {}\n* How it comes about: {}\n* Mend it with Tamga: {}\n* Mend it by hand: {}\n",
            e.code.word(), e.summary, e.meaning, e.cause, e.remedy, e.by_hand
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
        .filter_map(|c| {
            let (_, _, saying) = tamga_core::client::policy(c).sayings.iter().find(|s| s.0 == code)?;
            (!saying.is_empty()).then(|| (c.word(), saying.replace("{name}", "NAME")))
        })
        .collect()
}

fn entry_json(e: &Entry) -> Value {
    json!({
        "code": e.code.word(), "severity": e.severity.word(), "summary": e.summary, "meaning": e.meaning,
        "cause": e.cause, "remedy": e.remedy, "by_hand": e.by_hand,
        "clients": sayings(e.code).into_iter().map(|(c, s)| json!({"client": c, "code": s})).collect::<Vec<_>>(),
    })
}
