//! One root brought to where it is wanted, or away from there: planned, journaled, done, seen again.

use super::leaf;
use super::row::{Change, Row};
use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome;
use crate::secret::Secret;
use std::path::PathBuf;
use tamga_core::error::Diagnostic;
use tamga_core::plan::step::{Planned, Step};
use tamga_core::stores::trust::{self, Goal, Root, State, Store, StoreLocation};
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::act;
use tamga_host::ledger::{Ledger, Record, Work};

/// Brings one root to the goal in every place of the stores; each place by itself, the others go on.
///
/// Errors: the ledger cannot be written. What fails in a place is in its row.
pub fn apply(
    env: &Env,
    ledger: &dyn Ledger,
    stores: &[&'static dyn Store],
    root: &Root,
    bundles: &[PathBuf],
    goal: Goal,
) -> Result<Vec<Row>> {
    let task = Task { env, ledger, bundles };
    let mut rows = Vec::new();
    for store in stores {
        for place in store.survey(&env.machine, bundles) {
            rows.push(task.at(*store, root, &place, goal)?);
        }
    }
    Ok(rows)
}

/// What the work in all places shares.
pub(super) struct Task<'a> {
    pub(super) env: &'a Env,
    pub(super) ledger: &'a dyn Ledger,
    pub(super) bundles: &'a [PathBuf],
}

impl Task<'_> {
    /// A place as it is now.
    pub(super) fn look_again(&self, store: &dyn Store, place: &StoreLocation) -> StoreLocation {
        let fresh = store.survey(&self.env.machine, self.bundles).into_iter().find(|p| p.place == place.place);
        fresh.unwrap_or_else(|| place.clone())
    }

    /// Brings one root to the goal in one place.
    pub(super) fn at(&self, store: &'static dyn Store, root: &Root, place: &StoreLocation, goal: Goal) -> Result<Row> {
        let env = self.env;
        let wanted = is_wanted(root, place, goal, env.now);
        let mut place = std::borrow::Cow::Borrowed(place);
        if wanted && place.guarded && env.machine.password().is_none() && env.caller.is_present() {
            let of = format!("the password of {}", place.place.shown());
            env.machine.know_password(Secret::default().needed(env, &of)?);
            place = std::borrow::Cow::Owned(self.look_again(store, &place));
        }
        if let Some(why) = leaf::hindrance(&root.certificate, store.id()).filter(|_| goal == Goal::Add && wanted) {
            place.to_mut().hindrance = Some(why);
        }
        let mut row = Row::found(env.now, store, root, &place);
        let planned = store.change(goal, root, &place, &env.machine);
        if to_do(&mut row, root, &place, &planned, goal, wanted) {
            self.act(store, root, &place, goal, &planned, &mut row)?;
            let after = store.survey(&env.machine, self.bundles).into_iter().find(|p| p.place == place.place);
            see_again(root, goal, after.as_ref(), &mut row, env.now);
        }
        Ok(row)
    }

    fn act(
        &self,
        store: &dyn Store,
        root: &Root,
        place: &StoreLocation,
        goal: Goal,
        planned: &[Planned],
        row: &mut Row,
    ) -> Result<()> {
        let env = self.env;
        // The files that the steps write, where they really lie.
        let written = planned.iter().filter_map(|p| match &p.step {
            Step::Write { path, .. } => Some(env.machine.real(path).into()),
            _ => None,
        });
        let work = Work::Trust {
            goal,
            label: root.label.clone(),
            sha256: root.certificate.sha256(),
            store: store.id(),
            place: place.place.clone().into(),
            files: written.collect(),
        };
        let record = Record::Trust { goal, label: &root.label, place: &place.place };
        let id = self.ledger.begin(&work, &record, env.now)?;
        match act::perform(&env.machine, planned) {
            Ok(()) => row.change = if goal == Goal::Add { Change::Added } else { Change::Removed },
            Err(e) => row.fail(e.kind().into(), format!("{}: {}", e.what(), e.why()), e.remedy()),
        }
        Ok(self.ledger.finish(id, &work)?)
    }
}

/// True if a root is not as the goal says in a place.
pub(super) fn is_wanted(root: &Root, place: &StoreLocation, goal: Goal, now: Timestamp) -> bool {
    match goal {
        Goal::Add => !matches!(trust::state(&root.certificate, place, now), State::Present | State::Expired),
        Goal::Remove => stands(root, place),
    }
}

fn stands(root: &Root, place: &StoreLocation) -> bool {
    place.entries.iter().any(|e| e.certificate == root.certificate)
}

/// True if the steps are to be performed; else the row says why not, where something is not as it should be.
pub(super) fn to_do(
    row: &mut Row,
    root: &Root,
    place: &StoreLocation,
    planned: &[Planned],
    goal: Goal,
    wanted: bool,
) -> bool {
    match &place.hindrance {
        // What is reached already needs no rights.
        Some(h) if wanted && !h.absent => {
            let remedy = match goal {
                Goal::Add => h.remedy.clone(),
                Goal::Remove => h.remedy.replace("trust add", "trust remove"),
            };
            row.fail(Outcome::Blocked, h.why.clone(), remedy);
        }
        Some(h) if !h.absent => row.why = None,
        Some(_) => {}
        None if planned.is_empty() && goal == Goal::Add && row.state == State::Distrusted => row.fail(
            Outcome::Blocked,
            "it stands among those that this store distrusts, and adding does not change that",
            "take it out of Untrusted Certificates in certmgr.msc (the machine's: certlm.msc)",
        ),
        None if planned.is_empty() && goal == Goal::Remove && stands(root, place) => {
            let (sha256, place) = (row.sha256[..16].to_owned(), row.place.shown());
            row.fail(
                Outcome::Blocked,
                "it stands there, but not in a way that Tamga put it",
                format!("look for the SHA-256 {sha256}… in {place} and take it out by hand"),
            );
        }
        None => return !planned.is_empty(),
    }
    false
}

/// What was changed is seen by a fresh look, or it does not count.
pub(super) fn see_again(root: &Root, goal: Goal, after: Option<&StoreLocation>, row: &mut Row, now: Timestamp) {
    let Some(after) = after else { return };
    row.state = trust::state(&root.certificate, after, now);
    if row.change == Change::Failed {
        return;
    }
    let entry = after.entries.iter().find(|e| e.certificate == root.certificate);
    let reached = match goal {
        Goal::Add => matches!(row.state, State::Present | State::Expired),
        Goal::Remove => entry.is_none(),
    };
    if !reached {
        let why = "all steps ended well, but a fresh look does not show the change";
        row.fail(Outcome::Blocked, why, "run the same command again; if it stays so, report it");
        return;
    }
    if let (Goal::Add, Some(flaw)) = (goal, entry.and_then(|e| e.flaw.clone())) {
        row.outcome = Outcome::Blocked;
        row.why = Some(flaw);
    }
}
