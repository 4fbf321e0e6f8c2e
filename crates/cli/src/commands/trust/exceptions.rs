//! What browsers and settings remember beside the stores: exceptions, variables, switches; and browsers that run.

use super::Row;
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use serde_json::Value;
use std::path::Path;
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::name::Name;
use tamga_core::ports::Look;
use tamga_core::text::Shown;
use tamga_core::trust::chromium_profile::{self, Said};
use tamga_core::trust::exceptions::{self, Exception};
use tamga_core::trust::{Root, firefox, settings};
use tamga_host::act;

/// Where a person finds what the browser's own manager holds.
const MANAGER: &str = "in the browser: chrome://certificate-manager, Local certificates, Custom: delete it there";

/// Copies of a root that a person imported into the browser's own manager: they stay, and are said.
pub(super) fn copies(session: &Session, rows: &[Row]) -> String {
    let mut text = String::new();
    for kept in chromium_profile::all(&session.machine).iter().filter(|k| k.said == Said::Trusted) {
        if rows.iter().any(|r| r.sha256 == kept.certificate.sha256()) {
            text.push_str(&format!(
                "{} a copy imported by hand stays in the certificate manager of Chromium's profile {}\n  {}  {MANAGER}\n",
                human::care("note"),
                kept.profile,
                human::dim("do:")
            ));
        }
    }
    text
}

/// True for a host that a certificate of this data folder names, or loopback.
fn is_ours(host: &str, names: &[String]) -> bool {
    let under =
        |n: &String| n.strip_prefix("*.").is_some_and(|rest| host.split_once('.').is_some_and(|(_, r)| r == rest));
    names.iter().any(|n| n == host || under(n)) || Name::parse(host).is_ok_and(|n| n.is_loopback())
}

fn of_ours(session: &Session) -> Result<Vec<Exception>> {
    let all = exceptions::all(&session.machine);
    if all.is_empty() {
        return Ok(all);
    }
    let names: Vec<String> = match session.open_to_look()? {
        Some(l) => l.issued(None)?.iter().flat_map(|i| i.certificate.name_words()).collect(),
        None => Vec::new(),
    };
    Ok(all.into_iter().filter(|e| is_ours(&e.host, &names)).collect())
}

/// What `trust status` says besides the matrix.
pub(super) fn noticed(session: &Session, roots: &[Root]) -> Result<(String, Vec<Value>)> {
    let certificates: Vec<_> = roots.iter().map(|r| r.certificate.clone()).collect();
    let mut found = settings::findings(&session.machine, &certificates);
    for e in of_ours(session)? {
        let place = format!("{}:{}", e.host, e.port);
        let remedy = match e.client {
            "firefox" => format!("tamga trust remove --exception {place}"),
            _ => format!("in the browser, at https://{place}: Not secure beside the address, then Turn on warnings"),
        };
        found.push(
            Finding::new(Code::ExceptionRemembered, place.clone())
                .saying(format!("{} remembers an exception for {place} ({})", e.client, e.file.shown()))
                .mended_by(remedy),
        );
    }
    for kept in chromium_profile::all(&session.machine) {
        let Some(root) = roots.iter().find(|r| r.certificate == kept.certificate) else { continue };
        if kept.said == Said::Distrusted {
            let place = format!("the certificate manager of Chromium's profile {}", kept.profile);
            found.push(
                Finding::new(Code::TrustOverridden, root.mark())
                    .saying(format!("{place} distrusts the root of {}, whatever the stores say", root.label))
                    .mended_by(MANAGER),
            );
        }
    }
    let text = if found.is_empty() { String::new() } else { format!("\n{}", human::findings(&found)) };
    Ok((text, found.iter().map(json::finding).collect()))
}

/// `trust remove --exception HOST[:PORT]`.
pub(super) fn forget(session: &Session, typed: &str) -> Result<Done> {
    let (host, port) = match typed.rsplit_once(':') {
        Some((host, port)) if port.parse::<u16>().is_ok() && !host.ends_with(':') => (host, port.parse::<u16>().ok()),
        _ => (typed, None),
    };
    let host = host.trim_matches(['[', ']']).to_lowercase();
    let fits = |e: &Exception| e.host == host && port.is_none_or(|p| p == e.port);
    let meant: Vec<Exception> = exceptions::all(&session.machine).into_iter().filter(fits).collect();
    if meant.is_empty() {
        return Err(Error::Word {
            what: "remembered exception",
            typed: typed.to_owned(),
            accepted: "one of those that tamga trust status lists".into(),
        }
        .into());
    }
    let steps = exceptions::forget(&session.machine, &meant);
    if session.common.dry_run {
        let lines: Vec<String> = steps.iter().map(|p| p.step.words()).collect();
        return Ok(Done::good(
            format!("would {}\n", lines.join("\nwould ")),
            json!({"exceptions": [], "dry_run": true}),
        ));
    }
    act::perform(&session.machine, &steps)?;
    let (mut text, mut code) = (String::new(), exit::GOOD);
    let mut members = Vec::new();
    for e in &meant {
        let forgotten = e.client == "firefox";
        let place = format!("{}:{}", e.host, e.port);
        if forgotten {
            text.push_str(&format!("{} the exception for {place} in {}\n", human::good("forgotten"), e.file.shown()));
        } else {
            code = exit::PARTLY;
            text.push_str(&format!(
                "{} the exception for {place} in {}\n  {}  in the browser, at https://{place}: Not secure beside the address, then Turn on warnings\n",
                human::bad("kept"),
                e.file.shown(),
                human::dim("do:")
            ));
        }
        members
            .push(json!({"client": e.client, "host": e.host, "port": e.port, "file": e.file, "forgotten": forgotten}));
    }
    if meant.iter().any(|e| e.client == "firefox") {
        text.push_str("a running Firefox still knows it, and writes it again: close it first\n");
    }
    Ok(Done { text, json: json!({"exceptions": members}), code })
}

/// Makes Firefox forget every exception for names of ours; how many there were.
pub(crate) fn forget_all(session: &Session) -> Result<Option<usize>> {
    let meant: Vec<Exception> = of_ours(session)?.into_iter().filter(|e| e.client == "firefox").collect();
    if meant.is_empty() {
        return Ok(None);
    }
    act::perform(&session.machine, &exceptions::forget(&session.machine, &meant))?;
    Ok(Some(meant.len()))
}

/// What a browser that runs still remembers after a change.
pub(super) fn running(session: &Session, rows: &[Row]) -> String {
    let machine = &session.machine;
    let alive = |link: Option<std::path::PathBuf>, sign: char| {
        let text = link.map(|l| l.to_string_lossy().into_owned()).unwrap_or_default();
        let pid = text.rsplit_once(sign).map(|(_, pid)| pid.trim_start_matches('+').to_owned());
        pid.is_some_and(|p| p.parse::<u32>().is_ok() && machine.exists(&Path::new("/proc").join(p)))
    };
    let changed = |store: &str, word: &str| rows.iter().any(|r| r.store.starts_with(store) && r.change == word);
    let mut text = String::new();
    let chromium = alive(machine.link(&machine.home().join(".config/chromium/SingletonLock")), '-');
    let firefox = firefox::profiles(machine).iter().any(|p| alive(machine.link(&p.join("lock")), ':'));
    for (store, name, runs) in [("chromium", "Chromium", chromium), ("firefox", "Firefox", firefox)] {
        if !runs {
            continue;
        }
        let what = match (changed(store, "added"), changed(store, "removed")) {
            (true, _) if store == "chromium" => "hosts that it refused before stay refused until it is restarted",
            (_, true) => "hosts that it accepted before stay accepted until it is restarted",
            _ => continue,
        };
        text.push_str(&format!("{} {name} is running: {what}\n", human::care("note")));
    }
    text
}
