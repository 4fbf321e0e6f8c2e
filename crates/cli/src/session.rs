//! What every command has at hand: the machine, the ledger, the moment, the person's wishes.

use crate::cli::{Common, SecretArgs, StoreArgs};
use crate::exit::Result;
use crate::words::human;
use std::path::{Path, PathBuf};
use tamga_core::authority::{self, KEY_FILE, REQUEST_FILE};
use tamga_core::cert::Certificate;
use tamga_core::error::Error;
use tamga_core::form::pem;
use tamga_core::form::private_key::{self, Stored};
use tamga_core::key::PrivateKey;
use tamga_core::moment::Moment;
use tamga_core::report::Authority;
use tamga_core::step::Publication;
use tamga_host::files::{self, Lock};
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::places::Machine;
use tamga_host::{entropy, places, raise, recover};

/// One run.
pub(crate) struct Session {
    pub(crate) machine: Machine,
    pub(crate) now: Moment,
    pub(crate) common: Common,
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
            folder: self.publication.folder.clone(),
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
        Ok(Session { machine, now: entropy::now(), common })
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

    /// Locks the data folder, opens the ledger, and mends and says what interrupted work left.
    pub(crate) fn open_for_change(&self) -> Result<(Lock, Ledger)> {
        places::refuse_if_open(&self.machine)?;
        let lock = files::lock(self.machine.data())?;
        let ledger = Ledger::open(self.machine.data())?;
        self.recover(&ledger)?;
        Ok((lock, ledger))
    }

    fn recover(&self, ledger: &Ledger) -> Result<()> {
        for line in recover::recover(ledger, self.now)? {
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
        if let Err(e) = files::publish(change.publication, &change.sha256[..8]) {
            // Taken back at once; if even that fails, the next run finds the journal's row.
            self.recover(ledger)?;
            return Err(e.into());
        }
        if change.answers {
            files::remove(&change.publication.folder.join(REQUEST_FILE))?;
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

    /// True if an authority's key is here and needs a passphrase.
    pub(crate) fn is_locked(a: &Authority) -> bool {
        std::fs::read(a.folder.join(KEY_FILE))
            .is_ok_and(|bytes| private_key::is_locked(&zeroize::Zeroizing::new(bytes)))
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
    match std::fs::read(path) {
        Ok(bytes) => Ok(private_key::read(&zeroize::Zeroizing::new(bytes), &path.display().to_string())?),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
            Err(Error::KeyMissing { label: label.to_owned(), path: path.to_owned() }.into())
        }
        Err(e) => Err(tamga_host::error::Error::file("reading", path)(e).into()),
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
        let bytes = std::fs::read(path).map_err(tamga_host::error::Error::file("reading", path))?;
        let what = path.display().to_string();
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
