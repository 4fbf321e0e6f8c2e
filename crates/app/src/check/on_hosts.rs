//! The same as the clients of machines beyond this one would judge.

use super::around::Around;
use super::{Checked, Request, all};
use crate::env::Env;
use crate::failure::Result;
use crate::machines::site::{HostFailure, Site, side_by_side};
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::deploy::lab::host::Host;

/// What came of a check on several machines.
pub struct OnHosts<T> {
    /// What was returned for each target on each machine that was reached.
    pub done: Vec<T>,
    /// The others.
    pub unreached: Vec<Unreached>,
}

/// A machine that was not reached, or no more.
#[derive(Serialize, JsonSchema)]
pub struct Unreached {
    /// Its name.
    pub host: String,
    /// Why.
    pub failure: HostFailure,
}

/// Checks all targets as the clients of these machines would, by what they trust there. The connections are made from here.
///
/// Errors: as for [`check`](super::check); a client that is not judged there. A machine that is not reached does not stop the others.
pub fn on_hosts<T: Send>(
    env: &Env,
    request: &Request,
    hosts: &[Host],
    seen: impl Fn(Checked) -> T + Sync,
) -> Result<OnHosts<T>> {
    let each = Request { jobs: (request.jobs / hosts.len().max(1)).max(1), ..request.clone() };
    let on = |host: &Host| -> Result<std::result::Result<Vec<T>, HostFailure>> {
        let site = match Site::open(env, host) {
            Ok(site) => site,
            Err(failure) => return Ok(Err(failure)),
        };
        let around = Around::at(env, &request.terms, host, &site)?;
        around.views();
        // What could not be looked at is not "absent".
        if let Some(fault) = site.broken() {
            return Ok(Err(fault.into()));
        }
        all(env, &around, &each, &seen).map(Ok)
    };
    let mut out = OnHosts { done: Vec::new(), unreached: Vec::new() };
    for (host, came) in hosts.iter().zip(side_by_side(env, "looking at hosts", hosts, on)) {
        match came? {
            Ok(done) => out.done.extend(done),
            Err(failure) => out.unreached.push(Unreached { host: host.name.to_string(), failure }),
        }
    }
    Ok(out)
}
