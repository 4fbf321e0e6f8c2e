//! `tamga show WHAT [OTHER]`.

mod difference;
mod object;

use crate::args::SecretArgs;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use tamga_app::show::{self, Report, Request};
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga show charts.saltmarsh.test --history\n          tamga show tls/certificate.pem tls/request.pem"
)]
pub(crate) struct ShowArgs {
    /// A file or directory, a label, a serial, or a SHA-256 fingerprint (colons, spaces and case do not matter)
    what: String,
    /// Another one: how the two differ
    other: Option<String>,
    /// What was done with it, by label
    #[arg(long, conflicts_with = "other")]
    history: bool,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: ShowArgs) -> Result<Done> {
    let secret = args.secrets.into();
    if let Some(other) = &args.other {
        let found = show::compare(session, &args.what, other, &secret)?;
        return Ok(Done::report(difference::render(&found, (&args.what, other)), &found));
    }
    let request = Request { what: args.what, history: args.history, secret };
    let report = show::show(session, &request)?;
    let code = exit::of(report.outcome());
    Ok(Done::report(render(&report, session.now), &report).with_code(code))
}

fn render(report: &Report, now: Timestamp) -> String {
    let mut text = report.objects.iter().map(|o| object::render(&o.object, now)).collect::<Vec<_>>().join("\n");
    if let Some(events) = report.objects.first().and_then(|o| o.history.as_ref()) {
        text.push_str(&format!("\n{}\n", human::strong("history")));
        let rows: Vec<Vec<String>> =
            events.iter().map(|e| vec![e.at.clone(), human::strong(&e.kind), e.detail.clone()]).collect();
        text.push_str(&if rows.is_empty() { "  nothing is recorded\n".to_owned() } else { human::table(&rows) });
    }
    text
}
