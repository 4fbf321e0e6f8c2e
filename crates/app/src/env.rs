//! What every use case has at hand: the machine, the ledger, the time, and the caller.

use crate::enroller::Enroller;
use crate::failure::Result;
use crate::interact::{Interact, Question};
use crate::open_tokens::Tokens;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, Weak};
use tamga_core::ca::authority::REQUEST_FILE;
use tamga_core::ca::report::Authority;
use tamga_core::error::{Diagnostic as _, Error};
use tamga_core::plan::ports::Environment;
use tamga_core::plan::step::Publication;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::error::Error as HostError;
use tamga_host::fs::{Disk, Lock};
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::places::Machine;
use tamga_host::{places, raise, recover};

/// The surroundings of one run. A copy is of the same run: it shares the lock.
#[derive(Clone)]
pub struct Env {
    /// The machine: its files, programs and variables, and the data directory.
    pub machine: Machine,
    /// The time of this run.
    pub now: Timestamp,
    /// True if nothing is to be changed: a use case then reports what it would do.
    pub dry_run: bool,
    /// The caller.
    pub caller: Arc<dyn Interact>,
    /// Asks services for certificates; None where that is not possible.
    pub enroller: Option<Arc<dyn Enroller>>,
    /// The data directory's lock while anything of this run holds it: taken once, however many steps need it.
    held: Arc<Mutex<Weak<Lock>>>,
    /// The tokens that this run has opened.
    pub(crate) tokens: Arc<Tokens>,
    /// True in a run of `apply`: the deployments under way are its own.
    applying: Arc<AtomicBool>,
}

/// Files to put in place, and what the ledger is to know of them.
pub struct Change<'a> {
    /// What they are.
    pub what: WorkKind,
    /// The label.
    pub label: &'a Label,
    /// SHA-256 of the certificate or request.
    pub sha256: Sha256Fingerprint,
    /// The files.
    pub publication: &'a Publication,
    /// True if a key waited for it.
    pub answers: bool,
    /// What the ledger records.
    pub record: Record<'a>,
}

impl Change<'_> {
    /// As the journal holds it.
    pub fn work(&self) -> Work {
        Work::Publish {
            what: self.what,
            label: self.label.clone(),
            tag: self.sha256.short().to_owned(),
            sha256: self.sha256,
            folder: self.publication.folder.clone().into(),
            names: self.publication.documents.iter().map(|d| d.name.to_owned()).collect(),
            answers: self.answers,
        }
    }
}

impl Env {
    /// The surroundings of a run on a machine.
    pub fn new(machine: Machine, now: Timestamp, dry_run: bool, caller: Arc<dyn Interact>) -> Env {
        Env {
            machine,
            now,
            dry_run,
            caller,
            enroller: None,
            held: Arc::default(),
            tokens: Arc::default(),
            applying: Arc::default(),
        }
    }

    /// The same run on the file system of an image.
    #[must_use]
    pub fn in_image(&self, root: PathBuf) -> Env {
        Env { machine: self.machine.image(root), ..self.clone() }
    }

    /// The same run with the ledger that a file names, where nothing else names one.
    #[must_use]
    pub fn with_ledger(&self, address: &str) -> Env {
        Env { machine: self.machine.clone().with_ledger(address), ..self.clone() }
    }

    /// The same run with somebody who asks services for certificates.
    #[must_use]
    pub fn asking(self, enroller: Arc<dyn Enroller>) -> Env {
        Env { enroller: Some(enroller), ..self }
    }

    /// The same surroundings at another time: a service runs for longer than a moment.
    #[must_use]
    pub fn at(&self, now: Timestamp) -> Env {
        Env { now, ..self.clone() }
    }

    /// The files of the machine.
    pub fn disk(&self) -> &dyn Disk {
        self.machine.disk()
    }

    /// What must stand before a command that changes the machine's stores: `sudo ` or nothing.
    pub fn raise(&self) -> &'static str {
        if self.machine.has_rights() { "" } else { "sudo " }
    }

    /// From now on steps on the machine's own paths go through sudo, doas or pkexec, where they need root privileges.
    ///
    /// Errors: none of the three is installed.
    pub fn elevate(&self) -> Result<()> {
        if !self.machine.acts_as_root() {
            self.machine.raise_through(raise::find(&self.machine)?);
        }
        Ok(())
    }

    /// Asks before a step that cannot be undone. `question` is a sentence without its question mark; `step` names the step in an
    /// error, such as "revoking charts.saltmarsh.test".
    ///
    /// Errors: the caller declines, or cannot be asked.
    pub fn confirm_irrevocable(&self, step: &str, question: &str) -> Result<()> {
        match self.caller.confirm(Question::Other(question)) {
            Some(true) => Ok(()),
            Some(false) => Err(Error::Declined { what: step.to_owned() }.into()),
            None => Err(Error::Unconfirmed { what: step.to_owned() }.into()),
        }
    }

    /// The directory of an authority.
    pub fn authority_directory(&self, label: &str) -> PathBuf {
        self.machine.data().join("authorities").join(label)
    }

    /// Locks the data directory, opens the ledger, and finishes or undoes what interrupted work left, and reports it. Where this
    /// run holds the lock already, it is the same one.
    ///
    /// Errors: the lock is held for too long by another run; the ledger cannot be opened.
    pub fn open_for_change(&self) -> Result<(Arc<Lock>, Box<dyn Ledger>)> {
        let held = self.held.lock().unwrap_or_else(|e| e.into_inner()).upgrade();
        if let Some(lock) = held {
            return Ok((lock, self.machine.ledgers().open(self.machine.data())?));
        }
        places::refuse_if_open(&self.machine)?;
        let lock = Arc::new(self.disk().lock(self.machine.data())?);
        let ledger = self.machine.ledgers().open(self.machine.data())?;
        self.recover(&*ledger)?;
        *self.held.lock().unwrap_or_else(|e| e.into_inner()) = Arc::downgrade(&lock);
        Ok((lock, ledger))
    }

    /// Takes the lock of `apply` for the whole run, and then that of changes.
    ///
    /// Errors: as for [`Env::open_for_change`].
    pub fn open_for_apply(&self) -> Result<(Lock, Arc<Lock>)> {
        places::refuse_if_open(&self.machine)?;
        let apply = self.disk().lock_apply(self.machine.data())?;
        self.applying.store(true, Ordering::Relaxed);
        Ok((apply, self.open_for_change()?.0))
    }

    /// Does something for which the data directory must not stay locked: a program of the user's may call Tamga itself.
    ///
    /// Errors: the lock cannot be taken again.
    pub fn unlocked<T>(&self, work: impl FnOnce() -> T) -> Result<T> {
        let held = self.held.lock().unwrap_or_else(|e| e.into_inner()).upgrade();
        match held {
            Some(lock) => Ok(lock.pause(work)?),
            None => Ok(work()),
        }
    }

    fn recover(&self, ledger: &dyn Ledger) -> Result<()> {
        let another = !self.applying.load(Ordering::Relaxed) && self.disk().is_applying(self.machine.data());
        for line in recover::recover(ledger, &self.machine, self.now, another)? {
            self.caller.note(&line);
        }
        Ok(())
    }

    /// The ledger if there is one: looking makes nothing.
    ///
    /// Errors: it cannot be opened.
    pub fn open_to_look(&self) -> Result<Option<Box<dyn Ledger>>> {
        Ok(self.machine.ledgers().open_existing(self.machine.data())?)
    }

    /// The same for what the ledger only adds to: one that cannot be reached is said, and left out.
    ///
    /// Errors: it cannot be opened for another reason.
    pub fn open_to_look_if_reachable(&self) -> Result<Option<Box<dyn Ledger>>> {
        match self.machine.ledgers().open_existing(self.machine.data()) {
            Err(e @ HostError::LedgerUnreachable { .. }) => {
                self.caller.note(&format!("{}: what it knows is left out ({})", e.what(), e.why()));
                Ok(None)
            }
            found => Ok(found?),
        }
    }

    /// Every authority of the ledger.
    ///
    /// Errors: the ledger cannot be read.
    pub fn authorities(&self) -> Result<Vec<Authority>> {
        Ok(match self.open_to_look()? {
            Some(ledger) => ledger.authorities()?,
            None => Vec::new(),
        })
    }

    /// Puts files in place under the journal: one durable commit before, the files, the row away.
    pub fn publish(&self, ledger: &dyn Ledger, change: &Change<'_>) -> Result<()> {
        self.publish_with(ledger, change, &[]).map(|_| ())
    }

    /// The same with further work begun in the same commit; returns its ids.
    pub fn publish_with(&self, ledger: &dyn Ledger, change: &Change<'_>, further: &[&Work]) -> Result<Vec<i64>> {
        let work = change.work();
        let mut all = vec![(&work, &change.record)];
        all.extend(further.iter().map(|w| (*w, &Record::Nothing)));
        let ids = ledger.begin_all(&all, self.now)?;
        if let Err(e) = self.disk().publish(change.publication, change.sha256.short()) {
            // Undone at once; if even that fails, the next run finds the journal's row.
            self.recover(ledger)?;
            return Err(e.into());
        }
        if change.answers {
            self.disk().remove(&change.publication.folder.join(REQUEST_FILE))?;
        }
        ledger.finish(ids[0], &work)?;
        Ok(ids[1..].to_vec())
    }
}
