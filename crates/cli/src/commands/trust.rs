//! `tamga trust add|remove|status [ROOT]`.

use crate::cli::{ScopeArg, StoreArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::words::human;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use tamga_core::authority;
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::form::pem;
use tamga_core::report::Authority;
use tamga_core::step::Planned;
use tamga_core::trust::{self, Goal, Place, Root, Scope, State, Store};
use tamga_host::act;
use tamga_host::ledger::{Ledger, Record, Work};

#[derive(clap::Subcommand)]
pub(crate) enum TrustCommand {
    /// Put a root into stores; twice changes nothing
    #[command(after_help = "Example: tamga trust add saltmarsh --scope both")]
    Add(TrustArgs),
    /// Take a root out of stores, and nothing else
    Remove(TrustArgs),
    /// Which root is seen where
    Status(TrustArgs),
}

#[derive(clap::Args)]
pub(crate) struct TrustArgs {
    /// An authority's label or a root's file; without it the only authority (status: all)
    root: Option<String>,
    #[command(flatten)]
    pub(crate) stores: StoreArgs,
}

/// One root in one place, after all was done.
pub(crate) struct Row {
    pub(crate) store: &'static str,
    pub(crate) scope: Scope,
    pub(crate) place: PathBuf,
    pub(crate) label: String,
    pub(crate) sha256: String,
    pub(crate) state: State,
    pub(crate) change: &'static str,
    pub(crate) why: Option<String>,
    pub(crate) remedy: Option<String>,
    pub(crate) code: u8,
}

pub(crate) fn run(session: &Session, command: TrustCommand) -> Result<Done> {
    match command {
        TrustCommand::Add(args) => change(session, &args, Goal::Add),
        TrustCommand::Remove(args) => change(session, &args, Goal::Remove),
        TrustCommand::Status(args) => status(session, &args),
    }
}

/// The stores meant by the options.
pub(crate) fn chosen(args: &StoreArgs) -> Result<Vec<&'static dyn Store>> {
    if !args.stores.is_empty() {
        return Ok(args.stores.iter().map(|s| trust::by_id(s)).collect::<tamga_core::error::Result<_>>()?);
    }
    Ok(trust::ALL
        .iter()
        .copied()
        .filter(|s| in_scope(args.scope, s.scope()) || (s.id() == "bundle" && !args.bundle.is_empty()))
        .collect())
}

/// True if a store of this scope is meant.
pub(crate) fn in_scope(wanted: ScopeArg, scope: Scope) -> bool {
    match wanted {
        ScopeArg::Both => true,
        ScopeArg::User => scope == Scope::User,
        ScopeArg::Machine => scope == Scope::Machine,
    }
}

fn bundles(args: &StoreArgs) -> Vec<PathBuf> {
    args.bundle.iter().map(|b| std::path::absolute(b).unwrap_or_else(|_| b.clone())).collect()
}

fn roots(session: &Session, typed: Option<&str>, all: &[Authority]) -> Result<Vec<Root>> {
    let of = |a: &Authority| Root { label: a.label.clone(), certificate: a.certificate.clone() };
    if let Some(typed) = typed
        && !all.iter().any(|a| a.label == typed)
        && Path::new(typed).is_file()
    {
        return Ok(vec![root_file(session, typed)?]);
    }
    Ok(vec![of(authority::choose(typed, all)?)])
}

fn root_file(_: &Session, typed: &str) -> Result<Root> {
    let path = Path::new(typed);
    let bytes = std::fs::read(path).map_err(tamga_host::error::Error::file("reading", path))?;
    let malformed = |why: &str| Error::Malformed { what: typed.to_owned(), why: why.to_owned() };
    let der = pem::certificates(&bytes).into_iter().next().ok_or_else(|| malformed("it holds no certificate"))?;
    let certificate = Certificate::read(&der, typed)?;
    if !certificate.is_ca() {
        return Err(malformed("the certificate is no authority: a store for roots takes only those").into());
    }
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    Ok(Root { label: tamga_core::label::Label::from_text(&stem)?.to_string(), certificate })
}

fn change(session: &Session, args: &TrustArgs, goal: Goal) -> Result<Done> {
    let stores = chosen(&args.stores)?;
    if session.common.dry_run {
        let all = session.authorities()?;
        let root = roots(session, args.root.as_deref(), &all)?.remove(0);
        return Ok(dry(session, &stores, &root, &bundles(&args.stores), goal));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let all = ledger.authorities()?;
    let mut rows = Vec::new();
    for root in roots(session, args.root.as_deref(), &all)? {
        rows.extend(apply(session, &ledger, &stores, &root, &bundles(&args.stores), goal)?);
    }
    let mut text = words(&rows);
    if goal == Goal::Add && rows.iter().any(|r| r.change == "added") {
        text.push_str("next: tamga check NAME or LABEL shows whether anyone would still warn\n");
    }
    let code = code_of(&rows);
    Ok(Done { text, json: json!({"stores": rows.iter().map(json_of).collect::<Vec<_>>()}), code })
}

fn dry(session: &Session, stores: &[&'static dyn Store], root: &Root, bundles: &[PathBuf], goal: Goal) -> Done {
    let mut text = String::new();
    let mut steps = Vec::new();
    for store in stores {
        for place in store.survey(&session.machine, bundles) {
            if let Some(h) = &place.hindrance {
                text.push_str(&format!("  {}: {}; do: {}\n", store.id(), h.why, h.remedy));
                continue;
            }
            let planned = store.change(goal, root, &place, &session.machine);
            if planned.is_empty() {
                text.push_str(&format!("  {}: nothing to do in {}\n", store.id(), place.place.display()));
            }
            for p in planned {
                text.push_str(&format!("  {}: would {}\n", store.id(), p.step.words()));
                steps.push(json!({"store": store.id(), "step": p.step.words()}));
            }
        }
    }
    Done::good(text, json!({"stores": [], "steps": steps, "dry_run": true}))
}

/// Brings one root to the goal in every place of the stores; each place by itself, the others go on.
pub(crate) fn apply(
    session: &Session,
    ledger: &Ledger,
    stores: &[&'static dyn Store],
    root: &Root,
    bundles: &[PathBuf],
    goal: Goal,
) -> Result<Vec<Row>> {
    let mut rows = Vec::new();
    for store in stores {
        for place in store.survey(&session.machine, bundles) {
            let mut row = row_of(session, *store, root, &place);
            let planned = store.change(goal, root, &place, &session.machine);
            match &place.hindrance {
                Some(h) => {
                    // What is reached already needs no rights.
                    if !planned.is_empty() && !h.absent {
                        row.change = "failed";
                        row.code = exit::SURROUNDINGS;
                        row.remedy = Some(match goal {
                            Goal::Add => h.remedy.clone(),
                            Goal::Remove => h.remedy.replace("trust add", "trust remove"),
                        });
                        row.why = Some(h.why.clone());
                    } else if planned.is_empty() && !h.absent {
                        row.why = None;
                    }
                }
                None if planned.is_empty() => {
                    if goal == Goal::Remove && place.entries.iter().any(|e| e.certificate == root.certificate) {
                        row.change = "failed";
                        row.code = exit::SURROUNDINGS;
                        row.why = Some("it stands there, but not in a way that Tamga put it".into());
                        row.remedy = Some(format!(
                            "look for the SHA-256 {}… in {} and take it out by hand",
                            &row.sha256[..16],
                            row.place.display()
                        ));
                    }
                }
                None => {
                    act_on(session, ledger, *store, root, &place, goal, &planned, &mut row)?;
                    let after = store.survey(&session.machine, bundles).into_iter().find(|p| p.place == place.place);
                    seen_again(session, root, goal, after.as_ref(), &mut row);
                }
            }
            rows.push(row);
        }
    }
    Ok(rows)
}

#[allow(clippy::too_many_arguments, reason = "one step of `apply`, split off for reading")]
fn act_on(
    session: &Session,
    ledger: &Ledger,
    store: &'static dyn Store,
    root: &Root,
    place: &Place,
    goal: Goal,
    planned: &[Planned],
    row: &mut Row,
) -> Result<()> {
    let word = if goal == Goal::Add { "add" } else { "remove" };
    let work = Work::Trust {
        goal: word.into(),
        label: root.label.clone(),
        sha256: root.certificate.sha256(),
        store: store.id().into(),
        place: place.place.clone(),
    };
    let id =
        ledger.begin(&work, &Record::Trust { goal: word, label: &root.label, place: &place.place }, session.now)?;
    match act::perform(&session.machine, planned) {
        Ok(()) => row.change = if goal == Goal::Add { "added" } else { "removed" },
        Err(e) => {
            use tamga_core::error::Told;
            row.change = "failed";
            row.code = exit::code(e.kind());
            row.why = Some(format!("{}: {}", e.what(), e.why()));
            row.remedy = Some(e.remedy());
        }
    }
    Ok(ledger.finish(id)?)
}

/// What was changed is seen by a fresh look, or it does not count.
fn seen_again(session: &Session, root: &Root, goal: Goal, after: Option<&Place>, row: &mut Row) {
    let Some(after) = after else { return };
    row.state = trust::state(&root.certificate, after, session.now);
    if row.change == "failed" {
        return;
    }
    let reached = match goal {
        Goal::Add => matches!(row.state, State::Present | State::Expired),
        Goal::Remove => !after.entries.iter().any(|e| e.certificate == root.certificate),
    };
    if !reached {
        row.change = "failed";
        row.code = exit::SURROUNDINGS;
        row.why = Some("all steps ended well, but a fresh look does not show the change".into());
        row.remedy = Some("run the same command again; if it stays so, report it".into());
        return;
    }
    let flaw = after.entries.iter().find(|e| e.certificate == root.certificate).and_then(|e| e.flaw.clone());
    if goal == Goal::Add
        && let Some(flaw) = flaw
    {
        row.code = exit::SURROUNDINGS;
        row.why = Some(flaw);
    }
}

fn row_of(session: &Session, store: &dyn Store, root: &Root, place: &Place) -> Row {
    let flaw = place.entries.iter().find(|e| e.certificate == root.certificate).and_then(|e| e.flaw.clone());
    Row {
        store: store.id(),
        scope: store.scope(),
        place: place.place.clone(),
        label: root.label.clone(),
        sha256: root.certificate.sha256(),
        state: trust::state(&root.certificate, place, session.now),
        change: "none",
        why: place.hindrance.as_ref().map(|h| h.why.clone()).or(flaw),
        remedy: place.hindrance.as_ref().map(|h| h.remedy.clone()),
        code: exit::GOOD,
    }
}

/// 0 if nothing failed; 5 if some did; the failure's own code if all did.
pub(crate) fn code_of(rows: &[Row]) -> u8 {
    let failed: Vec<u8> = rows.iter().map(|r| r.code).filter(|c| *c != 0).collect();
    let worst = failed.iter().copied().fold(0, exit::worst);
    if failed.is_empty() || failed.len() == rows.len() || worst == 6 { worst } else { exit::PARTLY }
}

/// The matrix.
pub(crate) fn words(rows: &[Row]) -> String {
    let mut cells = vec![["store", "root", "state", "change", "place"].map(human::dim).to_vec()];
    for r in rows {
        let state = match r.state {
            State::Present => human::good(r.state.word()),
            State::Absent | State::Unavailable => human::dim(r.state.word()),
            _ => human::bad(r.state.word()),
        };
        let change = match r.change {
            "failed" => human::bad(r.change),
            "none" => human::dim("none"),
            other => human::good(other),
        };
        cells.push(vec![
            human::strong(r.store),
            format!("{} {}", r.label, human::dim(&r.sha256[..8])),
            state,
            change,
            r.place.display().to_string(),
        ]);
    }
    let mut text = human::table(&cells);
    for r in rows {
        if let Some(why) = &r.why {
            text.push_str(&format!(
                "{} {}: {why}\n",
                if r.code == 0 { human::dim("note") } else { human::bad("failed") },
                r.store
            ));
            if let Some(remedy) = &r.remedy {
                text.push_str(&format!("  {}  {remedy}\n", human::dim("do:")));
            }
        }
    }
    text
}

pub(crate) fn json_of(r: &Row) -> Value {
    json!({
        "store": r.store, "place": r.place, "root": {"label": r.label, "sha256": r.sha256}, "state": r.state.word(),
        "change": r.change, "why": r.why, "remedy": r.remedy,
        "scope": if r.scope == Scope::User { "user" } else { "machine" },
    })
}

/// Roots that bear our mark or stand in the ledger, wherever they are found in a place.
pub(crate) fn ours_in(place: &Place, authorities: &[Authority]) -> Vec<(Root, bool)> {
    let mut out: Vec<(Root, bool)> = Vec::new();
    for e in &place.entries {
        let known = authorities.iter().find(|a| a.certificate == e.certificate);
        let marked = e.mark.as_deref().and_then(|m| trust::label_of_mark(m, &e.certificate));
        let root = match (known, marked) {
            (Some(a), _) => Root { label: a.label.clone(), certificate: e.certificate.clone() },
            (None, Some(label)) => Root { label: label.to_owned(), certificate: e.certificate.clone() },
            (None, None) => continue,
        };
        if !out.iter().any(|(r, _)| r.certificate == root.certificate) {
            out.push((root, known.is_some()));
        }
    }
    out
}

fn status(session: &Session, args: &TrustArgs) -> Result<Done> {
    let all = session.authorities()?;
    let mut meant: Vec<Root> = match &args.root {
        Some(_) => roots(session, args.root.as_deref(), &all)?,
        None => all.iter().map(|a| Root { label: a.label.clone(), certificate: a.certificate.clone() }).collect(),
    };
    let everything: Vec<&'static dyn Store> =
        if args.stores.stores.is_empty() { trust::ALL.to_vec() } else { chosen(&args.stores)? };
    let wanted = chosen(&args.stores)?;
    let (mut rows, mut orphans) = (Vec::new(), Vec::new());
    let mut surveys = Vec::new();
    for store in everything {
        for place in store.survey(&session.machine, &bundles(&args.stores)) {
            for (root, known) in ours_in(&place, &all) {
                if !known && !meant.iter().any(|m| m.certificate == root.certificate) && args.root.is_none() {
                    orphans.push(root.mark());
                    meant.push(root);
                }
            }
            surveys.push((store, place));
        }
    }
    for (store, place) in &surveys {
        for root in &meant {
            rows.push(row_of(session, *store, root, place));
        }
    }
    let lacking = rows.iter().any(|r| {
        wanted.iter().any(|s| s.id() == r.store)
            && !matches!(r.state, State::Present | State::Unavailable)
            && all.iter().any(|a| a.certificate.sha256() == r.sha256)
    });
    let mut text = if meant.is_empty() {
        "no authority yet, and no root with Tamga's mark in any store\n".to_owned()
    } else {
        words(&rows)
    };
    for mark in &orphans {
        text.push_str(&format!(
            "{} {mark} is in a store, but this data folder does not know it\n  {}  tamga leave takes it out\n",
            human::care("leftover"),
            human::dim("do:")
        ));
    }
    if lacking {
        text.push_str("next: tamga trust add puts the root where it is absent\n");
    }
    let code = if lacking { exit::BAD } else { exit::GOOD };
    Ok(Done { text, json: json!({"stores": rows.iter().map(json_of).collect::<Vec<_>>(), "leftovers": orphans}), code })
}
