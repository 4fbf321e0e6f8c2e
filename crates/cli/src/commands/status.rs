//! `tamga status`: expiry dates, trust state and open problems. It changes nothing.

use super::status_page;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::list::KeyState;
use tamga_app::env::Env;
use tamga_app::status::{self, InUse, Report, seen_in};
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::ca::status::{OnDisk, part_left, part_of};
use tamga_core::stores::StoreId;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_core::vocabulary::word::joined;
use tamga_host::fs;

/// More certificates than these are counted, the ones that end first are shown.
const ROWS: usize = 15;
/// The cells of a bar.
const CELLS: usize = 12;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga status --metrics /var/lib/node-metrics/tamga.prom")]
pub(crate) struct StatusArgs {
    /// Write every end as a number that monitoring systems scrape (OpenMetrics)
    #[arg(long, value_name = "FILE")]
    metrics: Option<PathBuf>,
    /// Write a page of it all, self-contained, to read in a browser or to print
    #[arg(long, value_name = "FILE.html")]
    report: Option<PathBuf>,
    /// Evaluate as of then (RFC 3339)
    #[arg(long, value_name = "TIME")]
    at: Option<Timestamp>,
}

pub(crate) fn run(session: &Session, args: &StatusArgs) -> Result<Done> {
    let mut env: Env = session.env.clone();
    env.now = args.at.unwrap_or(env.now);
    let report = status::status(&env)?;
    if let Some(file) = &args.metrics {
        fs::write_whole(file, Report::metrics(&env)?.as_bytes(), 0o644)?;
    }
    if report.is_empty() {
        let data = report.data_folder.shown();
        return Ok(Done::report(
            format!("nothing in {data} yet: tamga setup does the whole job in one step\n"),
            &report,
        ));
    }
    let mut text = render(&report);
    if session.common.verbose {
        let mut rows = vec![["store", "how our tests prove it"].map(human::dim).to_vec()];
        rows.extend(report.proved.iter().map(|(id, how)| vec![human::strong(id), (*how).to_owned()]));
        text.push_str(&format!("\n{}", human::table(&rows)));
    }
    if let Some(file) = &args.metrics {
        text.push_str(&format!("{} {}\n", human::dim("metrics:"), file.shown()));
    }
    if let Some(file) = &args.report {
        fs::write_whole(file, status_page::page(&report).as_bytes(), 0o644)?;
        text.push_str(&format!("{} {}\n", human::dim("report:"), file.shown()));
    }
    Ok(Done::report(text, &report).with_code(exit::of(report.outcome())))
}

fn render(report: &Report) -> String {
    let mut text = format!("{} {}\n\n", human::dim("data directory"), report.data_folder.shown());
    text.push_str(&render_authorities(report));
    text.push_str(&render_certificates(report));
    text.push_str(&render_enrolled(report));
    text.push_str(&render_stores(report));
    if !report.hosts.is_empty() {
        text.push_str(&format!("{}\n", super::ledger::machines(&report.hosts).trim_start_matches('\n')));
    }
    if report.open.is_empty() {
        text.push_str(&format!("{} nothing is due, and every file is as issued\n", human::good("good")));
    }
    for o in &report.open {
        text.push_str(&format!("{} {}\n  {}  {}\n", human::care("fix"), o.what, human::dim("do:"), o.remedy));
    }
    text
}

/// What is left of a life, as a bar.
fn bar(part: u8) -> String {
    let full = (usize::from(part) * CELLS).div_ceil(100);
    let drawn = format!("{}{}", "█".repeat(full), "·".repeat(CELLS - full));
    match part {
        0 => human::bad(&drawn),
        p if p <= 33 => human::care(&drawn),
        _ => human::good(&drawn),
    }
}

fn render_authorities(report: &Report) -> String {
    if report.authorities.is_empty() {
        return String::new();
    }
    let mut rows = vec![["authority", "life", "expires", "key", "CRL due"].map(human::dim).to_vec()];
    for (a, key, next) in &report.authorities {
        let c = &a.certificate;
        let ends = if a.retired { human::dim("retired") } else { c.not_after.date() };
        let next = next.map_or_else(|| human::dim("none"), |n| n.date());
        rows.push(vec![human::strong(&a.label), bar(part_left(c, report.now)), ends, render_key(a, key), next]);
    }
    format!("{}\n", human::table(&rows))
}

fn render_key(a: &Authority, key: &KeyState) -> String {
    match key {
        KeyState::Encrypted => "here, encrypted".to_owned(),
        KeyState::Missing => human::bad("missing"),
        KeyState::Open if a.is_root() => human::care("here, not encrypted"),
        KeyState::Open | KeyState::Away(KeyPlace::Here) => "here".into(),
        KeyState::Away(KeyPlace::Offline(place)) => format!("offline in {}", place.shown()),
        KeyState::Away(KeyPlace::Elsewhere) => "on another machine".into(),
        KeyState::Away(KeyPlace::Discarded) => "deleted".into(),
        KeyState::Away(KeyPlace::Token(uri)) => {
            format!("{}, {}", human::on_token(uri), human::leaving(uri.extractable))
        }
    }
}

fn render_certificates(report: &Report) -> String {
    if report.certificates.is_empty() {
        return "no certificate is in use: tamga issue NAME\n\n".into();
    }
    let mut rows = vec![["certificate", "life", "expires", "days", "files"].map(human::dim).to_vec()];
    for used in report.certificates.iter().take(ROWS) {
        let i = &used.issued;
        let c = &i.certificate;
        if i.revoked.is_some() {
            rows.push(vec![human::strong(&i.label), bar(0), human::bad("revoked")]);
            continue;
        }
        rows.push(vec![
            human::strong(&i.label),
            bar(part_left(c, report.now)),
            c.not_after.date(),
            c.not_after.days_after(report.now).to_string(),
            render_files(used),
        ]);
    }
    let more = match report.certificates.len().saturating_sub(ROWS) {
        0 => String::new(),
        n => format!("and {n} that expire later: tamga list --sort ends\n"),
    };
    format!("{}{more}\n", human::table(&rows))
}

/// What clients got by themselves.
fn render_enrolled(report: &Report) -> String {
    if report.enrolled.is_empty() {
        return String::new();
    }
    let mut rows = vec![["enrolled", "life", "expires", "days", "account"].map(human::dim).to_vec()];
    for e in &report.enrolled {
        let c = &e.listed.summary;
        rows.push(vec![
            human::strong(&c.label),
            bar(part_of(c.not_before, c.not_after, report.now)),
            c.not_after.date(),
            c.not_after.days_after(report.now).to_string(),
            e.account.to_string(),
        ]);
    }
    let more = match report.enrolled_count.saturating_sub(report.enrolled.len() as u64) {
        0 => String::new(),
        n => format!("and {n} that expire later\n"),
    };
    format!("{}{more}\n", human::table(&rows))
}

fn render_files(used: &InUse) -> String {
    match (used.key, &used.on_disk) {
        (Some(code), _) => human::bad(code.word()),
        (None, OnDisk::AsIssued) => "as issued".to_owned(),
        (None, OnDisk::Missing) => human::bad("missing"),
        (None, OnDisk::Other(_) | OnDisk::Unreadable) => human::bad("changed"),
    }
}

/// Each root with the stores that have it and those that lack it.
fn render_stores(report: &Report) -> String {
    let mut rows = vec![["root", "installed in", "not in"].map(human::dim).to_vec()];
    for (a, ..) in report.authorities.iter().filter(|(a, ..)| a.is_root() && !a.retired) {
        let (seen, absent) = seen_in(&report.stores, &a.certificate.sha256());
        let or = |ids: Vec<StoreId>| if ids.is_empty() { human::dim("none") } else { joined(&ids) };
        rows.push(vec![human::strong(&a.label), or(seen), or(absent)]);
    }
    if rows.len() > 1 { format!("{}\n", human::table(&rows)) } else { String::new() }
}
