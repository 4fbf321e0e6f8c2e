//! `tamga ledger`: where the ledger is, and moving it to a server that several machines share.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use clap::Subcommand;
use tamga_app::ledger::{self, Host, Status};
use tamga_app::report::Answer;
use tamga_core::vocabulary::label::Label;

#[derive(Subcommand)]
pub(crate) enum LedgerCommand {
    /// Show where the ledger is, what it holds, and which machines share it
    Status,
    /// Move the ledger into a PostgreSQL database, or back into a file
    Move(MoveArgs),
    /// Compare every recorded certificate with its fingerprint
    Check,
}

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga ledger move postgres://ledger.saltmarsh.test/tamga\nA machine without a ledger joins the one that is there. Passwords come from PGPASSFILE or ~/.pgpass, never from the URL."
)]
pub(crate) struct MoveArgs {
    /// postgres://HOST/DATABASE, sqlite: (the data directory) or sqlite:PATH
    #[arg(value_name = "URL", required_unless_present = "grants")]
    url: Option<String>,
    /// This machine's name in a shared ledger [default: its host name]
    #[arg(long, value_name = "NAME")]
    host: Option<Label>,
    /// Print the roles that the database needs, as SQL, and do nothing
    #[arg(long, conflicts_with_all = ["url", "host"])]
    grants: bool,
}

pub(crate) fn run(session: &Session, command: LedgerCommand) -> Result<Done> {
    match command {
        LedgerCommand::Status => {
            let report = ledger::status(session)?;
            Ok(Done::report(state(&report), &report))
        }
        LedgerCommand::Check => {
            let report = ledger::check(session)?;
            let text = match &report.damage {
                None => format!(
                    "{} {}: every certificate is the one that was recorded\n",
                    human::good("whole"),
                    report.address
                ),
                Some(why) => {
                    format!(
                        "{} {}: {why}\n  {} {}\n",
                        human::bad("damaged"),
                        report.address,
                        human::dim("do:"),
                        "tamga repair, for a file; for a server, restore its last good copy"
                    )
                }
            };
            Ok(Done::report(text, &report).with_code(exit::of(report.outcome())))
        }
        LedgerCommand::Move(args) => relocate(session, &args),
    }
}

fn relocate(session: &Session, args: &MoveArgs) -> Result<Done> {
    let Some(url) = &args.url else {
        let report = ledger::grants();
        return Ok(Done::report(report.sql.to_owned(), &report));
    };
    let report = ledger::relocate(session, url, args.host.as_ref())?;
    let text = match &report {
        Answer::Planned(p) => format!("would move the ledger from {} to {}\n", p.from, p.to),
        Answer::Done(m) => {
            let mut text = match m.joined {
                true => format!("{} the ledger {}\n", human::good("joined"), m.to),
                false => format!(
                    "{} the ledger to {}: {}\n",
                    human::good("moved"),
                    m.to,
                    holds(m.authorities as u64, m.certificates as u64)
                ),
            };
            if let Some(host) = &m.host {
                text.push_str(&format!(
                    "note      this machine is {host} in it; no key was copied: each stays where it is\n"
                ));
            }
            if let Some(aside) = &m.aside {
                text.push_str(&format!(
                    "note      the file that was the ledger is {aside}; nothing reads it any more\n"
                ));
            }
            text.push_str(match m.host {
                Some(_) => "next      tamga ledger status; on the other machines the same command joins it\n",
                None => "next      tamga ledger check\n",
            });
            text
        }
    };
    Ok(Done::report(text, &report))
}

fn state(report: &Status) -> String {
    let mut rows = vec![vec![human::dim("ledger"), human::strong(&report.address)]];
    if !report.exists {
        let none = match report.kind {
            "server" => format!("there is none yet: tamga ledger move {} makes it", report.address),
            _ => "there is none yet: the first authority or certificate makes it".into(),
        };
        rows.push(vec![human::dim("state"), none]);
        return human::table(&rows);
    }
    if let Some(host) = &report.host {
        rows.push(vec![human::dim("this machine"), host.clone()]);
    }
    if let (Some(ms), "server") = (report.milliseconds, report.kind) {
        rows.push(vec![human::dim("answers in"), format!("{ms:.1} ms")]);
    }
    rows.push(vec![human::dim("layout"), report.layout.to_string()]);
    rows.push(vec![human::dim("holds"), format!("{} in force", holds(report.authorities, report.certificates))]);
    format!("{}{}", human::table(&rows), machines(&report.hosts))
}

fn holds(authorities: u64, certificates: u64) -> String {
    let many = |n: u64, one: &str, more: &str| format!("{n} {}", if n == 1 { one } else { more });
    format!("{}, {}", many(authorities, "authority", "authorities"), many(certificates, "certificate", "certificates"))
}

/// The machines that share a ledger.
pub(crate) fn machines(hosts: &[Host]) -> String {
    if hosts.is_empty() {
        return String::new();
    }
    let mut rows = vec![["machine", "certificates", "first to end", "last change", ""].map(human::dim).to_vec()];
    let day = |time: &Option<String>| match time {
        Some(t) => t.split('T').next().unwrap_or_default().to_owned(),
        None => human::dim("none"),
    };
    for h in hosts {
        let name = if h.name.is_empty() { human::dim("(no machine)") } else { human::strong(&h.name) };
        let more = match (h.unfinished, h.is_this) {
            (0, true) => human::dim("this machine"),
            (0, false) => String::new(),
            (n, _) => human::care(&format!("interrupted work: {n}")),
        };
        rows.push(vec![name, h.certificates.to_string(), day(&h.ends_first), day(&h.latest), more]);
    }
    format!("\n{}", human::table(&rows))
}
