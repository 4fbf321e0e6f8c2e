//! Everything undone: from the stores' marks alone if the data directory is gone.

use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::identity::{self, Cleared};
use crate::interact::Question;
use crate::recipe::install::{self, Removed};
use crate::report::{Answer, Outcome};
use crate::trust::row::{Change, Row};
use crate::trust::stores::bundles as bundles_of;
use crate::trust::stores::ours_in;
use crate::trust::{apply, exceptions, on_hosts, own_leaves};
use crate::{hosts, schedule, service_unit};
use schemars::JsonSchema;
use serde::{Serialize, Serializer};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::KEY_FILE;
use tamga_core::deploy::lab::host::Host;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Goal, Root, Store};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::fs;
use tamga_host::ledger::place::{self, Address};

/// What was done, or would be.
pub type Report = Answer<Done, Plan>;

/// What was undone, and what remains.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// Every root in every place.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// What remains, and why.
    #[serde(serialize_with = "remains")]
    #[schemars(with = "Vec<String>")]
    pub remains: Vec<Remains>,
    /// Servers that were left as they were found.
    #[serde(skip)]
    pub servers: Vec<Removed>,
    /// Browsers' stores from which identities were taken.
    #[serde(skip)]
    pub identities: Vec<Cleared>,
    /// The words of schedulers from which our timer was taken.
    #[serde(skip)]
    pub timers: Vec<&'static str>,
    /// How many exceptions Firefox was made to forget.
    #[serde(skip)]
    pub exceptions: Option<usize>,
    /// True if names of ours were taken out of the hosts file.
    #[serde(skip)]
    pub hosts: bool,
    /// Other machines that roots were taken out of.
    #[serde(rename = "hosts")]
    pub hosts_cleared: Vec<String>,
    /// The data directory, if it was removed.
    #[serde(skip)]
    pub data: Option<PathBuf>,
    #[serde(skip)]
    outcome: Outcome,
}

impl Done {
    /// Partial if something of Tamga's remains that should not.
    pub fn outcome(&self) -> Outcome {
        self.outcome
    }
}

/// Something that remains.
pub enum Remains {
    /// A root with our mark that no ledger here knows, and nobody said it should go.
    UnknownRoot {
        /// Its mark.
        mark: String,
        /// The store.
        store: StoreId,
    },
    /// A root that could not be taken out.
    Root {
        /// Its label.
        label: Label,
        /// The store.
        store: StoreId,
        /// The place.
        place: PathBuf,
    },
    /// The browser's own database, which was not Tamga's.
    Database(PathBuf),
    /// Identities that could not be taken out.
    Identities(PathBuf, usize, Failure),
    /// Roots on another machine.
    Host(String, String),
    /// A part of a server's configuration.
    Server(String),
    /// A server whose configuration could not be changed.
    ServerKept(Failure),
    /// A timer that could not be taken away.
    Timer(&'static str, Failure),
    /// Names in the hosts file.
    Hosts,
    /// The data directory, while a root is still in a store.
    DataInUse(PathBuf),
    /// The data directory, because the caller said so.
    DataKept(PathBuf),
    /// The data directory, because nobody could be asked.
    DataUnasked(PathBuf),
    /// A ledger that other machines share.
    Ledger(String),
    /// A certificate's directory.
    Directory {
        /// It.
        path: PathBuf,
        /// True if a private key is in it.
        has_key: bool,
    },
}

impl Remains {
    /// What remains, why, and what to do, in one line.
    pub fn line(&self) -> String {
        match self {
            Remains::UnknownRoot { mark, store } => format!(
                "the root {mark} in {store}: its mark is Tamga's, but no ledger knows it; tamga leave --yes takes it out"
            ),
            Remains::Root { label, store, place } => {
                format!("the root {label} in {store} ({}): sudo tamga leave", place.shown())
            }
            Remains::Database(place) => {
                format!("{}: the browser's own database; it makes the same one at its first start", place.shown())
            }
            Remains::Identities(place, count, e) => {
                format!("{count} identities in {}: {}; {}", place.shown(), e.0.why(), e.0.remedy())
            }
            Remains::Ledger(url) => {
                format!("the ledger {url}: other machines may share it; who may do so removes the database")
            }
            Remains::Host(host, why) => {
                format!(
                    "roots on {host}: {why}; tamga leave tries again; if it is gone for good, remove the data directory by hand"
                )
            }
            Remains::Server(words) => words.clone(),
            Remains::ServerKept(e) => format!("{}: {}; {}", e.0.what(), e.0.why(), e.0.remedy()),
            Remains::Timer(word, e) => format!("the timer of {word}: {}; {}", e.0.why(), e.0.remedy()),
            Remains::Hosts => "its names in /etc/hosts: sudo tamga hosts remove".into(),
            Remains::DataInUse(data) => {
                format!(
                    "the data directory {}: kept while a root is still in a store, or a server's configuration has something of Tamga's",
                    data.shown()
                )
            }
            Remains::DataKept(data) => format!("the data directory {}, as you said", data.shown()),
            Remains::DataUnasked(data) => format!("the data directory {}: tamga leave --yes removes it", data.shown()),
            Remains::Directory { path, has_key } => {
                let key = if *has_key { " with its private key" } else { "" };
                format!("{}{key}: delete it if no server uses it", path.shown())
            }
        }
    }
}

fn remains<S: Serializer>(all: &[Remains], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(Remains::line))
}

/// What would be undone.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    stores: [(); 0],
    remains: [(); 0],
    dry_run: bool,
    /// The mark of each root, and its store.
    #[serde(skip)]
    pub roots: Vec<(String, StoreId)>,
    /// Servers that would be left as they were found: each with its label.
    #[serde(skip)]
    pub servers: Vec<(String, Label)>,
    /// Other machines that roots would be taken out of, by their addresses.
    pub hosts: Vec<String>,
    /// The data directory, if there is one to ask about.
    #[serde(skip)]
    pub data: Option<PathBuf>,
}

type Found = (&'static dyn Store, Root, bool);

/// Takes everything of Tamga's out of the machine; the data directory goes if the caller says yes.
///
/// Errors: the ledger cannot be read or written. What fails in a store remains, and is reported.
pub fn leave(env: &Env, bundles: &[PathBuf]) -> Result<Report> {
    let data = env.machine.data().to_path_buf();
    let has_data = env.machine.ledgers().is_there(&data);
    let bundles = &bundles_of(env, env.open_to_look()?.as_deref(), bundles)?;
    let found = found(env, bundles)?;
    let directories = directories(env)?;
    if env.dry_run {
        let roots = found.iter().map(|(store, root, _)| (root.mark(), store.id())).collect();
        let data = has_data.then_some(data);
        let installed = env.open_to_look()?.map(|l| l.installed()).transpose()?.unwrap_or_default();
        let servers = installed.into_iter().map(|i| (i.server, i.label)).collect();
        let hosts = match env.open_to_look()? {
            Some(ledger) => on_hosts::with_roots(&*ledger)?.iter().map(Host::address).collect(),
            None => Vec::new(),
        };
        return Ok(Answer::Planned(Plan { stores: [], remains: [], dry_run: true, roots, servers, hosts, data }));
    }
    let mut done = Done {
        rows: Vec::new(),
        remains: Vec::new(),
        servers: Vec::new(),
        identities: Vec::new(),
        timers: Vec::new(),
        exceptions: None,
        hosts: false,
        hosts_cleared: Vec::new(),
        data: None,
        outcome: Outcome::Good,
    };
    for left in install::clear(env)? {
        match left {
            Ok(removed) => {
                for words in &removed.remains {
                    done.keep(Remains::Server(words.clone()));
                }
                done.servers.push(removed);
            }
            Err(e) => done.keep(Remains::ServerKept(e)),
        }
    }
    done.remove_roots(env, &found, bundles)?;
    done.remove_from_hosts(env)?;
    for cleared in identity::clear(env) {
        match cleared.failure {
            None => done.identities.push(cleared),
            Some(e) => done.keep(Remains::Identities(cleared.place, cleared.count, e)),
        }
    }
    for (word, result) in schedule::clear(env) {
        match result {
            Ok(()) => done.timers.push(word),
            Err(e) => done.keep(Remains::Timer(word, e)),
        }
    }
    match service_unit::clear(env) {
        Some(Ok(())) => done.timers.push("enrollment"),
        Some(Err(e)) => done.keep(Remains::Timer("enrollment", e)),
        None => {}
    }
    done.exceptions = exceptions::forget_all(env)?;
    match hosts::clear(env) {
        Some(Ok(())) => done.hosts = true,
        Some(Err(_)) => done.keep(Remains::Hosts),
        None => {}
    }
    if let Some(Address::Server(url)) = env.machine.ledgers().chosen().map(|c| c.whereabouts(&data)).transpose()? {
        done.remains.push(Remains::Ledger(url.shown()));
    }
    done.remove_data(env, has_data)?;
    for path in directories {
        let has_key = env.disk().exists(&path.join(KEY_FILE));
        done.remains.push(Remains::Directory { path, has_key });
    }
    Ok(Answer::Done(done))
}

/// Roots of ours in every store, each once a store; true for those that the ledger knows.
fn found(env: &Env, bundles: &[PathBuf]) -> Result<Vec<Found>> {
    let authorities = env.authorities()?;
    let leaves = own_leaves(env)?;
    let mut found: Vec<Found> = Vec::new();
    for store in trust::ALL {
        for place in store.survey(&env.machine, bundles) {
            for (root, known) in ours_in(&place, &authorities, &leaves) {
                if !found.iter().any(|(s, r, _)| s.id() == store.id() && r.certificate == root.certificate) {
                    found.push((*store, root, known));
                }
            }
        }
    }
    Ok(found)
}

/// The directories of certificates and waiting keys, which are left as they are.
fn directories(env: &Env) -> Result<BTreeSet<PathBuf>> {
    let Some(l) = env.open_to_look()? else { return Ok(BTreeSet::new()) };
    let waiting = l.all_waiting()?.into_iter().filter(|w| !w.is_authority).map(|w| w.folder);
    Ok(l.directories()?.into_iter().chain(waiting).filter(|f| env.disk().exists(f)).collect())
}

impl Done {
    fn keep(&mut self, what: Remains) {
        self.outcome = self.outcome.worst(Outcome::Partial);
        self.remains.push(what);
    }

    fn remove_roots(&mut self, env: &Env, found: &[Found], bundles: &[PathBuf]) -> Result<()> {
        if !found.is_empty() {
            // The lock and journal need a data directory; one that is gone is not made again for long.
            let (_lock, ledger) = env.open_for_change()?;
            for (store, root, known) in found {
                let mark = root.mark();
                let question =
                    format!("{mark} in {} has Tamga's mark, but no ledger here knows it: take it out", store.id());
                if *known || env.caller.confirm(Question::Other(&question)) == Some(true) {
                    self.rows.extend(apply(env, &*ledger, &[*store], root, bundles, Goal::Remove)?);
                } else {
                    self.keep(Remains::UnknownRoot { mark, store: store.id() });
                }
            }
        }
        for r in &self.rows {
            if r.outcome != Outcome::Good {
                let grave = if r.outcome == Outcome::Stuck { Outcome::Stuck } else { Outcome::Partial };
                self.outcome = self.outcome.worst(grave);
                self.remains.push(Remains::Root { label: r.label.clone(), store: r.store, place: r.place.clone() });
            }
        }
        let databases = self.rows.iter().filter(|r| r.store == StoreId::Chromium && r.change == Change::Removed);
        self.remains.extend(databases.map(|r| Remains::Database(r.place.clone())));
        Ok(())
    }

    fn remove_from_hosts(&mut self, env: &Env) -> Result<()> {
        for host in on_hosts::clear(env)? {
            let failed = host.stores.iter().find(|r| r.outcome != Outcome::Good).and_then(|r| r.why.clone());
            match host.failure.as_ref().map(|f| f.why.clone()).or(failed) {
                Some(why) => self.keep(Remains::Host(host.host.clone(), why)),
                None => self.hosts_cleared.push(host.host),
            }
        }
        Ok(())
    }

    /// The data directory goes if the caller says so, and only when nothing is left in a store that it would be needed for.
    fn remove_data(&mut self, env: &Env, had: bool) -> Result<()> {
        let data = env.machine.data();
        if !env.disk().exists(data) {
            return Ok(());
        }
        if !had {
            // Made by this run for its lock alone.
            return remove(env, data);
        }
        if self.outcome != Outcome::Good {
            self.remains.push(Remains::DataInUse(data.to_owned()));
            return Ok(());
        }
        let question = format!(
            "remove the data directory {} with the authorities' keys? what they signed stays valid",
            data.shown()
        );
        match env.caller.confirm(Question::Other(&question)) {
            Some(true) => {
                remove(env, data)?;
                self.data = Some(data.to_owned());
            }
            Some(false) => self.remains.push(Remains::DataKept(data.to_owned())),
            None => self.remains.push(Remains::DataUnasked(data.to_owned())),
        }
        Ok(())
    }
}

/// Removes what Tamga put into the data directory, then the directory if nothing else is in it. Under its lock: nobody else is at
/// work in it then, and the lock itself goes last.
fn remove(env: &Env, data: &Path) -> Result<()> {
    let _lock = env.disk().lock(data)?;
    let is_aside = |name: &std::ffi::OsStr| {
        name.to_str().is_some_and(|n| n.starts_with("ledger-moved-") || n.starts_with("ledger-damaged-"))
    };
    let aside = env.disk().list(data).unwrap_or_default().into_iter().filter(|n| is_aside(n));
    for name in tamga_host::ledger::FILES.into_iter().chain([place::FILE]).map(std::ffi::OsString::from).chain(aside) {
        env.disk().remove(&data.join(name))?;
    }
    for name in ["authorities", "enrollment", "trust"] {
        env.disk().remove_tree(&data.join(name))?;
    }
    for name in [fs::APPLY, fs::CHANGE] {
        env.disk().remove(&data.join(name))?;
    }
    // Something of the person's own in it: the directory stays.
    env.disk().remove_directory(data);
    Ok(())
}
