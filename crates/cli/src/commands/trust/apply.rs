//! One root brought to where it is wanted, or away from there: planned, journaled, done, seen again.

use crate::args::SecretArgs;
use crate::exit::{self, Result};
use crate::session::Session;
use std::path::PathBuf;
use tamga_core::step::{Planned, Step};
use tamga_core::text::Shown;
use tamga_core::trust::{self, Goal, Place, Root, Scope, State, Store};
use tamga_host::act;
use tamga_host::ledger::{Ledger, Record, Work};

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
            rows.push(at(session, ledger, *store, root, &place, bundles, goal)?);
        }
    }
    Ok(rows)
}

/// Brings one root to the goal in one place.
pub(super) fn at(
    session: &Session,
    ledger: &Ledger,
    store: &'static dyn Store,
    root: &Root,
    place: &Place,
    bundles: &[PathBuf],
    goal: Goal,
) -> Result<Row> {
    let stands = place.entries.iter().any(|e| e.certificate == root.certificate);
    let wanted = match goal {
        Goal::Add => !matches!(trust::state(&root.certificate, place, session.now), State::Present | State::Expired),
        Goal::Remove => stands,
    };
    let opened;
    let mut place = place;
    if wanted && place.guarded && session.machine.password().is_none() && crate::ask::somebody() {
        let of = format!("the password of {}", place.place.shown());
        session.machine.know_password(SecretArgs::default().needed(&of)?);
        opened = super::swap::again(session, store, place, bundles);
        place = &opened;
    }
    let unfit;
    if let Some(why) = super::leaf::hindrance(&root.certificate, store.id()).filter(|_| goal == Goal::Add && wanted) {
        unfit = Place { hindrance: Some(why), ..place.clone() };
        place = &unfit;
    }
    let mut row = row_of(session, store, root, place);
    let planned = store.change(goal, root, place, &session.machine);
    match &place.hindrance {
        Some(h) => {
            // What is reached already needs no rights.
            if wanted && !h.absent {
                row.change = "failed";
                row.code = exit::SURROUNDINGS;
                row.remedy = Some(match goal {
                    Goal::Add => h.remedy.clone(),
                    Goal::Remove => h.remedy.replace("trust add", "trust remove"),
                });
                row.why = Some(h.why.clone());
            } else if !wanted && !h.absent {
                row.why = None;
            }
        }
        None if planned.is_empty() && goal == Goal::Add && row.state == State::Distrusted => {
            row.change = "failed";
            row.code = exit::SURROUNDINGS;
            row.why = Some("it stands among those that this store distrusts, and adding does not change that".into());
            row.remedy =
                Some("take it out of Untrusted Certificates in certmgr.msc (the machine's: certlm.msc)".into());
        }
        None if planned.is_empty() => {
            if goal == Goal::Remove && stands {
                row.change = "failed";
                row.code = exit::SURROUNDINGS;
                row.why = Some("it stands there, but not in a way that Tamga put it".into());
                row.remedy = Some(format!(
                    "look for the SHA-256 {}… in {} and take it out by hand",
                    &row.sha256[..16],
                    row.place.shown()
                ));
            }
        }
        None => {
            act_on(session, ledger, store, root, place, goal, &planned, &mut row)?;
            let after = store.survey(&session.machine, bundles).into_iter().find(|p| p.place == place.place);
            seen_again(session, root, goal, after.as_ref(), &mut row);
        }
    }
    Ok(row)
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
        place: place.place.clone().into(),
        files: planned.iter().filter_map(|p| written(session, &p.step)).map(Into::into).collect(),
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
    Ok(ledger.finish(id, &work)?)
}

/// The file that a step writes, where it really lies.
fn written(session: &Session, step: &Step) -> Option<PathBuf> {
    match step {
        Step::Write { path, .. } => Some(session.machine.real(path)),
        _ => None,
    }
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

pub(crate) fn row_of(session: &Session, store: &dyn Store, root: &Root, place: &Place) -> Row {
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
