//! Roots in the stores of machines beyond this one: put in, taken out, looked for, on many machines side by side.

use super::perform::{is_wanted, see_again, to_do};
use super::root::Which;
use super::row::{self, Change, Row, demand_named};
use super::stores::{Choice, ours_in};
use crate::env::Env;
use crate::failure::Result;
use crate::machines::site::{HostFailure, Site, side_by_side};
use crate::report::Outcome;
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::ca::report::Authority;
use tamga_core::deploy::lab::host::Host;
use tamga_core::error::{Diagnostic, Error};
use tamga_core::finding::Code;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{Goal, Root, Scope, State, Store, StoreLocation};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::ledger::{Event, Ledger};

/// That a root was put on a machine: about the root's label, with the machine's address.
const TRUSTED: &str = "host-trusted";
/// That it was taken out there.
const UNTRUSTED: &str = "host-untrusted";

/// What to do on which machines.
#[derive(Clone, Debug)]
pub struct Request {
    /// What the stores are brought to; None to look only.
    pub goal: Option<Goal>,
    /// The root; None for every root of the ledger, where nothing is changed.
    pub root: Option<Which>,
    /// The stores, of the machine.
    pub stores: Choice,
    /// The machines.
    pub hosts: Vec<Host>,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
}

/// What was found or done on every machine.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Each machine, in the order that was asked for.
    pub hosts: Vec<OnHost>,
    /// True if nothing was changed because of --dry-run.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub dry_run: bool,
    /// True if stores were changed, or were to be.
    #[serde(skip)]
    pub changes: bool,
}

/// One machine.
#[derive(Serialize, JsonSchema)]
pub struct OnHost {
    /// Its name.
    pub host: String,
    /// The root in each of its stores.
    pub stores: Vec<Row>,
    /// What would be done there.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<String>,
    /// Why nothing is known of it.
    pub failure: Option<HostFailure>,
    /// False if it was never reached.
    #[serde(skip)]
    is_reached: bool,
    #[serde(skip)]
    outcome: Outcome,
}

impl Report {
    /// Good if all is as it should be on every machine; partial if on some.
    pub fn outcome(&self) -> Outcome {
        let bad: Vec<Outcome> = self.hosts.iter().map(|h| h.outcome).filter(|o| *o != Outcome::Good).collect();
        let worst = bad.iter().copied().fold(Outcome::Good, Outcome::worst);
        if bad.is_empty() || bad.len() == self.hosts.len() || worst == Outcome::Stuck {
            worst
        } else {
            Outcome::Partial
        }
    }
}

/// What is the same for all machines.
struct Work<'a> {
    env: &'a Env,
    goal: Option<Goal>,
    roots: Vec<Root>,
    stores: Vec<&'static dyn Store>,
    named: Vec<StoreId>,
    now: Timestamp,
}

/// Looks into the stores of machines, and brings a root to where it is wanted. One that fails does not stop the others.
///
/// Errors: no such root; a store that only a person has. What fails on a machine is in its part of the report.
pub fn on_hosts(env: &Env, request: &Request) -> Result<Report> {
    let stores = machine_stores(&request.stores)?;
    let all = env.authorities()?;
    let roots = match &request.root {
        Some(which) => vec![which.root(env, &all, request.goal, &[], &request.accepted)?],
        None => all.iter().filter(|a| a.is_root() && !a.retired).map(of_authority).collect(),
    };
    let work = Work { env, goal: request.goal, roots, stores, named: request.stores.named_ids(), now: env.now };
    // Before anything is changed: killed after this, leave still knows where to look.
    let mut noted = Vec::new();
    if let (Some(Goal::Add), false) = (request.goal, env.dry_run) {
        let (_lock, ledger) = env.open_for_change()?;
        for root in &work.roots {
            noted.extend(remember(&*ledger, &root.label, &request.hosts, env.now)?);
        }
    }
    let what = match request.goal {
        Some(Goal::Add) => "adding the root on hosts",
        Some(Goal::Remove) => "removing the root on hosts",
        None => "looking at hosts",
    };
    let hosts = side_by_side(env, what, &request.hosts, |host| work.on(host));
    // One that was never reached has nothing, now as before: leave would ask for it for ever.
    let unreached = request.hosts.iter().zip(&hosts).filter(|(_, done)| !done.is_reached).map(|(host, _)| host);
    let unreached: Vec<&Host> =
        unreached.filter(|h| noted.iter().any(|(_, address)| *address == h.address())).collect();
    if !unreached.is_empty() {
        let (_lock, ledger) = env.open_for_change()?;
        for host in unreached {
            for (label, _) in noted.iter().filter(|(_, address)| *address == host.address()) {
                forget(&*ledger, label, host, env.now)?;
            }
        }
    }
    if let (Some(Goal::Remove), false) = (request.goal, env.dry_run) {
        let (_lock, ledger) = env.open_for_change()?;
        for (host, done) in request.hosts.iter().zip(&hosts).filter(|(_, done)| done.outcome == Outcome::Good) {
            for row in &done.stores {
                forget(&*ledger, &row.label, host, env.now)?;
            }
        }
    }
    Ok(Report { hosts, dry_run: env.dry_run && request.goal.is_some(), changes: request.goal.is_some() })
}

fn of_authority(a: &Authority) -> Root {
    Root { label: a.label.clone(), certificate: a.certificate.clone() }
}

/// The stores that a machine has for all its accounts: others belong to a person who is logged in there.
fn machine_stores(choice: &Choice) -> Result<Vec<&'static dyn Store>> {
    let of_machine = |s: &&'static dyn Store| s.scope() == Scope::Machine;
    if choice.named.is_empty() {
        let whole = Choice { scope: tamga_core::stores::InScope::Machine, ..choice.clone() };
        return Ok(whole.stores().into_iter().filter(of_machine).collect());
    }
    let stores: Vec<&'static dyn Store> = choice.named.iter().copied().filter(of_machine).collect();
    match choice.named.iter().find(|n| !stores.iter().any(|s| s.id() == n.id())) {
        None => Ok(stores),
        Some(of_person) => Err(Error::Contradiction {
            what: format!("the store {} is not reached on another machine", of_person.id()),
            why: "it is a person's, or a file that leave would not find again".into(),
            instead: "use those of the machine: --stores system,java,chromium-policy,firefox-policy".into(),
        }
        .into()),
    }
}

impl Work<'_> {
    fn on(&self, host: &Host) -> OnHost {
        match Site::open(self.env, host) {
            Ok(site) => self.in_site(host, &site),
            Err(failure) => OnHost::failed(host, failure),
        }
    }

    fn in_site(&self, host: &Host, site: &Site) -> OnHost {
        let (mut rows, mut steps) = (Vec::new(), Vec::new());
        for store in &self.stores {
            for place in store.survey(site.look(), &[]) {
                let mut place = place;
                for root in &self.roots {
                    // What cannot be seen any more is not "absent".
                    if let Some(fault) = site.broken() {
                        return OnHost { stores: rows, is_reached: true, ..OnHost::failed(host, fault.into()) };
                    }
                    let mut row = Row::found(self.now, *store, root, &place);
                    if let Some(goal) = self.goal
                        && let Some(after) = self.bring(host, site, *store, root, goal, &place, &mut row, &mut steps)
                    {
                        place = after;
                    }
                    rows.push(row);
                }
            }
        }
        if let Some(fault) = site.broken() {
            return OnHost { stores: rows, is_reached: true, ..OnHost::failed(host, fault.into()) };
        }
        if self.goal == Some(Goal::Add) && !self.env.dry_run {
            demand_named(&mut rows, &self.named);
        }
        let outcome = match self.goal {
            Some(_) => row::outcome(&rows),
            None if rows.iter().any(|r| self.is_lacking(r)) => Outcome::Bad,
            None => Outcome::Good,
        };
        OnHost { host: host.name.to_string(), stores: rows, steps, failure: None, is_reached: true, outcome }
    }

    /// True if a root that is looked for is absent from a store that the machine has.
    fn is_lacking(&self, row: &Row) -> bool {
        !matches!(row.state, State::Present | State::Unavailable)
    }

    /// Brings one root to the goal in one place; returns the place as it is then, if it was changed.
    #[allow(clippy::too_many_arguments, reason = "each is its own kind of thing")]
    fn bring(
        &self,
        host: &Host,
        site: &Site,
        store: &dyn Store,
        root: &Root,
        goal: Goal,
        place: &StoreLocation,
        row: &mut Row,
        steps: &mut Vec<String>,
    ) -> Option<StoreLocation> {
        let planned = store.change(goal, root, place, site.look());
        let is_to_do = to_do(row, root, place, &planned, goal, is_wanted(root, place, goal, self.now));
        if row.outcome != Outcome::Good && !site.look().has_rights() {
            row.remedy = Some(host.rights_remedy());
        }
        if !is_to_do {
            return None;
        }
        if self.env.dry_run {
            steps.extend(planned.iter().map(|p| p.step.words()));
            return None;
        }
        match site.perform(&planned) {
            Ok(()) => row.change = if goal == Goal::Add { Change::Added } else { Change::Removed },
            Err(e) => row.fail(e.kind().into(), format!("{}: {}", e.what(), e.why()), e.remedy()),
        }
        let after = store.survey(site.look(), &[]).into_iter().find(|p| p.place == place.place);
        see_again(root, goal, after.as_ref(), row, self.now);
        after
    }
}

/// The machines that a root was put on and not taken out of again, by their addresses.
///
/// Errors: the ledger cannot be read.
fn remembered(ledger: &dyn Ledger) -> Result<Vec<(Label, String)>> {
    let mut out: Vec<(Label, String)> = Vec::new();
    let (added, gone) = (ledger.of_kind(TRUSTED)?, ledger.of_kind(UNTRUSTED)?);
    for event in &added {
        let Ok(label) = event.about.parse::<Label>() else { continue };
        let times = |all: &[Event]| all.iter().filter(|e| e.about == event.about && e.detail == event.detail).count();
        if times(&added) > times(&gone) && !out.iter().any(|(l, a)| *l == label && *a == event.detail) {
            out.push((label, event.detail.clone()));
        }
    }
    Ok(out)
}

/// Notes that machines are to get a root; returns those for which that is new.
fn remember(ledger: &dyn Ledger, label: &Label, hosts: &[Host], now: Timestamp) -> Result<Vec<(Label, String)>> {
    let known = remembered(ledger)?;
    let pairs = hosts.iter().map(|host| (label.clone(), host.address()));
    let new: Vec<(Label, String)> = pairs.filter(|pair| !known.contains(pair)).collect();
    for (label, address) in &new {
        ledger.note(now, TRUSTED, label, address)?;
    }
    Ok(new)
}

fn forget(ledger: &dyn Ledger, label: &Label, host: &Host, now: Timestamp) -> Result<()> {
    let address = host.address();
    if remembered(ledger)?.iter().any(|(l, a)| l == label && *a == address) {
        ledger.note(now, UNTRUSTED, label, &address)?;
    }
    Ok(())
}

/// The machines on which a root of this ledger may still be.
///
/// Errors: the ledger cannot be read.
pub fn with_roots(ledger: &dyn Ledger) -> Result<Vec<Host>> {
    let mut out: Vec<Host> = Vec::new();
    for (_, address) in remembered(ledger)? {
        if let Ok(Some(host)) = Host::of_address(&address)
            && !out.iter().any(|h| h.address() == address)
        {
            out.push(host);
        }
    }
    Ok(out)
}

/// Takes every root of this ledger out of the machines that it was put on.
///
/// Errors: the ledger cannot be read or written. What fails on a machine is in its part of the report.
pub fn clear(env: &Env) -> Result<Vec<OnHost>> {
    let Some(looked) = env.open_to_look()? else { return Ok(Vec::new()) };
    let hosts = with_roots(&*looked)?;
    if hosts.is_empty() {
        return Ok(Vec::new());
    }
    let (known, all) = (remembered(&*looked)?, looked.authorities()?);
    drop(looked);
    let stores = machine_stores(&Choice::default())?;
    let done = side_by_side(env, "removing roots on hosts", &hosts, |host| clear_one(env, host, &stores, &all, &known));
    let (_lock, ledger) = env.open_for_change()?;
    for (host, _) in hosts.iter().zip(&done).filter(|(_, done)| done.outcome == Outcome::Good) {
        for (label, _) in known.iter().filter(|(_, address)| *address == host.address()) {
            forget(&*ledger, label, host, env.now)?;
        }
    }
    Ok(done)
}

fn clear_one(
    env: &Env,
    host: &Host,
    stores: &[&'static dyn Store],
    all: &[Authority],
    known: &[(Label, String)],
) -> OnHost {
    let site = match Site::open(env, host) {
        Ok(site) => site,
        Err(failure) => return OnHost::failed(host, failure),
    };
    let address = host.address();
    let mut roots: Vec<Root> = Vec::new();
    for place in stores.iter().flat_map(|s| s.survey(site.look(), &[])) {
        for (root, is_known) in ours_in(&place, all, &[]) {
            let is_ours = is_known || known.iter().any(|(l, a)| *l == root.label && *a == address);
            if is_ours && !roots.iter().any(|r| r.certificate == root.certificate) {
                roots.push(root);
            }
        }
    }
    let (stores, named) = (stores.to_vec(), Vec::new());
    Work { env, goal: Some(Goal::Remove), roots, stores, named, now: env.now }.in_site(host, &site)
}

impl OnHost {
    fn failed(host: &Host, failure: HostFailure) -> OnHost {
        OnHost {
            host: host.name.to_string(),
            stores: Vec::new(),
            steps: Vec::new(),
            failure: Some(failure),
            is_reached: false,
            outcome: Outcome::Blocked,
        }
    }

    /// How it went there.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }
}
