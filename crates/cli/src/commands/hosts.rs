//! `tamga hosts add|remove|status`: names in the hosts file, in a marked block.

use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::path::{Path, PathBuf};
use tamga_core::hosts::{self, Plan, Row, State, Wanted};
use tamga_core::ports::Look;
use tamga_core::text::Shown;
use tamga_host::error::Error;
use tamga_host::fs;
use tamga_host::ledger::{Record, Work};

/// Where Linux looks.
#[cfg(not(windows))]
pub(super) const PLACE: &str = "/etc/hosts";
/// The file that this system's resolver reads first.
#[cfg(windows)]
pub(super) const PLACE: &str = "C:\\Windows\\System32\\drivers\\etc\\hosts";
/// Where Windows looks, as its Linux guests see it.
const OF_WINDOWS: &str = "/mnt/c/Windows/System32/drivers/etc/hosts";

#[derive(clap::Subcommand)]
pub(crate) enum HostsCommand {
    /// Names that lead to this machine, or to an address
    Add(NamesArgs),
    /// Take names out again; all of ours without a name
    Remove(AnyNamesArgs),
    /// How names stand
    Status(AnyNamesArgs),
}

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga hosts add charts.saltmarsh.test\n          tamga hosts add gauge-7.saltmarsh.test=192.168.7.7"
)]
pub(crate) struct NamesArgs {
    /// Hosts; without an address both of loopback's
    #[arg(required = true, value_name = "NAME[=ADDRESS]")]
    names: Vec<String>,
    /// Another hosts file
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

#[derive(clap::Args)]
pub(crate) struct AnyNamesArgs {
    /// Hosts [default: those that were added]
    #[arg(value_name = "NAME[=ADDRESS]")]
    names: Vec<String>,
    /// Another hosts file
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

/// Names into the hosts file; true if it was changed, or would be.
pub(crate) fn add(session: &Session, args: NamesArgs) -> Result<(Done, bool)> {
    let done = run(session, HostsCommand::Add(args))?;
    let rows = done.json["hosts"].as_array();
    let changed = done.json["dry_run"] == true || rows.is_some_and(|rows| rows.iter().any(|r| r["change"] != "none"));
    Ok((done, changed))
}

pub(crate) fn run(session: &Session, command: HostsCommand) -> Result<Done> {
    let (names, file, verb) = match command {
        HostsCommand::Add(a) => (a.names, a.file, "add"),
        HostsCommand::Remove(a) => (a.names, a.file, "remove"),
        HostsCommand::Status(a) => (a.names, a.file, "status"),
    };
    let wanted: Vec<Wanted> = names.iter().map(|n| Wanted::parse(n)).collect::<tamga_core::error::Result<_>>()?;
    let named = file.is_some();
    let file = file.unwrap_or_else(|| PLACE.into());
    // Read under the lock: two runs at once do not lose each other's names.
    let _held = match verb != "status" && !session.common.dry_run {
        true => Some(session.open_for_change()?),
        false => None,
    };
    let text = text_of(session, &file)?;
    let (rows, changed) = match verb {
        "status" => (hosts::status(&text, &wanted)?, false),
        _ => {
            let plan = if verb == "add" { hosts::add(&text, &wanted)? } else { hosts::remove(&text, &wanted)? };
            let changed = plan.text != text;
            if changed && session.common.dry_run {
                return Ok(would(&plan, &file));
            }
            if changed {
                let again = format!("tamga hosts {verb} {}", names.join(" "));
                put(session, &file, &plan, again.trim_end())?;
            }
            (plan.rows, changed)
        }
    };
    Ok(done(session, verb, &rows, &file, changed, named))
}

fn text_of(session: &Session, file: &Path) -> Result<Vec<u8>> {
    let real = session.machine.real(file);
    match fs::read_regular(&real).map(|b| b.to_vec()) {
        Ok(text) => Ok(text),
        Err(e) => Err(Error::file("reading", &real)(e).into()),
    }
}

/// Writes the file with the rights that belong there; the copy of what it was goes when nothing of ours is left in it.
fn put(session: &Session, file: &Path, plan: &Plan, again: &str) -> Result<()> {
    let real = session.machine.real(file);
    let copy = copy_of(&real);
    // Under the journal: what a killed run leaves beside the file, the next one removes. Where `leave` finds no ledger any more, none
    // is made for it.
    let journaled = match again.starts_with("tamga hosts remove") && session.open_to_look()?.is_none() {
        true => None,
        false => {
            let (lock, ledger) = session.open_for_change()?;
            let said = format!("changing {} was interrupted; run {again} again", file.shown());
            let files = vec![std::path::absolute(&real).unwrap_or_else(|_| real.clone()), copy.clone()];
            let files = files.into_iter().map(|f| std::path::absolute(&f).unwrap_or(f).into()).collect();
            let work = Work::Replace { said, files };
            let id = ledger.begin(&work, &Record::Nothing, session.now)?;
            Some((lock, ledger, work, id))
        }
    };
    let done = session.machine.with_rights_for(file, || {
        fs::rewrite(&real, &plan.text, &copy)?;
        if plan.has_block { Ok(()) } else { fs::remove(&copy) }
    });
    if let Some((_lock, ledger, work, id)) = journaled {
        let clean = || fs::unstage(&real).and_then(|()| fs::unstage(&copy));
        if done.is_ok() || session.machine.with_rights_for(file, clean).is_ok() {
            ledger.finish(id, &work)?;
        }
    }
    done.map_err(|e| match e {
        Error::File { source, .. } if source.kind() == std::io::ErrorKind::PermissionDenied => {
            Error::NeedsRights { path: file.to_owned(), command: format!("sudo {again}") }.into()
        }
        other => other.into(),
    })
}

/// Where what was there before the last change is kept.
fn copy_of(file: &Path) -> PathBuf {
    let mut name = file.file_name().unwrap_or_default().to_owned();
    name.push(".before-tamga");
    file.with_file_name(name)
}

/// Takes our whole block out, for `tamga leave`. None: there was none.
pub(super) fn clear(session: &Session) -> Option<std::result::Result<(), String>> {
    let file = Path::new(PLACE);
    let text = text_of(session, file).ok()?;
    let plan = hosts::remove(&text, &[]).ok()?;
    if plan.text == text {
        return None;
    }
    let failed = || "its names in /etc/hosts: sudo tamga hosts remove".to_owned();
    Some(put(session, file, &plan, "tamga hosts remove").map_err(|_| failed()))
}

fn would(plan: &Plan, file: &Path) -> Done {
    let changed = plan.rows.iter().filter(|r| r.change != "none");
    let text: String = changed
        .map(|r| {
            let verb = if r.change == "added" { "add" } else { "remove" };
            format!(
                "would {verb} {} {} in {}\n",
                r.address.map(|a| a.to_string()).unwrap_or_default(),
                r.name,
                file.shown()
            )
        })
        .collect();
    Done::good(text, json!({"hosts": [], "dry_run": true}))
}

fn done(session: &Session, verb: &str, rows: &[Row], file: &Path, changed: bool, named: bool) -> Done {
    let mut text = String::new();
    if rows.is_empty() {
        text.push_str(&format!("no name of Tamga's is in {}\n", file.shown()));
    } else {
        let mut table = vec![["name", "address", "state", "change", "why"].map(human::dim).to_vec()];
        table.extend(rows.iter().map(|r| {
            let state = match r.state {
                State::Present => human::good(r.state.word()),
                State::Elsewhere => human::bad(r.state.word()),
                _ => human::dim(r.state.word()),
            };
            let change = if r.change == "none" { human::dim(r.change) } else { human::good(r.change) };
            let address = r.address.map_or_else(String::new, |a| a.to_string());
            vec![human::strong(&r.name), address, state, change, r.why.clone().unwrap_or_default()]
        }));
        text.push_str(&human::table(&table));
    }
    if changed {
        let copy = copy_of(file);
        if session.machine.real(&copy).exists() {
            text.push_str(&format!("what {} was before is kept in {}\n", file.shown(), copy.shown()));
        }
    }
    // Programs of Windows look into a file of their own.
    let guest = session.machine.env("WSL_DISTRO_NAME").is_some();
    if guest && !named && verb == "add" && session.machine.exists(Path::new(OF_WINDOWS)) {
        let names: Vec<&str> = rows.iter().map(|r| r.name.as_str()).collect();
        text.push_str(&format!(
            "{} browsers on Windows look elsewhere; in a terminal with an administrator's rights: tamga hosts add {} --file {OF_WINDOWS}\n",
            human::dim("note"),
            names.join(" ")
        ));
    }
    let elsewhere = rows.iter().any(|r| r.state == State::Elsewhere);
    let absent = rows.iter().any(|r| r.state == State::Absent);
    let code = match verb {
        "status" if elsewhere || absent => exit::BAD,
        "add" if elsewhere => exit::PARTLY,
        _ => exit::GOOD,
    };
    let list: Vec<Value> = rows
        .iter()
        .map(|r| {
            json!({"name": r.name, "address": r.address.map(|a| a.to_string()), "state": r.state.word(), "change": r.change,
                "why": r.why})
        })
        .collect();
    Done { text, json: json!({"hosts": list, "file": file}), code }
}
