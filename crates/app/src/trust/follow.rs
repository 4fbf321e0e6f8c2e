//! A root that follows another: into the places where that one stands, or out of all of them.

use super::perform::Task;
use super::row::Row;
use super::stores::ours_in;
use crate::env::Env;
use crate::failure::Result;
use crate::interact::Question;
use crate::report::Outcome;
use std::path::PathBuf;
use tamga_core::ca::report::Authority;
use tamga_core::stores::trust::{self, Goal, Root, Store, StoreLocation};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::ledger::Ledger;

/// Every place in which a certificate stands that is this authority's: its present root or an earlier one.
fn places(env: &Env, a: &Authority, bundles: &[PathBuf]) -> Vec<(&'static dyn Store, StoreLocation)> {
    let is_its = |root: &Root| root.certificate == a.certificate || a.earlier.contains(&root.certificate);
    let mut out: Vec<(&'static dyn Store, StoreLocation)> = Vec::new();
    for store in trust::ALL {
        for place in store.survey(&env.machine, bundles) {
            if ours_in(&place, std::slice::from_ref(a), &[]).iter().any(|(root, _)| is_its(root)) {
                out.push((*store, place));
            }
        }
    }
    out
}

fn root(a: &Authority) -> Root {
    Root { label: a.label.clone(), certificate: a.certificate.clone() }
}

/// An older root of the same name that stays in a place beside the new one: a client that finds both may take the wrong one.
#[derive(Clone, Debug)]
pub struct Older {
    /// Its mark.
    pub mark: String,
    /// The place.
    pub place: PathBuf,
    /// The label of the new one.
    pub new: Label,
}

/// Takes older roots of the same name that are Tamga's out of the places where the new one stands now, if the caller says yes.
pub(super) fn remove_older(
    env: &Env,
    ledger: &dyn Ledger,
    stores: &[&'static dyn Store],
    new: &Root,
    authorities: &[Authority],
    bundles: &[PathBuf],
) -> Result<(Vec<Row>, Vec<Older>)> {
    let task = Task { env, ledger, bundles };
    let (mut rows, mut kept) = (Vec::new(), Vec::new());
    for store in stores {
        for place in store.survey(&env.machine, bundles) {
            if !place.entries.iter().any(|e| e.certificate == new.certificate && e.trusted) {
                continue;
            }
            let same = |r: &Root| {
                r.certificate != new.certificate
                    && tamga_core::pki::cert::subject::same(&r.certificate.subject, &new.certificate.subject)
            };
            for (old, _) in ours_in(&place, authorities, &[]).into_iter().filter(|(r, _)| same(r)) {
                let question = format!(
                    "an older root of the same name, {}, is installed in {}: take it out",
                    old.mark(),
                    place.place.shown()
                );
                if env.caller.confirm(Question::Other(&question)) == Some(true) {
                    rows.push(task.at(*store, &old, &task.look_again(*store, &place), Goal::Remove)?);
                } else {
                    kept.push(Older { mark: old.mark(), place: place.place.clone(), new: new.label.clone() });
                }
            }
        }
    }
    Ok((rows, kept))
}

/// Puts the present root where an earlier one stands, and takes the earlier one out. First in, then out: nobody is left without.
///
/// Errors: the ledger cannot be written.
pub fn swap(env: &Env, ledger: &dyn Ledger, a: &Authority, bundles: &[PathBuf]) -> Result<Vec<Row>> {
    let task = Task { env, ledger, bundles };
    let mut rows = Vec::new();
    for (store, place) in places(env, a, bundles) {
        let row = task.at(store, &root(a), &place, Goal::Add)?;
        let stands = row.outcome == Outcome::Good;
        rows.push(row);
        if !stands {
            continue;
        }
        for earlier in &a.earlier {
            let place = task.look_again(store, &place);
            if place.entries.iter().any(|e| e.certificate == *earlier) {
                let old = Root { label: a.label.clone(), certificate: earlier.clone() };
                rows.push(task.at(store, &old, &place, Goal::Remove)?);
            }
        }
    }
    Ok(rows)
}

/// Puts a successor beside the old root, wherever that one stands.
///
/// Errors: the ledger cannot be written.
pub fn add_beside(
    env: &Env,
    ledger: &dyn Ledger,
    old: &Authority,
    new: &Authority,
    bundles: &[PathBuf],
) -> Result<Vec<Row>> {
    let task = Task { env, ledger, bundles };
    places(env, old, bundles).into_iter().map(|(store, place)| task.at(store, &root(new), &place, Goal::Add)).collect()
}

/// Takes an authority's root, present and earlier, out of every place.
///
/// Errors: the ledger cannot be written.
pub fn remove_everywhere(env: &Env, ledger: &dyn Ledger, a: &Authority, bundles: &[PathBuf]) -> Result<Vec<Row>> {
    let task = Task { env, ledger, bundles };
    let mut rows = Vec::new();
    for (store, place) in places(env, a, bundles) {
        for certificate in a.earlier.iter().chain([&a.certificate]) {
            let place = task.look_again(store, &place);
            if place.entries.iter().any(|e| e.certificate == *certificate) {
                let one = Root { label: a.label.clone(), certificate: certificate.clone() };
                rows.push(task.at(store, &one, &place, Goal::Remove)?);
            }
        }
    }
    Ok(rows)
}
