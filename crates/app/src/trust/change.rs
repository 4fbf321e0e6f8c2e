//! Putting a root into stores, and taking it out.

use super::follow::{Older, remove_older};
use super::perform::apply;
use super::root::Which;
use super::row::{self, Change, Row, demand_named};
use super::stores::Choice;
use super::{exceptions, image};
use crate::env::Env;
use crate::failure::Result;
use crate::report::{Answer, Outcome};
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::finding::Code;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{Blocker, Goal, Root};

/// What to put where, or to take out.
#[derive(Clone, Debug)]
pub struct Request {
    /// The goal.
    pub goal: Goal,
    /// The root.
    pub root: Which,
    /// The stores.
    pub stores: Choice,
    /// The file system of an image instead of this machine's.
    pub sysroot: Option<PathBuf>,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
    /// The password of a store.
    pub secret: Secret,
}

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// A root that was put into stores or taken out.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The root in every place.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// Older roots of the same name that stay.
    #[serde(skip)]
    pub older: Vec<Older>,
    /// Profiles whose own certificate manager keeps a copy that was imported by hand.
    #[serde(skip)]
    pub copies: Vec<String>,
    /// Browsers that run, and what they still remember.
    #[serde(skip)]
    pub running: Vec<exceptions::Running>,
}

impl Done {
    /// The outcome.
    pub fn outcome(&self) -> Outcome {
        row::outcome(&self.rows)
    }

    /// True if something was added.
    pub fn has_added(&self) -> bool {
        self.rows.iter().any(|r| r.change == Change::Added)
    }
}

/// What would be done.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    stores: [(); 0],
    /// Each step, in order.
    pub steps: Vec<PlannedStep>,
    dry_run: bool,
    /// Every place: why nothing can be done there, or how many steps there are.
    #[serde(skip)]
    pub places: Vec<PlannedPlace>,
}

/// A step in a store.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct PlannedStep {
    /// The store's id.
    #[schemars(with = "crate::report::OneOf<StoreId>")]
    pub store: StoreId,
    /// What would be done.
    pub step: String,
}

/// A place of a store.
#[derive(Clone, Debug)]
pub struct PlannedPlace {
    /// The store's id.
    pub store: StoreId,
    /// The place.
    pub place: PathBuf,
    /// Why nothing can be done there.
    pub hindrance: Option<Blocker>,
    /// What would be done.
    pub steps: Vec<PlannedStep>,
}

/// Brings a root into stores, or out of them.
///
/// Errors: no such root; one from elsewhere that endangers anyone who trusts it. What fails in a store is in its row.
pub fn change(env: &Env, request: &Request) -> Result<Report> {
    let env = &image::of(env, request.sysroot.as_deref())?;
    let reaches_known = request.goal == Goal::Remove;
    let chosen = match reaches_known {
        true => {
            Choice { bundles: request.stores.bundles_here(env, request.sysroot.is_some())?, ..request.stores.clone() }
        }
        false => request.stores.clone(),
    };
    let stores = chosen.stores();
    let bundles = &chosen.bundles;
    let root = |all: &[_]| request.root.root(env, all, Some(request.goal), &request.stores.bundles, &request.accepted);
    if env.dry_run {
        return Ok(Answer::Planned(plan(env, request, &chosen, &root(&env.authorities()?)?)));
    }
    if let Some(password) = request.secret.given(env)? {
        env.machine.know_password(password);
    }
    // The network may be slow: nobody else is to wait for it at the lock.
    let fetched = request.root.is_fetched().then(|| root(&[])).transpose()?;
    let (_lock, ledger) = env.open_for_change()?;
    let all = ledger.authorities()?;
    let root = match fetched {
        Some(fetched) => fetched,
        None => root(&all)?,
    };
    let mut rows = apply(env, &*ledger, &stores, &root, bundles, request.goal)?;
    let mut older = Vec::new();
    if request.goal == Goal::Add {
        demand_named(&mut rows, &request.stores.named_ids());
        let (removed, kept) = remove_older(env, &*ledger, &stores, &root, &all, bundles)?;
        rows.extend(removed);
        older = kept;
    }
    let mut absent = request.stores.without_place(env, &root, &rows);
    if request.goal == Goal::Add {
        demand_named(&mut absent, &request.stores.named_ids());
    }
    rows.extend(absent);
    let copies = if request.goal == Goal::Remove { exceptions::copies(env, &rows) } else { Vec::new() };
    let running = exceptions::running(env, &rows);
    Ok(Answer::Done(Done { rows, older, copies, running }))
}

fn plan(env: &Env, request: &Request, chosen: &Choice, root: &Root) -> Plan {
    let mut places = Vec::new();
    for store in chosen.stores() {
        for place in store.survey(&env.machine, &chosen.bundles) {
            let planned = match place.hindrance {
                Some(_) => Vec::new(),
                None => store.change(request.goal, root, &place, &env.machine),
            };
            let steps = planned.iter().map(|p| PlannedStep { store: store.id(), step: p.step.words() }).collect();
            places.push(PlannedPlace { store: store.id(), place: place.place, hindrance: place.hindrance, steps });
        }
    }
    let steps = places.iter().flat_map(|p| p.steps.clone()).collect();
    Plan { stores: [], steps, dry_run: true, places }
}
