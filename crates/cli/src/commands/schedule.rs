//! `tamga schedule [KIND]`: a timer for renewals, printed or put in place.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use tamga_core::error::Error;
use tamga_core::ports::Look;
use tamga_core::schedule::{self, Job, Kind};
use tamga_core::text::Shown;
use tamga_host::{act, platform};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga schedule systemd --install")]
pub(crate) struct ScheduleArgs {
    /// systemd, cron, launchd or windows-task; alone: which there are
    #[arg(value_name = "KIND")]
    kind: Option<String>,
    /// Put it in place and switch it on (tamga leave takes it away)
    #[arg(long, requires = "kind")]
    install: bool,
}

/// What would be run, and whose scheduler runs it.
fn job(session: &Session) -> Result<Job> {
    let program = std::env::current_exe().map_err(|source| tamga_host::error::Error::File {
        doing: "finding",
        path: "tamga".into(),
        source,
    })?;
    let machine = platform::is_root() && session.machine.person.is_none() && session.machine.root().is_none();
    Ok(Job { program, data: session.machine.data().to_owned(), machine })
}

pub(crate) fn run(session: &Session, args: &ScheduleArgs) -> Result<Done> {
    let job = job(session)?;
    let Some(typed) = &args.kind else { return Ok(list(session, &job)) };
    let kind = Kind::ALL.iter().find(|(word, ..)| word == typed).map(|(_, kind, _)| *kind).ok_or_else(|| {
        Error::Word { what: "scheduler", typed: typed.clone(), accepted: Kind::ALL.map(|(word, ..)| word).join(", ") }
    })?;
    if !args.install {
        return Ok(printed(session, kind, &job));
    }
    if session.machine.program(kind.program()).is_none() {
        let program = kind.program().to_owned();
        return Err(tamga_host::error::Error::Program { program, said: "it is not installed".into() }.into());
    }
    let steps = schedule::install(kind, &job, &session.machine)?;
    let lines: Vec<String> = steps.iter().map(|p| p.step.words()).collect();
    if session.common.dry_run {
        let text = lines.iter().map(|l| format!("would {l}\n")).collect();
        return Ok(Done::good(text, json!({"kind": kind.word(), "steps": lines, "dry_run": true})));
    }
    act::perform(&session.machine, &steps)?;
    let text = match steps.is_empty() {
        true => format!("{} {}: it is there already\n", human::dim("nothing to do"), kind.word()),
        false => format!(
            "{} {}: once a day what is due is renewed; tamga leave takes it away\n",
            human::good("installed"),
            kind.word()
        ),
    };
    Ok(Done::good(text, json!({"kind": kind.word(), "changed": !steps.is_empty()})))
}

fn list(session: &Session, job: &Job) -> Done {
    let mut rows = vec![["kind", "what", "here"].map(human::dim).to_vec()];
    let mut members: Vec<Value> = Vec::new();
    for (word, kind, what) in Kind::ALL {
        let installed = session.machine.program(kind.program()).is_some();
        let there = installed && schedule::is_there(kind, job, &session.machine);
        let here = match (installed, there) {
            (_, true) => human::good("installed"),
            (true, false) => "possible".into(),
            (false, false) => human::dim("not on this system"),
        };
        rows.push(vec![human::strong(word), what.into(), here]);
        members.push(json!({"kind": word, "possible": installed, "installed": there}));
    }
    let text = format!("{}tamga schedule KIND prints it, --install puts it there\n", human::table(&rows));
    Done::good(text, json!({"schedules": members}))
}

fn printed(session: &Session, kind: Kind, job: &Job) -> Done {
    let parts = schedule::parts(kind, job, &session.machine);
    let mut text = String::new();
    for p in &parts {
        if let Some(place) = &p.place {
            text.push_str(&format!("# {}\n", place.shown()));
        }
        text.push_str(&p.text);
        if parts.len() > 1 {
            text.push('\n');
        }
    }
    let members: Vec<Value> = parts.iter().map(|p| json!({"place": p.place, "text": p.text})).collect();
    Done::good(text, json!({"kind": kind.word(), "parts": members}))
}

/// Every timer of ours away: for each what was done, or what stays.
pub(crate) fn clear(session: &Session) -> Vec<std::result::Result<String, String>> {
    let Ok(job) = job(session) else { return Vec::new() };
    let mut out = Vec::new();
    for (word, kind, _) in Kind::ALL {
        let steps = schedule::remove(kind, &job, &session.machine);
        if steps.is_empty() {
            continue;
        }
        use tamga_core::error::Told;
        out.push(match act::perform(&session.machine, &steps) {
            Ok(()) => Ok(format!("removed the timer of {word}\n")),
            Err(e) => Err(format!("the timer of {word}: {}; {}", e.why(), e.remedy())),
        });
    }
    out
}
