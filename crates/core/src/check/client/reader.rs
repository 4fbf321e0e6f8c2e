//! The contents of the stores: each file, database and certificate is read once for all clients that trust it.

use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::nss::{Library, NssEntry, NssFailure};
use crate::plan::ports::Look;
use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::rc::Rc;

/// What a database said.
type Database = Result<Rc<[NssEntry]>, NssFailure>;

/// Reads for one run.
pub(super) struct Reader<'a> {
    /// The machine.
    pub(super) look: &'a dyn Look,
    files: RefCell<HashMap<PathBuf, Option<Rc<[Certificate]>>>>,
    /// By its octets: the same root is in many files.
    certificates: RefCell<HashMap<Vec<u8>, Option<Certificate>>>,
    databases: RefCell<Vec<(PathBuf, Library, Database)>>,
}

impl<'a> Reader<'a> {
    /// For this machine.
    pub(super) fn new(look: &'a dyn Look) -> Reader<'a> {
        Reader { look, files: RefCell::default(), certificates: RefCell::default(), databases: RefCell::default() }
    }

    /// A certificate; None if it is none that holds.
    pub(super) fn certificate(&self, der: &[u8]) -> Option<Certificate> {
        if let Some(known) = self.certificates.borrow().get(der) {
            return known.clone();
        }
        let read = Certificate::read(der, "a root").ok();
        self.certificates.borrow_mut().insert(der.to_vec(), read.clone());
        read
    }

    /// The certificates in a file of PEM; None if there is no such file.
    pub(super) fn file(&self, path: &Path) -> Option<Rc<[Certificate]>> {
        if let Some(known) = self.files.borrow().get(path) {
            return known.clone();
        }
        let read = self.look.read(path).map(|bytes| {
            pem::certificates(&bytes).iter().filter_map(|der| self.certificate(der)).collect::<Rc<[Certificate]>>()
        });
        self.files.borrow_mut().insert(path.to_owned(), read.clone());
        read
    }

    /// What a database trusts and distrusts.
    ///
    /// Errors: the library is missing, or refuses the database.
    pub(super) fn database(&self, folder: &Path, library: &Library) -> Database {
        if let Some((.., known)) = self.databases.borrow().iter().find(|(f, l, _)| f == folder && l == library) {
            return known.clone();
        }
        let read = self.look.nss_trust(folder, library).map(Rc::from);
        self.databases.borrow_mut().push((folder.to_owned(), library.clone(), read.clone()));
        read
    }
}

/// Adds those that are not there yet.
pub(super) fn add(to: &mut Vec<Certificate>, more: impl Iterator<Item = Certificate>) {
    // Of one reader the same octets are the same object.
    let mut there: HashSet<*const u8> = to.iter().map(|c| c.der().as_ptr()).collect();
    to.extend(more.filter(|c| there.insert(c.der().as_ptr())));
}
