//! `tamga schedule [KIND]`: a timer for renewals, printed or put in place.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::schedule::{self, Part, Report, Request, Schedule};
use tamga_core::deploy::schedule::Kind;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga schedule systemd --install")]
pub(crate) struct ScheduleArgs {
    /// The scheduler; without it, those that there are
    #[arg(value_name = "KIND", value_parser = values::word::<Kind>())]
    kind: Option<Kind>,
    /// Put it in place and switch it on (tamga leave takes it away)
    #[arg(long, requires = "kind")]
    install: bool,
    /// The passphrase of the authority's encrypted key, from a file's first line
    #[arg(long, value_name = "PATH", requires = "kind", help_heading = "Secrets")]
    passphrase_file: Option<PathBuf>,
}

pub(crate) fn run(session: &Session, args: &ScheduleArgs) -> Result<Done> {
    let request = Request { kind: args.kind, install: args.install, passphrase_file: args.passphrase_file.clone() };
    let report = schedule::schedule(session, &request)?;
    let text = match &report {
        Report::Kinds { schedules } => render_kinds(schedules),
        Report::Parts { parts, .. } => render_parts(parts),
        Report::Planned { steps, .. } => steps.iter().map(|l| format!("would {l}\n")).collect(),
        Report::Installed { kind, changed: false } => {
            format!("{} {}: it is there already\n", human::dim("nothing to do"), kind.word())
        }
        Report::Installed { kind, .. } => format!(
            "{} {}: once a day what is due is renewed; tamga leave takes it away\n",
            human::good("installed"),
            kind.word()
        ),
    };
    Ok(Done::report(text, &report))
}

fn render_kinds(all: &[Schedule]) -> String {
    let mut rows = vec![["kind", "what", "here"].map(human::dim).to_vec()];
    for s in all {
        let here = match (s.possible, s.installed) {
            (_, true) => human::good("installed"),
            (true, false) => "possible".into(),
            (false, false) => human::dim("not on this system"),
        };
        rows.push(vec![human::strong(s.kind), s.title.into(), here]);
    }
    format!("{}tamga schedule KIND prints it, --install puts it there\n", human::table(&rows))
}

fn render_parts(parts: &[Part]) -> String {
    let mut text = String::new();
    for p in parts {
        if let Some(place) = &p.place {
            text.push_str(&format!("# {}\n", place.shown()));
        }
        text.push_str(&p.text);
        if parts.len() > 1 {
            text.push('\n');
        }
    }
    text
}
