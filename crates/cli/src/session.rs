//! What every command has at hand: the machine, the ledger, the moment, the person's wishes.

use crate::args::{Common, SecretArgs, StoreArgs};
use crate::exit::Result;
use crate::words::human;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, Weak};
use tamga_core::authority::{self, KEY_FILE, REQUEST_FILE};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::form::pem;
use tamga_core::form::private_key::{self, Stored};
use tamga_core::key::PrivateKey;
use tamga_core::moment::Moment;
use tamga_core::report::Authority;
use tamga_core::secret::Passphrase;
use tamga_core::step::Publication;
use tamga_core::text::Shown;
use tamga_host::fs::{self, Lock};
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::places::Machine;
use tamga_host::{entropy, places, raise, recover};

/// One run. A copy is of the same run: it shares the lock.
#[derive(Clone)]
pub(crate) struct Session {
    pub(crate) machine: Machine,
    pub(crate) now: Moment,
    pub(crate) common: Common,
    /// The data directory's lock while anything of this run holds it: taken once, however many steps need it.
    pub(crate) held: Arc<Mutex<Weak<Lock>>>,
    /// True in a run of `apply`: the deployments under way are its own.
    pub(crate) applying: Arc<AtomicBool>,
}

/// What is put in place, and what the ledger is to know of it.
pub(crate) struct Change<'a> {
    /// `authority`, `reissue`, `certificate` or `request`.
    pub(crate) what: &'a str,
    /// The label.
    pub(crate) label: &'a str,
    /// SHA-256 of the certificate or request.
    pub(crate) sha256: String,
    /// The files.
    pub(crate) publication: &'a Publication,
    /// True if a key waited for it.
    pub(crate) answers: bool,
    /// The record.
    pub(crate) record: Record<'a>,
}

impl Change<'_> {
    /// As the journal holds it.
    pub(crate) fn work(&self) -> Work {
        Work::Publish {
            what: self.what.to_owned(),
            label: self.label.to_owned(),
            tag: self.sha256[..8].to_owned(),
            sha256: self.sha256.clone(),
            folder: self.publication.folder.clone().into(),
            names: self.publication.documents.iter().map(|d| d.name.to_owned()).collect(),
            answers: self.answers,
        }
    }
}

impl Session {
    pub(crate) fn new(common: Common) -> Result<Session> {
        let machine = Machine::from_environment(common.data_dir.clone())?;
        if let Some(p) = &machine.person {
            human::aside(&common, &format!("acting for {}: their data folder and stores, with their rights", p.name));
        }
        let (held, applying) = (Arc::default(), Arc::default());
        Ok(Session { machine, now: entropy::now(), common, held, applying })
    }

    /// What must stand before a command that changes the machine's stores.
    pub(crate) fn raise(&self) -> &'static str {
        use tamga_core::ports::Look;
        if self.machine.has_rights() { "" } else { "sudo " }
    }

    /// Steps on the machine's own paths go through sudo, doas or pkexec from now on, where that is asked for and needed.
    pub(crate) fn elevate(&self, args: &StoreArgs) -> Result<()> {
        if args.elevate && !self.machine.acts_as_root() {
            self.machine.raise_through(raise::find(&self.machine)?);
        }
        Ok(())
    }

    /// The folder of an authority.
    pub(crate) fn authority_folder(&self, label: &str) -> PathBuf {
        self.machine.data().join("authorities").join(label)
    }

    /// Locks the data directory, opens the ledger, and finishes or takes back, and says, what interrupted work left. Where this run
    /// holds the lock already, it is the same one.
    pub(crate) fn open_for_change(&self) -> Result<(Arc<Lock>, Ledger)> {
        let held = self.held.lock().unwrap_or_else(|e| e.into_inner()).upgrade();
        if let Some(lock) = held {
            return Ok((lock, Ledger::open(self.machine.data())?));
        }
        places::refuse_if_open(&self.machine)?;
        let lock = Arc::new(fs::lock(self.machine.data())?);
        let ledger = Ledger::open(self.machine.data())?;
        self.recover(&ledger)?;
        *self.held.lock().unwrap_or_else(|e| e.into_inner()) = Arc::downgrade(&lock);
        Ok((lock, ledger))
    }

    /// Takes the lock of `apply` for the whole run, and then that of changes.
    pub(crate) fn open_for_apply(&self) -> Result<(Lock, Arc<Lock>)> {
        places::refuse_if_open(&self.machine)?;
        let apply = fs::lock_apply(self.machine.data())?;
        self.applying.store(true, Ordering::Relaxed);
        Ok((apply, self.open_for_change()?.0))
    }

    /// Does something for which the data directory must not stay locked: a program of the person's may call Tamga itself.
    pub(crate) fn unlocked<T>(&self, work: impl FnOnce() -> T) -> Result<T> {
        let held = self.held.lock().unwrap_or_else(|e| e.into_inner()).upgrade();
        match held {
            Some(lock) => Ok(lock.pause(work)?),
            None => Ok(work()),
        }
    }

    fn recover(&self, ledger: &Ledger) -> Result<()> {
        let another = !self.applying.load(Ordering::Relaxed) && fs::is_applying(self.machine.data());
        for line in recover::recover(ledger, &self.machine, self.now, another)? {
            human::aside(&self.common, &line);
        }
        Ok(())
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
    pub(crate) fn publish(&self, ledger: &Ledger, change: &Change<'_>) -> Result<()> {
        self.publish_with(ledger, change, &[]).map(|_| ())
    }

    /// The same with further work begun in the same commit; gives its ids.
    pub(crate) fn publish_with(&self, ledger: &Ledger, change: &Change<'_>, further: &[&Work]) -> Result<Vec<i64>> {
        let work = change.work();
        let mut all = vec![(&work, &change.record)];
        all.extend(further.iter().map(|w| (*w, &Record::Nothing)));
        let ids = ledger.begin_all(&all, self.now)?;
        if let Err(e) = fs::publish(change.publication, &change.sha256[..8]) {
            // Taken back at once; if even that fails, the next run finds the journal's row.
            self.recover(ledger)?;
            return Err(e.into());
        }
        if change.answers {
            fs::remove(&change.publication.folder.join(REQUEST_FILE))?;
        }
        ledger.finish(ids[0], &work)?;
        Ok(ids[1..].to_vec())
    }

    /// The key of an authority that can sign now, opened; it is its own.
    pub(crate) fn authority_key(&self, a: &Authority, secrets: &SecretArgs) -> Result<PrivateKey> {
        authority::can_sign(a)?;
        let stored = stored_key(&a.label, &a.folder.join(KEY_FILE))?;
        own(open(stored, &format!("the key of {}", a.label), secrets)?, &a.certificate, &a.label, &a.folder)
    }

    /// The same, opened with this passphrase.
    pub(crate) fn authority_key_with(&self, a: &Authority, passphrase: &Passphrase) -> Result<PrivateKey> {
        authority::can_sign(a)?;
        let stored = stored_key(&a.label, &a.folder.join(KEY_FILE))?;
        own(stored.open(Some(passphrase))?, &a.certificate, &a.label, &a.folder)
    }

    /// True if an authority's key is here and needs a passphrase.
    pub(crate) fn is_locked(a: &Authority) -> bool {
        fs::read_regular(&a.folder.join(KEY_FILE)).is_ok_and(|bytes| private_key::is_locked(&bytes))
    }
}

/// Opens a key, with its passphrase from the options or a person where it needs one.
pub(crate) fn open(stored: Stored, of: &str, secrets: &SecretArgs) -> Result<PrivateKey> {
    match stored {
        Stored::Open(key) => Ok(key),
        Stored::Locked(locked) => Ok(locked.open(&secrets.needed(of)?)?),
    }
}

/// The key in a file, perhaps locked.
pub(crate) fn stored_key(label: &str, path: &Path) -> Result<Stored> {
    match fs::read_named(path) {
        Ok(bytes) => Ok(private_key::read(&bytes, &path.shown())?),
        Err(tamga_host::error::Error::File { source, .. }) if source.kind() == std::io::ErrorKind::NotFound => {
            Err(Error::KeyMissing { label: label.to_owned(), path: path.to_owned() }.into())
        }
        Err(e) => Err(e.into()),
    }
}

/// Refuses a key that is not the certificate's.
pub(crate) fn own(key: PrivateKey, certificate: &Certificate, label: &str, folder: &Path) -> Result<PrivateKey> {
    if *key.public() != certificate.key {
        return Err(Error::KeyMismatch { label: label.to_owned(), path: folder.join(KEY_FILE) }.into());
    }
    Ok(key)
}

/// The key in a certificate's folder, opened; it is its own.
pub(crate) fn key_of(
    label: &str,
    folder: &Path,
    certificate: &Certificate,
    secrets: &SecretArgs,
) -> Result<PrivateKey> {
    let stored = stored_key(label, &folder.join(KEY_FILE))?;
    own(open(stored, &format!("the key of {label}"), secrets)?, certificate, label, folder)
}

/// Every certificate of some files.
///
/// Errors: a file without any.
pub(crate) fn certificates(files: &[PathBuf]) -> Result<Vec<Certificate>> {
    let mut out = Vec::new();
    for path in files {
        let bytes = fs::read_named(path)?;
        let what = path.shown();
        let ders = pem::certificates(&bytes);
        if ders.is_empty() {
            return Err(Error::Malformed { what, why: "it holds no certificate".into() }.into());
        }
        for der in ders {
            out.push(Certificate::read(&der, &what)?);
        }
    }
    Ok(out)
}
