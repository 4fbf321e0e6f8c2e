//! What every command has at hand: the machine, the ledger, the moment, the person's wishes.

use crate::cli::Common;
use crate::exit::Result;
use crate::words::human;
use std::io::IsTerminal;
use tamga_core::authority::{self, KEY_FILE};
use tamga_core::error::Error;
use tamga_core::key::PrivateKey;
use tamga_core::moment::Moment;
use tamga_core::report::Authority;
use tamga_core::step::Publication;
use tamga_host::files::{self, Lock};
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::places::Machine;
use tamga_host::{entropy, recover};

/// One run.
pub(crate) struct Session {
    pub(crate) machine: Machine,
    pub(crate) now: Moment,
    pub(crate) common: Common,
}

impl Session {
    pub(crate) fn new(common: Common) -> Result<Session> {
        let machine = Machine::from_environment(common.data_dir.clone())?;
        if let Some(p) = &machine.person {
            human::aside(&common, &format!("acting for {}: their data folder and stores, with their rights", p.name));
        }
        Ok(Session { machine, now: entropy::now(), common })
    }

    /// What must stand before a command that changes the machine's stores.
    pub(crate) fn raise(&self) -> &'static str {
        use tamga_core::ports::Look;
        if self.machine.has_rights() { "" } else { "sudo " }
    }

    /// Locks the data folder, opens the ledger, and mends and says what interrupted work left.
    pub(crate) fn open_for_change(&self) -> Result<(Lock, Ledger)> {
        let lock = files::lock(self.machine.data())?;
        let ledger = Ledger::open(self.machine.data())?;
        for line in recover::recover(&ledger, self.now)? {
            human::aside(&self.common, &line);
        }
        Ok((lock, ledger))
    }

    /// The ledger if there is one: looking makes nothing.
    pub(crate) fn open_to_look(&self) -> Result<Option<Ledger>> {
        Ok(Ledger::open_existing(self.machine.data())?)
    }

    pub(crate) fn authorities(&self) -> Result<Vec<Authority>> {
        Ok(match self.open_to_look()? {
            Some(ledger) => ledger.authorities()?,
            None => Vec::new(),
        })
    }

    /// Puts files in place under the journal: one durable commit before, the files, the row away.
    pub(crate) fn publish(
        &self,
        ledger: &Ledger,
        what: &str,
        publication: &Publication,
        record: &Record<'_>,
    ) -> Result<()> {
        let (label, sha256) = match record {
            Record::Authority(a) => (a.label.clone(), a.certificate.sha256()),
            Record::Certificate(c) => (c.label.clone(), c.certificate.sha256()),
            Record::Trust { label, .. } => ((*label).to_owned(), String::new()),
        };
        let work = Work::Publish {
            what: what.to_owned(),
            label,
            tag: sha256[..8].to_owned(),
            sha256,
            folder: publication.folder.clone(),
            names: publication.documents.iter().map(|d| d.name.to_owned()).collect(),
        };
        let id = ledger.begin(&work, record, self.now)?;
        if let Err(e) = files::publish(publication, work_tag(&work)) {
            // Taken back at once; if even that fails, the next run finds the journal's row.
            recover::recover(ledger, self.now)?;
            return Err(e.into());
        }
        Ok(ledger.finish(id)?)
    }

    /// Yes by `--yes`, or asked at a terminal; None where nobody can be asked.
    pub(crate) fn confirm(&self, question: &str) -> Option<bool> {
        if self.common.yes {
            return Some(true);
        }
        if !std::io::stdin().is_terminal() || !std::io::stderr().is_terminal() {
            return None;
        }
        human::ask(question);
        let mut line = String::new();
        std::io::stdin().read_line(&mut line).ok()?;
        Some(matches!(line.trim(), "y" | "yes"))
    }
}

fn work_tag(work: &Work) -> &str {
    match work {
        Work::Publish { tag, .. } => tag,
        Work::Trust { .. } => "",
    }
}

/// Reads an authority's key and sees that it belongs to it.
pub(crate) fn authority_key(a: &Authority) -> Result<PrivateKey> {
    key_of(&a.label, &a.folder, &a.certificate)
}

/// Reads the key in a folder and sees that it belongs to the certificate.
pub(crate) fn key_of(
    label: &str,
    folder: &std::path::Path,
    certificate: &tamga_core::cert::Certificate,
) -> Result<PrivateKey> {
    let path = folder.join(KEY_FILE);
    let bytes = match std::fs::read(&path) {
        Ok(bytes) => zeroize::Zeroizing::new(bytes),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            return Err(Error::KeyMissing { label: label.to_owned(), path }.into());
        }
        Err(e) => return Err(tamga_host::error::Error::file("reading", &path)(e).into()),
    };
    let key = authority::read_key(&bytes, &path.display().to_string())?;
    if *key.public() != certificate.key {
        return Err(Error::KeyMismatch { label: label.to_owned(), path }.into());
    }
    Ok(key)
}
