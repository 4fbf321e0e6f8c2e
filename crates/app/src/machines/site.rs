//! Machines to work on: this one, an image, or one that is reached through a shell.

use crate::env::Env;
use crate::interact::Task;
use schemars::JsonSchema;
use serde::Serialize;
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::check::client::Client;
use tamga_core::check::client::there::is_there;
use tamga_core::deploy::lab::host::{Host, Reach};
use tamga_core::plan::ports::Look;
use tamga_core::plan::step::Planned;
use tamga_host::far::Far;
use tamga_host::host_fault::HostFault;
use tamga_host::places::Machine;
use tamga_host::{act, clients};

/// So many machines are worked on at once.
const AT_ONCE: usize = 32;

/// Why nothing is known of a machine.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct HostFailure {
    /// The word for programs.
    pub code: &'static str,
    /// Why.
    pub why: String,
    /// What to do.
    pub remedy: String,
}

impl From<HostFault> for HostFailure {
    fn from(fault: HostFault) -> HostFailure {
        HostFailure { code: fault.code(), why: fault.why(), remedy: fault.remedy().to_owned() }
    }
}

/// A machine that is open to work on.
pub(crate) enum Site {
    Far(Box<Far>),
    /// This one, or the file system of an image.
    Here(Box<Machine>),
}

impl Site {
    /// Connects.
    ///
    /// Errors: it is not reached; there is no such image.
    pub(crate) fn open(env: &Env, host: &Host) -> std::result::Result<Site, HostFailure> {
        let machine = match &host.reach {
            Reach::Local => env.machine.clone(),
            Reach::Image(path) => {
                let image = crate::trust::image::of(env, Some(path)).map_err(|e| HostFailure {
                    code: e.0.code(),
                    why: e.0.why(),
                    remedy: e.0.remedy(),
                })?;
                image.machine
            }
            Reach::Ssh { .. } | Reach::Container(_) => return Ok(Site::Far(Box::new(Far::connect(host)?))),
        };
        Ok(Site::Here(Box::new(machine)))
    }

    /// Its files, programs and variables.
    pub(crate) fn look(&self) -> &(dyn Look + Sync) {
        match self {
            Site::Far(far) => &**far,
            Site::Here(machine) => &**machine,
        }
    }

    /// True if a client is installed there.
    pub(crate) fn has_client(&self, client: Client) -> bool {
        match self {
            Site::Far(far) => is_there(client, &**far),
            Site::Here(machine) => client == Client::Standard || clients::is_installed(client, machine),
        }
    }

    /// Takes steps there.
    pub(crate) fn perform(&self, steps: &[Planned]) -> tamga_host::error::Result<()> {
        match self {
            Site::Far(far) => act::perform(&**far, steps),
            Site::Here(machine) => act::perform(&**machine, steps),
        }
    }

    /// Why the connection broke, if it did.
    pub(crate) fn broken(&self) -> Option<HostFault> {
        match self {
            Site::Far(far) => far.broken(),
            Site::Here(_) => None,
        }
    }
}

/// Works on several machines at once, in threads, and returns what came of it in their order.
pub(crate) fn side_by_side<T: Send>(env: &Env, what: &str, hosts: &[Host], work: impl Fn(&Host) -> T + Sync) -> Vec<T> {
    let shown = env.caller.progress(Task::Many(what, hosts.len()));
    let next = AtomicUsize::new(0);
    let one = || {
        let mut done = Vec::new();
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(host) = hosts.get(at) else { return done };
            done.push((at, work(host)));
            shown.step();
        }
    };
    let mut all: Vec<(usize, T)> = std::thread::scope(|scope| {
        let threads: Vec<_> = (0..hosts.len().min(AT_ONCE)).map(|_| scope.spawn(one)).collect();
        // One that is missing would shift the answers of the others.
        threads.into_iter().flat_map(|t| t.join().unwrap_or_else(|p| std::panic::resume_unwind(p))).collect()
    });
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, done)| done).collect()
}
