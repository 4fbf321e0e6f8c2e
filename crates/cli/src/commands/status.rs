//! `tamga status`: the whole at a glance. It looks and changes nothing.

use super::status_page;
use super::trust::{json_of, ours_in, own_leaves, root_of, row_of};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::cert::Certificate;
use tamga_core::finding::{self, Code};
use tamga_core::form::private_key::{self, Stored};
use tamga_core::renew;
use tamga_core::report::{Authority, Issued, KeyPlace, Standing};
use tamga_core::status::{self, OnDisk};
use tamga_core::text::Shown;
use tamga_core::trust::{self, State};
use tamga_host::fs;

/// More certificates than these are counted, the ones that end first are shown.
const ROWS: usize = 15;
/// So many cells has a bar of days.
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
}

/// Something that a person should see to.
struct Open {
    /// The finding, where it is one.
    code: Option<Code>,
    what: String,
    remedy: String,
}

/// A clock that is behind the newest event by more than this was set back, or never set: seconds.
const BEHIND: i64 = 24 * 3600;

/// What is wrong with the key beside a certificate.
fn of_key(label: &str, folder: &Path, certificate: &Certificate) -> Option<(Code, String, String)> {
    let file = folder.join(KEY_FILE);
    let shown = file.shown();
    let Ok(meta) = std::fs::metadata(&file) else {
        return Some((
            Code::KeyMissing,
            format!("the key of {label} is missing: it should be {shown}"),
            format!("put it back from a backup; or a new pair: tamga renew {label}"),
        ));
    };
    let mode = tamga_host::platform::mode(&meta);
    if mode & 0o077 != 0 {
        let what = format!("other accounts can read the key of {label}: {shown} has mode {mode:04o}");
        return Some((Code::KeyReadableByOthers, what, format!("chmod 600 {shown}")));
    }
    let (owner, ours) = (tamga_host::platform::owner(&meta).0, tamga_host::platform::effective().0);
    if owner != ours && owner != 0 && ours != 0 {
        let what = format!("the key of {label} has another owner: {shown} belongs to the account {owner}");
        return Some((Code::KeyReadableByOthers, what, format!("sudo chown $(id -u) {shown}")));
    }
    let bytes = fs::read_regular(&file).ok()?;
    let other = match private_key::read(&bytes, &shown) {
        Ok(Stored::Open(key)) => *key.public() != certificate.key,
        // Nobody can tell without its passphrase.
        Ok(Stored::Locked(_)) => false,
        Err(_) => true,
    };
    other.then(|| {
        let what = format!("{shown} is not the key of the certificate {label}");
        (Code::KeyMismatch, what, format!("put the right key back; or a new pair: tamga renew {label}"))
    })
}

pub(crate) fn run(session: &Session, args: &StatusArgs) -> Result<Done> {
    let data = session.machine.data();
    let ledger = session.open_to_look()?;
    let (authorities, issued, waiting, unfinished, newest) = match &ledger {
        Some(l) => (l.authorities()?, l.issued(None)?, l.all_waiting()?, l.unfinished()?, l.newest_event()?),
        None => Default::default(),
    };
    let mut keyless = BTreeSet::new();
    for kind in ["signed", "found"] {
        let events = ledger.as_ref().map(|l| l.of_kind(kind)).transpose()?.unwrap_or_default();
        keyless.extend(events.into_iter().map(|e| e.detail));
    }
    if let Some(file) = &args.metrics {
        let text = status::metrics(&authorities, &issued, session.now);
        tamga_host::fs::write_whole(file, text.as_bytes(), 0o644)?;
    }
    if authorities.is_empty() && issued.is_empty() && waiting.is_empty() {
        let text = format!("nothing in {} yet: tamga setup does the whole job in one step\n", data.shown());
        let json = json!({"data_folder": data, "authorities": [], "certificates": [], "stores": [], "open": []});
        return Ok(Done::good(text, json));
    }
    let mut open: Vec<Open> = Vec::new();
    if let Some(at) = newest.filter(|at| at.unix() - session.now.unix() > BEHIND) {
        open.push(Open {
            code: Some(Code::ClockBehind),
            what: format!("the clock says {}, but the ledger has an event of {at}", session.now),
            remedy: finding::entry(Code::ClockBehind).remedy.to_owned(),
        });
    }
    let mut text = format!("{} {}\n\n", human::dim("data folder"), data.shown());
    text.push_str(&of_authorities(session, &authorities, &mut open));
    let mut live: Vec<&Issued> = issued.iter().filter(|i| i.is_live() && i.revoked.is_none()).collect();
    live.sort_by_key(|i| i.certificate.not_after);
    text.push_str(&of_certificates(session, &live, &keyless, &mut open));
    for w in &waiting {
        open.push(Open {
            code: None,
            what: format!("{} waits for its certificate ({})", w.label, w.folder.shown()),
            remedy: format!("have its request.pem signed, then: tamga receive {} --certificate FILE", w.label),
        });
    }
    let (matrix, rows) = of_stores(session, &authorities, &mut open)?;
    text.push_str(&matrix);
    if !unfinished.is_empty() {
        open.push(Open {
            code: None,
            what: format!("interrupted work is in the journal: {} entries", unfinished.len()),
            remedy: "tamga repair finishes it or takes it back".into(),
        });
    }
    if open.is_empty() {
        text.push_str(&format!("{} nothing is due, every file is what was issued\n", human::good("good")));
    } else {
        for o in &open {
            text.push_str(&format!("{} {}\n  {}  {}\n", human::care("open"), o.what, human::dim("do:"), o.remedy));
        }
    }
    if session.common.verbose {
        let mut rows = vec![["store", "how our tests prove it"].map(human::dim).to_vec()];
        rows.extend(trust::PROVED.iter().map(|(id, how)| vec![human::strong(id), (*how).to_owned()]));
        text.push_str(&format!("\n{}", human::table(&rows)));
    }
    if let Some(file) = &args.metrics {
        text.push_str(&format!("{} {}\n", human::dim("metrics:"), file.shown()));
    }
    let certificates: Vec<Value> = live
        .iter()
        .map(|i| {
            let mut v = json::listed(i, session.now);
            v["due"] = json!(renew::is_due(&i.certificate, None, session.now));
            v
        })
        .collect();
    let members = json!({
        "data_folder": data, "authorities": authorities.iter().map(json::authority).collect::<Vec<_>>(),
        "certificates": certificates, "stores": rows,
        "proved": trust::PROVED.iter().map(|(id, how)| json!({"store": id, "how": how})).collect::<Vec<_>>(),
        "open": open.iter().map(|o| json!({"what": o.what, "remedy": o.remedy})).collect::<Vec<_>>(),
        "problems": open.iter().map(problem).collect::<Vec<_>>(),
    });
    if let Some(file) = &args.report {
        tamga_host::fs::write_whole(file, status_page::page(&members, session.now).as_bytes(), 0o644)?;
        text.push_str(&format!("{} {}\n", human::dim("report:"), file.shown()));
    }
    Ok(Done { text, json: members, code: if open.is_empty() { exit::GOOD } else { exit::BAD } })
}

fn problem(o: &Open) -> Value {
    let severity = o.code.map_or("warning", |c| finding::entry(c).severity.word());
    json!({
        "code": o.code.map(Code::word), "severity": severity, "summary": o.what, "remedy": o.remedy,
    })
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

fn of_authorities(session: &Session, all: &[Authority], open: &mut Vec<Open>) -> String {
    if all.is_empty() {
        return String::new();
    }
    let mut rows = vec![["authority", "left", "ends", "key"].map(human::dim).to_vec()];
    for a in all {
        let c = &a.certificate;
        let key = match &a.key {
            KeyPlace::Here if Session::is_locked(a) => "here, encrypted".to_owned(),
            KeyPlace::Here if !a.folder.join(KEY_FILE).exists() => {
                open.push(Open {
                    code: Some(Code::KeyMissing),
                    what: format!("the key of {} is missing: it should be in {}", a.label, a.folder.shown()),
                    remedy: "put it back from a backup (tamga restore), or make a successor: tamga authority rollover"
                        .into(),
                });
                human::bad("missing")
            }
            KeyPlace::Here if a.is_root() => human::care("here, not encrypted"),
            KeyPlace::Here => "here".into(),
            KeyPlace::Offline(place) => format!("offline in {}", place.shown()),
            KeyPlace::Elsewhere => "on another machine".into(),
            KeyPlace::Discarded => "thrown away".into(),
        };
        if a.key == KeyPlace::Here
            && let Some((code, what, _)) = of_key(&a.label, &a.folder, c).filter(|(code, ..)| *code != Code::KeyMissing)
        {
            let file = a.folder.join(KEY_FILE).shown();
            let remedy = match code {
                Code::KeyMismatch => "put the right key back from a backup: tamga authority restore FILE".to_owned(),
                _ => format!("chmod 600 {file}; if anyone may have read it: tamga authority rollover {} NEW", a.label),
            };
            open.push(Open { code: Some(code), what, remedy });
        }
        let ends = if a.retired { human::dim("retired") } else { c.not_after.date() };
        if !a.retired && session.now > c.not_after {
            open.push(Open {
                code: None,
                what: format!("the authority {} has ended", a.label),
                remedy: format!(
                    "a successor: tamga authority create NEW, then tamga authority rollover {} NEW",
                    a.label
                ),
            });
        }
        rows.push(vec![human::strong(&a.label), bar(status::part_left(c, session.now)), ends, key]);
    }
    format!("{}\n", human::table(&rows))
}

fn of_certificates(session: &Session, live: &[&Issued], keyless: &BTreeSet<String>, open: &mut Vec<Open>) -> String {
    let mut rows = vec![["certificate", "left", "ends", "days", "files"].map(human::dim).to_vec()];
    for (n, i) in live.iter().enumerate() {
        let c = &i.certificate;
        let file = i.folder.join(CERTIFICATE_FILE);
        let found = status::on_disk(c, fs::read_regular(&file).ok().as_deref().map(Vec::as_slice));
        let files = match &found {
            OnDisk::AsIssued => "as issued".to_owned(),
            OnDisk::Missing => human::bad("missing"),
            OnDisk::Other(_) | OnDisk::Unreadable => human::bad("changed"),
        };
        let shown = file.shown();
        match &found {
            OnDisk::AsIssued => {}
            OnDisk::Missing => open.push(Open {
                code: None,
                what: format!("the files of {} are not where they were put: {shown}", i.label),
                remedy: match i.folder.is_dir() {
                    true => format!("tamga renew {} puts a new pair there", i.label),
                    false => {
                        let names = c.name_words().join(" ");
                        format!("put the folder back; or issue anew: tamga issue {names} --label NEW --into DIR")
                    }
                },
            }),
            OnDisk::Other(subject) => open.push(Open {
                code: None,
                what: format!("{shown} is not what was issued for {}: it holds {subject}", i.label),
                remedy: format!("tamga renew {} puts a new pair there", i.label),
            }),
            OnDisk::Unreadable => open.push(Open {
                code: None,
                what: format!("{shown} holds no certificate any more"),
                remedy: format!("tamga renew {} puts a new pair there", i.label),
            }),
        }
        // What was signed here for somebody else, or found by its certificate alone, never had its key here.
        let all_gone = matches!(found, OnDisk::Missing);
        let key = of_key(&i.label, &i.folder, c)
            .filter(|(code, ..)| *code != Code::KeyMissing || !(all_gone || keyless.contains(&c.sha256())));
        let mut files = files;
        if let Some((code, what, remedy)) = key {
            files = human::bad(code.word());
            open.push(Open { code: Some(code), what, remedy });
        }
        let standing = i.standing(session.now);
        if standing == Standing::Expired || renew::is_due(c, None, session.now) {
            let how = if standing == Standing::Expired { "has ended" } else { "is due" };
            open.push(Open {
                code: None,
                what: format!("{} {how}", i.label),
                remedy: format!("tamga renew {}", i.label),
            });
        }
        if n < ROWS {
            rows.push(vec![
                human::strong(&i.label),
                bar(status::part_left(c, session.now)),
                c.not_after.date(),
                c.not_after.days_after(session.now).to_string(),
                files,
            ]);
        }
    }
    if live.is_empty() {
        return "no certificate is in use: tamga issue NAME\n\n".into();
    }
    let more = match live.len().saturating_sub(ROWS) {
        0 => String::new(),
        n => format!("and {n} that end later: tamga list --sort ends\n"),
    };
    format!("{}{more}\n", human::table(&rows))
}

/// Each root with the stores that have it and those that lack it; and roots of ours that this data folder does not know.
fn of_stores(session: &Session, all: &[Authority], open: &mut Vec<Open>) -> Result<(String, Vec<Value>)> {
    let surveys: Vec<_> =
        trust::ALL.iter().flat_map(|s| s.survey(&session.machine, &[]).into_iter().map(move |p| (*s, p))).collect();
    let leaves = own_leaves(session)?;
    let mut rows = vec![["root", "seen in", "absent from"].map(human::dim).to_vec()];
    let mut members = Vec::new();
    for a in all.iter().filter(|a| a.is_root() && !a.retired) {
        let root = root_of(a)?;
        let (mut seen, mut absent): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
        for (store, place) in &surveys {
            let row = row_of(session, *store, &root, place);
            match row.state {
                State::Present => seen.push(store.id()),
                State::Unavailable => {}
                _ => absent.push(store.id()),
            }
            members.push(json_of(&row));
        }
        seen.dedup();
        absent.dedup();
        let or = |names: Vec<&str>| if names.is_empty() { human::dim("none") } else { names.join(", ") };
        rows.push(vec![human::strong(&a.label), or(seen), or(absent)]);
    }
    for (store, place) in &surveys {
        for (root, _) in ours_in(place, all, &leaves).into_iter().filter(|(_, known)| !known) {
            open.push(Open {
                code: None,
                what: format!("{} is in {}, but this data folder does not know it", root.mark(), store.id()),
                remedy: "tamga leave takes it out".into(),
            });
        }
    }
    let text = if rows.len() > 1 { format!("{}\n", human::table(&rows)) } else { String::new() };
    Ok((text, members))
}
