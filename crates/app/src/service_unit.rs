//! The unit by which systemd runs the enrollment service, printed or put in place.

use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::output::absolute;
use crate::report;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::deploy::service_unit::{self, Service};
use tamga_core::error::Error as CoreError;
use tamga_core::plan::ports::Commands;
use tamga_host::error::Error;
use tamga_host::{act, platform};

/// What to do.
#[derive(Clone, Debug)]
pub struct Request {
    /// Put it in place and start it.
    pub install: bool,
    /// The arguments of `enrollment serve`.
    pub words: Vec<String>,
    /// The file with the passphrase of the authority's key.
    pub passphrase_file: Option<PathBuf>,
    /// True if it listens on a port below 1024.
    pub low_port: bool,
}

/// What is there, or was done.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Report {
    /// The file.
    Part {
        /// Where it belongs.
        #[serde(serialize_with = "report::path")]
        #[schemars(with = "String")]
        place: PathBuf,
        /// What it says.
        text: String,
    },
    /// It would be installed.
    Planned {
        /// What would be done.
        steps: Vec<String>,
        /// True.
        dry_run: bool,
    },
    /// It is installed.
    Installed {
        /// Where.
        #[serde(serialize_with = "report::path")]
        #[schemars(with = "String")]
        place: PathBuf,
        /// True.
        changed: bool,
    },
}

/// Prints the unit, or installs it.
///
/// Errors: systemd is not here; the file cannot be written.
pub fn unit(env: &Env, request: &Request) -> Result<Report> {
    let program =
        std::env::current_exe().map_err(|source| Error::File { doing: "finding", path: "tamga".into(), source })?;
    let passphrase_file = request.passphrase_file.as_deref().map(absolute).transpose()?;
    let service = Service {
        program,
        data: env.machine.data().to_owned(),
        words: request.words.clone(),
        account: account(env),
        passphrase_file,
        low_port: request.low_port,
    };
    let part = service_unit::part(&service, &env.machine);
    let place = part.place.clone().unwrap_or_default();
    if !request.install {
        return Ok(Report::Part { place, text: part.text });
    }
    if env.machine.program("systemctl").is_none() {
        return Err(CoreError::Objection {
            code: "scheduler-missing",
            what: "the unit was not installed".into(),
            why: "systemctl is not on this system".into(),
            instead: "let whatever manages services here run tamga enrollment serve".into(),
        }
        .into());
    }
    let steps = service_unit::install(&service, &env.machine);
    if env.dry_run {
        return Ok(Report::Planned { steps: steps.iter().map(|p| p.step.words()).collect(), dry_run: true });
    }
    act::perform(&env.machine, &steps)?;
    Ok(Report::Installed { place, changed: true })
}

/// Who runs it where root installs it: the owner of the data directory.
fn account(env: &Env) -> Option<String> {
    if !platform::is_root() || env.machine.root().is_some() {
        return None;
    }
    Some(env.machine.person.as_ref().map_or_else(|| "root".to_owned(), |p| p.name.clone()))
}

/// Takes the unit away, if there is one; why it stays if it does.
pub(crate) fn clear(env: &Env) -> Option<std::result::Result<(), Failure>> {
    let steps = service_unit::remove(account(env).is_some(), &env.machine);
    (!steps.is_empty()).then(|| act::perform(&env.machine, &steps).map(|_| ()).map_err(Failure::from))
}
