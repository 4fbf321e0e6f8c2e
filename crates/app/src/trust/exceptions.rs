//! What browsers and settings remember besides the stores: exceptions, variables, switches; and browsers that run.

use super::row::{Change, Row};
use crate::env::Env;
use crate::failure::Result;
use crate::report::{self, Answer, Outcome};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::plan::ports::Environment;
use tamga_core::plan::ports::Files;
use tamga_core::stores::trust::chromium_profile::{self, Said};
use tamga_core::stores::trust::exceptions::{self, Exception};
use tamga_core::stores::trust::{Root, firefox, settings};
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::Shown;
use tamga_host::act;

/// Where a person finds what the browser's own manager holds.
pub const MANAGER: &str = "in the browser: chrome://certificate-manager, Local certificates, Custom: delete it there";

/// Profiles that keep copies of these roots, imported by a person into the browser's own manager: they stay.
pub(super) fn copies(env: &Env, rows: &[Row]) -> Vec<String> {
    let kept = chromium_profile::all(&env.machine).into_iter();
    let kept = kept.filter(|k| k.said == Said::Trusted && rows.iter().any(|r| r.sha256 == k.certificate.sha256()));
    kept.map(|k| k.profile).collect()
}

/// True for a host that a certificate of this data directory names, or loopback.
fn is_ours(host: &str, names: &[String]) -> bool {
    let under =
        |n: &String| n.strip_prefix("*.").is_some_and(|rest| host.split_once('.').is_some_and(|(_, r)| r == rest));
    names.iter().any(|n| n == host || under(n)) || Name::from_str(host).is_ok_and(|n| n.is_loopback())
}

fn of_ours(env: &Env) -> Result<Vec<Exception>> {
    let all = exceptions::all(&env.machine);
    if all.is_empty() {
        return Ok(all);
    }
    let names: Vec<String> = match env.open_to_look()? {
        Some(l) => l.names()?,
        None => Vec::new(),
    };
    Ok(all.into_iter().filter(|e| is_ours(&e.host, &names)).collect())
}

/// What is remembered of these roots and of our names.
pub(super) fn findings(env: &Env, roots: &[Root]) -> Result<Vec<Finding>> {
    let certificates: Vec<_> = roots.iter().map(|r| r.certificate.clone()).collect();
    let mut found = settings::findings(&env.machine, &certificates);
    for e in of_ours(env)? {
        let place = format!("{}:{}", e.host, e.port);
        let remedy = match e.client {
            "firefox" => format!("tamga trust remove --exception {place}"),
            _ => format!("in the browser, at https://{place}: Not secure beside the address, then Turn on warnings"),
        };
        found.push(
            Finding::new(Code::ExceptionRemembered, place.clone())
                .with_summary(format!("{} remembers an exception for {place} ({})", e.client, e.file.shown()))
                .with_remedy(remedy),
        );
    }
    for kept in chromium_profile::all(&env.machine) {
        let Some(root) = roots.iter().find(|r| r.certificate == kept.certificate) else { continue };
        if kept.said == Said::Distrusted {
            let place = format!("the certificate manager of Chromium's profile {}", kept.profile);
            found.push(
                Finding::new(Code::TrustOverridden, root.mark())
                    .with_summary(format!("{place} distrusts the root of {}, whatever the stores say", root.label))
                    .with_remedy(MANAGER),
            );
        }
    }
    Ok(found)
}

/// What became of an exception.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Forgotten {
    /// The browser.
    pub client: &'static str,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The file in which it stands.
    #[serde(serialize_with = "report::path")]
    #[schemars(with = "String")]
    pub file: PathBuf,
    /// True if the browser will not know it any more; others can only forget it themselves.
    pub forgotten: bool,
}

/// Exceptions that were forgotten.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// They.
    pub exceptions: Vec<Forgotten>,
}

impl Done {
    /// Partial if one stays.
    pub fn outcome(&self) -> Outcome {
        if self.exceptions.iter().all(|e| e.forgotten) { Outcome::Good } else { Outcome::Partial }
    }
}

/// Steps that would be taken.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    exceptions: [(); 0],
    dry_run: bool,
    /// They.
    #[serde(skip)]
    pub steps: Vec<String>,
}

/// Makes a browser forget the exceptions for a host, `HOST` or `HOST:PORT`.
///
/// Errors: there is none; the browser's file cannot be written.
pub fn forget(env: &Env, typed: &str) -> Result<Answer<Done, Plan>> {
    let (host, port) = match typed.rsplit_once(':') {
        Some((host, port)) if port.parse::<u16>().is_ok() && !host.ends_with(':') => (host, port.parse::<u16>().ok()),
        _ => (typed, None),
    };
    let host = host.trim_matches(['[', ']']).to_lowercase();
    let fits = |e: &Exception| e.host == host && port.is_none_or(|p| p == e.port);
    let meant: Vec<Exception> = exceptions::all(&env.machine).into_iter().filter(fits).collect();
    if meant.is_empty() {
        return Err(Error::Word {
            what: "remembered exception",
            typed: typed.to_owned(),
            accepted: "one of those that tamga trust status lists".into(),
        }
        .into());
    }
    let steps = exceptions::forget(&env.machine, &meant);
    if env.dry_run {
        let steps = steps.iter().map(|p| p.step.words()).collect();
        return Ok(Answer::Planned(Plan { exceptions: [], dry_run: true, steps }));
    }
    act::perform(&env.machine, &steps)?;
    let forgotten = meant.into_iter().map(|e| Forgotten {
        forgotten: e.client == "firefox",
        client: e.client,
        host: e.host,
        port: e.port,
        file: e.file,
    });
    Ok(Answer::Done(Done { exceptions: forgotten.collect() }))
}

/// Makes Firefox forget every exception for names of ours; returns how many there were.
pub(crate) fn forget_all(env: &Env) -> Result<Option<usize>> {
    let meant: Vec<Exception> = of_ours(env)?.into_iter().filter(|e| e.client == "firefox").collect();
    if meant.is_empty() {
        return Ok(None);
    }
    act::perform(&env.machine, &exceptions::forget(&env.machine, &meant))?;
    Ok(Some(meant.len()))
}

/// A browser that runs while its store was changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Running {
    /// It keeps refusing hosts that it refused before.
    Refusing(&'static str),
    /// It keeps accepting hosts that it accepted before.
    Accepting(&'static str),
}

/// Browsers that run and still remember how it was before a change.
pub(super) fn running(env: &Env, rows: &[Row]) -> Vec<Running> {
    let machine = &env.machine;
    let alive = |link: Option<PathBuf>, sign: char| {
        let text = link.map(|l| l.to_string_lossy().into_owned()).unwrap_or_default();
        let pid = text.rsplit_once(sign).map(|(_, pid)| pid.trim_start_matches('+').to_owned());
        pid.is_some_and(|p| p.parse::<u32>().is_ok() && machine.exists(&Path::new("/proc").join(p)))
    };
    let changed = |store: &str, change| rows.iter().any(|r| r.store.word().starts_with(store) && r.change == change);
    let chromium = alive(machine.link(&machine.home().join(".config/chromium/SingletonLock")), '-');
    let firefox = firefox::profiles(machine).iter().any(|p| alive(machine.link(&p.join("lock")), ':'));
    let mut out = Vec::new();
    for (store, name, runs) in [("chromium", "Chromium", chromium), ("firefox", "Firefox", firefox)] {
        match (runs, changed(store, Change::Added), changed(store, Change::Removed)) {
            (true, true, _) if store == "chromium" => out.push(Running::Refusing(name)),
            (true, _, true) => out.push(Running::Accepting(name)),
            _ => {}
        }
    }
    out
}
