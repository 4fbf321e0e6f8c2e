//! `tamga show WHAT [OTHER]`.

mod difference;
mod object;

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use object::Object;
use serde_json::Value;
use tamga_host::ledger::Event;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga show charts.saltmarsh.test --history\n          tamga show tls/certificate.pem tls/request.pem"
)]
pub(crate) struct ShowArgs {
    /// A file or folder, a label, a serial, or a SHA-256 fingerprint (colons, spaces and case do not matter)
    what: String,
    /// Another one: how the two differ
    other: Option<String>,
    /// What was done with it, by label
    #[arg(long, conflicts_with = "other")]
    history: bool,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: &ShowArgs) -> Result<Done> {
    let first = object::find(session, &args.what, &args.secrets)?;
    if let Some(other) = &args.other {
        let second = object::find(session, other, &args.secrets)?;
        return difference::run((&args.what, &first), (other, &second));
    }
    let mut text = first.iter().map(|o| o.words(session)).collect::<Vec<_>>().join("\n");
    let mut objects: Vec<Value> = first.iter().map(|o| o.json(session)).collect();
    if args.history {
        let events = history(session, &first, &args.what)?;
        text.push_str(&format!("\n{}\n", human::strong("history")));
        let rows: Vec<Vec<String>> =
            events.iter().map(|e| vec![e.at.clone(), human::strong(&e.kind), e.detail.clone()]).collect();
        text.push_str(&if rows.is_empty() { "  nothing is recorded\n".to_owned() } else { human::table(&rows) });
        let rows: Vec<Value> = events.iter().map(|e| json!({"at": e.at, "kind": e.kind, "detail": e.detail})).collect();
        if let Some(first) = objects.first_mut() {
            first["history"] = Value::Array(rows);
        }
    }
    Ok(Done::good(text, json!({"objects": objects})))
}

fn history(session: &Session, found: &[Object], typed: &str) -> Result<Vec<Event>> {
    let label = found.iter().find_map(Object::label).unwrap_or(typed).to_owned();
    Ok(match session.open_to_look()? {
        Some(ledger) => ledger.history(&label)?,
        None => Vec::new(),
    })
}
