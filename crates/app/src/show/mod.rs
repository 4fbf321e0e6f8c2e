//! One thing in full: a file, a label, a serial number, a fingerprint; and how two differ.

mod compare;
mod find;
mod view;

pub use compare::{Differences, compare};
pub use find::{Object, find};

use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome;
use crate::secret::Secret;
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::pki::signature::SignatureFault;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::Event;

/// What to show.
#[derive(Clone, Debug)]
pub struct Request {
    /// A path that is there, else a label, a serial number, a fingerprint: in this order.
    pub what: String,
    /// What was done with it, too.
    pub history: bool,
    /// Opens encrypted keys and stores.
    pub secret: Secret,
}

/// Everything that was found under the name.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// They.
    pub objects: Vec<One>,
}

impl Report {
    /// Refused where a request is not signed with the key in it: it is shown, and nobody should sign it.
    pub fn outcome(&self) -> Outcome {
        let is_wrong = |o: &One| match &o.object {
            Object::Request(r) => r.proves_possession() == Err(SignatureFault::Wrong),
            _ => false,
        };
        if self.objects.iter().any(is_wrong) { Outcome::Refused } else { Outcome::Good }
    }
}

/// One thing.
pub struct One {
    /// It.
    pub object: Object,
    /// What was done with it, if that was asked for.
    pub history: Option<Vec<Event>>,
    now: Timestamp,
}

/// Shows.
///
/// Errors: nothing of that name; a file in which nothing is read.
pub fn show(env: &Env, request: &Request) -> Result<Report> {
    let found = find(env, &request.what, &request.secret)?;
    let history = match request.history {
        true => {
            let label = found.iter().find_map(Object::label).unwrap_or(&request.what).to_owned();
            Some(env.open_to_look()?.map(|l| l.history(&label)).transpose()?.unwrap_or_default())
        }
        false => None,
    };
    let mut objects: Vec<One> = found.into_iter().map(|object| One { object, history: None, now: env.now }).collect();
    if let Some(first) = objects.first_mut() {
        first.history = history;
    }
    Ok(Report { objects })
}
