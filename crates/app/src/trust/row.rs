//! One root in one place of a store, after everything was done.

use crate::report::Outcome;
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::path::PathBuf;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Root, Scope, State, Store, StoreLocation};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

tamga_core::words! {
    /// What became of a root in a place.
    pub enum Change: "change" {
        /// Nothing was to be done, or nothing could be.
        None = "none",
        /// It was added.
        Added = "added",
        /// It was removed.
        Removed = "removed",
        /// It should have been, and was not.
        Failed = "failed",
    }
}

/// One root in one place.
#[derive(Clone, Debug)]
pub struct Row {
    /// The store's id.
    pub store: StoreId,
    /// Whose store it is.
    pub scope: Scope,
    /// The place: a file or directory.
    pub place: PathBuf,
    /// The root's label.
    pub label: Label,
    /// SHA-256 of the root, in lower-case hex.
    pub sha256: Sha256Fingerprint,
    /// How it stands there now.
    pub state: State,
    /// What was done.
    pub change: Change,
    /// Why it is not as it should be.
    pub why: Option<String>,
    /// What to do about that.
    pub remedy: Option<String>,
    /// Good, or how it failed.
    pub outcome: Outcome,
}

impl Row {
    /// A root in a place as it was found.
    pub fn found(now: Timestamp, store: &dyn Store, root: &Root, place: &StoreLocation) -> Row {
        let flaw = place.entries.iter().find(|e| e.certificate == root.certificate).and_then(|e| e.flaw.clone());
        Row {
            store: store.id(),
            scope: store.scope(),
            place: place.place.clone(),
            label: root.label.clone(),
            sha256: root.certificate.sha256(),
            state: trust::state(&root.certificate, place, now),
            change: Change::None,
            why: place.hindrance.as_ref().map(|h| h.why.clone()).or(flaw),
            remedy: place.hindrance.as_ref().map(|h| h.remedy.clone()),
            outcome: Outcome::Good,
        }
    }

    /// Marks it as failed.
    pub(super) fn fail(&mut self, outcome: Outcome, why: impl Into<String>, remedy: impl Into<String>) {
        self.change = Change::Failed;
        self.outcome = outcome;
        self.why = Some(why.into());
        self.remedy = Some(remedy.into());
    }
}

#[derive(Serialize, JsonSchema)]
struct RootView<'a> {
    label: &'a str,
    sha256: &'a str,
}

#[derive(Serialize, JsonSchema)]
struct RowView<'a> {
    #[schemars(with = "crate::report::OneOf<StoreId>")]
    store: StoreId,
    place: String,
    root: RootView<'a>,
    #[schemars(with = "crate::report::OneOf<State>")]
    state: &'static str,
    #[schemars(with = "crate::report::OneOf<Change>")]
    change: &'static str,
    why: Option<&'a str>,
    remedy: Option<&'a str>,
    scope: &'static str,
}

crate::report::schema_as!(Row => RowView<'static>);

impl Serialize for Row {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        RowView {
            store: self.store,
            place: self.place.shown(),
            root: RootView { label: &self.label, sha256: &self.sha256 },
            state: self.state.word(),
            change: self.change.word(),
            why: self.why.as_deref(),
            remedy: self.remedy.as_deref(),
            scope: if self.scope == Scope::User { "user" } else { "machine" },
        }
        .serialize(s)
    }
}

/// Good if nothing failed; partial if some did; if all did, how they failed.
pub fn outcome(rows: &[Row]) -> Outcome {
    let failed: Vec<Outcome> = rows.iter().map(|r| r.outcome).filter(|o| *o != Outcome::Good).collect();
    let worst = failed.iter().copied().fold(Outcome::Good, Outcome::worst);
    // A place that is not there was neither done nor missed.
    let there = rows.iter().filter(|r| r.state != State::Unavailable || r.outcome != Outcome::Good).count();
    if failed.is_empty() || failed.len() == there || worst == Outcome::Stuck { worst } else { Outcome::Partial }
}

/// A store that was named must have the root afterwards: bad where it has not, blocked where a file or a program for it is missing.
/// A store that was in scope by itself, and whose client has no profile yet, is a note.
pub fn demand_named(rows: &mut [Row], named: &[StoreId]) {
    for r in rows.iter_mut().filter(|r| r.outcome == Outcome::Good && named.contains(&r.store)) {
        match r.state {
            State::Present => {}
            State::Unavailable => {
                r.outcome = Outcome::Blocked;
                r.change = Change::Failed;
            }
            // Put in, and no good all the same: its row says so.
            State::Expired if r.change == Change::Added => {}
            _ => {
                r.outcome = Outcome::Bad;
                r.change = Change::Failed;
                r.why.get_or_insert_with(|| "the root is not in this store".into());
            }
        }
    }
}
