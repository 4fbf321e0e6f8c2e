//! Which stores are meant, and whose roots are found in them.

use super::row::Row;
use crate::env::Env;
use crate::failure::Result;
use std::path::{Path, PathBuf};
use tamga_core::ca::report::Authority;
use tamga_core::pki::format::pem;
use tamga_core::stores::InScope;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Blocker, Root, Scope, Store, StoreLocation};
use tamga_host::ledger::Ledger;

/// The stores that are meant.
#[derive(Clone, Default)]
pub struct Choice {
    /// Whose stores, where none is named.
    pub scope: InScope,
    /// Exactly these.
    pub named: Vec<&'static dyn Store>,
    /// PEM bundles, absolute: each is a place of the store `bundle`.
    pub bundles: Vec<PathBuf>,
}

impl std::fmt::Debug for Choice {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{:?} {:?} {:?}", self.scope, self.named_ids(), self.bundles)
    }
}

impl Choice {
    /// The named stores, by their ids.
    pub fn named(ids: &[StoreId]) -> Vec<&'static dyn Store> {
        ids.iter().flat_map(|id| trust::by_id(*id)).collect()
    }

    /// The ids of the named ones.
    pub fn named_ids(&self) -> Vec<StoreId> {
        self.named.iter().map(|s| s.id()).collect()
    }

    /// All that are meant.
    pub fn stores(&self) -> Vec<&'static dyn Store> {
        if !self.named.is_empty() {
            return self.named.clone();
        }
        let in_scope = |s: &&'static dyn Store| {
            self.scope.has(s.scope()) || (s.id() == StoreId::Bundle && !self.bundles.is_empty())
        };
        trust::ALL.iter().copied().filter(in_scope).collect()
    }

    /// The bundles that are named, with those known from earlier runs where the choice does not leave bundles out.
    ///
    /// Errors: the ledger cannot be read.
    pub(crate) fn bundles_here(&self, env: &Env, in_image: bool) -> Result<Vec<PathBuf>> {
        let is_meant = match self.named.is_empty() {
            true => self.scope.has(Scope::User),
            false => self.bundles.is_empty() && self.named.iter().any(|s| s.id() == StoreId::Bundle),
        };
        // The ledger is of this machine, not of the image.
        let ledger = if is_meant && !in_image { env.open_to_look()? } else { None };
        bundles(env, ledger.as_deref(), &self.bundles)
    }

    /// True if a store of this id and scope is meant.
    pub fn has(&self, id: StoreId, scope: Scope) -> bool {
        if self.named.is_empty() { self.scope.has(scope) } else { self.named.iter().any(|s| s.id() == id) }
    }

    /// Rows for stores that were named and have no place here.
    pub fn without_place(&self, env: &Env, root: &Root, rows: &[Row]) -> Vec<Row> {
        let mut out: Vec<Row> = Vec::new();
        for store in &self.named {
            if rows.iter().chain(&out).any(|r| r.store == store.id()) {
                continue;
            }
            // A bundle is a file that is named; every other store is the system's or a client's.
            let (why, remedy) = match store.id() {
                StoreId::Bundle => ("no bundle was named", "name the file: --bundle FILE"),
                _ => ("this system has no such store", "tamga trust status shows those that are here"),
            };
            let hindrance = Blocker { why: why.into(), remedy: remedy.into(), absent: true };
            let (place, entries) = ("none".into(), Vec::new());
            let place = StoreLocation { store: store.id(), place, hindrance: Some(hindrance), entries, guarded: false };
            out.push(Row::found(env.now, *store, root, &place));
        }
        out
    }
}

/// The bundles that are named, and those that earlier runs put a root into and that are still there: whatever takes a root out or
/// replaces it must reach them too.
///
/// Errors: the ledger cannot be read.
pub(crate) fn bundles(env: &Env, ledger: Option<&dyn Ledger>, named: &[PathBuf]) -> Result<Vec<PathBuf>> {
    let mut out = named.to_vec();
    if let Some(ledger) = ledger {
        let added = ledger.of_kind("trust-added")?.into_iter().map(|e| PathBuf::from(e.detail));
        out.extend(added.filter(|p| p.is_absolute() && holds_certificates(env, p)));
    }
    out.sort();
    out.dedup();
    Ok(out)
}

/// True for a file with certificates in PEM, which a bundle is: the place of a policy and the store of a JVM are files too.
fn holds_certificates(env: &Env, path: &Path) -> bool {
    env.disk().is_file(path) && env.disk().read(path).is_ok_and(|bytes| !pem::certificates(&bytes).is_empty())
}

/// Roots that have our mark or are in the ledger, wherever they are found in a place; true for those of the ledger.
pub fn ours_in(place: &StoreLocation, authorities: &[Authority], leaves: &[Root]) -> Vec<(Root, bool)> {
    let mut out: Vec<(Root, bool)> = Vec::new();
    for e in &place.entries {
        let is_its = |a: &&Authority| a.certificate == e.certificate || a.earlier.contains(&e.certificate);
        let known = authorities.iter().find(is_its);
        let marked = e.mark.as_deref().and_then(|m| trust::label_of_mark(m, &e.certificate));
        let own = leaves.iter().find(|l| l.certificate == e.certificate);
        let (root, is_known) = match (own, known, marked) {
            (Some(own), ..) => (own.clone(), true),
            (None, Some(a), _) => (Root { label: a.label.clone(), certificate: e.certificate.clone() }, true),
            (None, None, Some(m)) => (Root { label: m, certificate: e.certificate.clone() }, false),
            (None, None, None) => continue,
        };
        if !out.iter().any(|(r, _)| r.certificate == root.certificate) {
            out.push((root, is_known));
        }
    }
    out
}
