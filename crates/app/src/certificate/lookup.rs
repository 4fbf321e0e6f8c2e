//! Finding what a label names.

use crate::env::Env;
use crate::failure::Result;
use tamga_core::ca::report::Issued;
use tamga_core::error::Error;
use tamga_core::vocabulary::text::Shown as _;
use tamga_host::ledger::{Ledger, Waiting};

/// The current certificate of a label, whose files are here.
///
/// Errors: there is none; its files are on another machine.
pub fn current(env: &Env, label: &str) -> Result<Issued> {
    let issued = recorded(env, label)?;
    here(&issued)?;
    Ok(issued)
}

/// Refuses a certificate whose files are on another machine: of the client that enrolled it, or one that shares the ledger.
///
/// Errors: that.
pub(crate) fn here(issued: &Issued) -> Result<()> {
    let label = &issued.label;
    if let Some(host) = &issued.host {
        return Err(Error::Objection {
            code: "key-missing",
            what: format!("the files of {label} are not here"),
            why: format!("they are on the machine {}, in {}", host.shown(), issued.folder.shown()),
            instead: format!("run this there; to see what was issued: tamga show {label}"),
        }
        .into());
    }
    if !issued.is_enrolled() {
        return Ok(());
    }
    Err(Error::Objection {
        code: "key-missing",
        what: format!("the files of {label} are not here"),
        why: "a client got it from the enrollment service: its key is on that client's machine".into(),
        instead: format!("run this there; to see what was issued: tamga show {label}"),
    }
    .into())
}

/// The current certificate of a label, wherever its files are.
///
/// Errors: there is none.
pub(crate) fn recorded(env: &Env, label: &str) -> Result<Issued> {
    let ledger = env.open_to_look()?;
    let found = match &ledger {
        Some(l) => l.current(label)?,
        None => None,
    };
    match found {
        Some(i) => Ok(i),
        None => Err(unknown(ledger.as_deref(), label)?.into()),
    }
}

/// The error that no certificate has a label.
pub(crate) fn unknown(ledger: Option<&dyn Ledger>, label: &str) -> Result<Error> {
    let known = ledger.map_or_else(|| Ok(Vec::new()), |l| l.labels(20))?;
    Ok(Error::LabelUnknown { label: label.to_owned(), sought: "certificate", known })
}

/// The waiting key of a label: of an authority or of a certificate.
pub(crate) fn waiting(ledger: Option<&dyn Ledger>, label: &str, is_authority: bool) -> Result<Waiting> {
    let (found, all) = match ledger {
        Some(l) => (l.waiting(label)?, l.all_waiting()?),
        None => Default::default(),
    };
    found.filter(|w| w.is_authority == is_authority).ok_or_else(|| {
        Error::LabelUnknown {
            label: label.to_owned(),
            sought: if is_authority { "waiting authority" } else { "waiting request" },
            known: all.into_iter().filter(|w| w.is_authority == is_authority).map(|w| w.label.to_string()).collect(),
        }
        .into()
    })
}
