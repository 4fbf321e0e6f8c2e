//! What each step is on this machine.

use crate::error::{Error, Result};
use crate::places::Machine;
use crate::{nss, process, raise};
use tamga_core::error::Diagnostic;
use tamga_core::plan::perform::Executor;
use tamga_core::plan::step::{Planned, Step};

impl Executor for Machine {
    type Error = Error;

    fn execute(&self, todo: &Step) -> Result<()> {
        step(self, todo)
    }
}

/// Performs the steps in order. If one fails, those before it are undone.
///
/// Errors: the step's own; [`Error::Stuck`] if something could not be undone, with all of it.
pub fn perform(machine: &impl Executor<Error = Error>, steps: &[Planned]) -> Result<()> {
    tamga_core::plan::perform::perform(machine, steps).map_err(|failed| match failed.left.is_empty() {
        true => failed.error,
        false => {
            let left = failed.left.iter().map(|l| format!("{} ({})", l.step.words(), l.error.why()));
            Error::Stuck {
                what: format!("{}: {}", failed.error.what(), failed.error.why()),
                left: left.collect::<Vec<_>>().join("; "),
            }
        }
    })
}

fn step(machine: &Machine, step: &Step) -> Result<()> {
    let raiser = match step {
        Step::Folder { path, .. } | Step::Write { path, .. } | Step::Remove { path } => machine.raiser_for(path),
        Step::Run(i) if i.raised => machine.raiser(),
        Step::Run(_) | Step::Database(_) | Step::Native(_) => None,
    };
    if let Some(raiser) = raiser {
        return raise::step(machine, raiser, step);
    }
    match step {
        Step::Folder { path, mode } => {
            let real = machine.real(path);
            machine.within_image(&real)?;
            machine.with_rights_for(path, || machine.disk().make_directory(&real, *mode))
        }
        Step::Write { path, bytes, mode } => {
            let real = machine.real(path);
            machine.within_image(&real)?;
            machine.with_rights_for(path, || machine.disk().write_whole(&real, bytes, *mode))
        }
        Step::Remove { path } => {
            let real = machine.real(path);
            machine.within_image(&real)?;
            machine.with_rights_for(path, || machine.disk().remove(&real))
        }
        Step::Run(invocation) => process::invoke(machine, invocation),
        Step::Database(change) => nss::change(machine, change),
        Step::Native(change) => native(change),
    }
}

#[cfg(windows)]
fn native(change: &tamga_core::plan::native::NativeChange) -> Result<()> {
    crate::platform::change_store(change)
        .map_err(|e| Error::SystemStore { store: change.store.words(), said: e.to_string() })
}

#[cfg(not(windows))]
fn native(change: &tamga_core::plan::native::NativeChange) -> Result<()> {
    Err(Error::SystemStore { store: change.store.words(), said: "it is a store of Windows".into() })
}
