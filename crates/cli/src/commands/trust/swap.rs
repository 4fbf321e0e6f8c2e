//! A root that follows another: into the places where that one stands, or out of all of them.

use super::{Row, apply, ours_in};
use crate::exit::Result;
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_core::report::Authority;
use tamga_core::text::Shown;
use tamga_core::trust::{self, Goal, Place, Root, Store};
use tamga_host::ledger::Ledger;

type At = (&'static dyn Store, Place);

/// Every place in which a certificate stands that is this authority's: its present root or an earlier one.
fn places(session: &Session, a: &Authority, bundles: &[PathBuf]) -> Vec<At> {
    let is_its = |root: &Root| root.certificate == a.certificate || a.earlier.contains(&root.certificate);
    let mut out: Vec<At> = Vec::new();
    for store in trust::ALL {
        for place in store.survey(&session.machine, bundles) {
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

pub(super) fn again(session: &Session, store: &'static dyn Store, place: &Place, bundles: &[PathBuf]) -> Place {
    let fresh = store.survey(&session.machine, bundles).into_iter().find(|p| p.place == place.place);
    fresh.unwrap_or_else(|| place.clone())
}

/// Older roots of the same name that are Tamga's, in the places where the new one stands now: taken out if the person says so, else
/// told. A client that finds both may take the wrong one.
pub(super) fn older(
    session: &Session,
    ledger: &Ledger,
    stores: &[&'static dyn Store],
    new: &Root,
    authorities: &[Authority],
    bundles: &[PathBuf],
) -> Result<(Vec<Row>, String)> {
    let (mut rows, mut text) = (Vec::new(), String::new());
    for store in stores {
        for place in store.survey(&session.machine, bundles) {
            if !place.entries.iter().any(|e| e.certificate == new.certificate && e.trusted) {
                continue;
            }
            let same = |r: &Root| {
                r.certificate != new.certificate
                    && tamga_core::cert::subject::same(&r.certificate.subject, &new.certificate.subject)
            };
            for (old, _) in ours_in(&place, authorities, &[]).into_iter().filter(|(r, _)| same(r)) {
                let what =
                    format!("an older root of the same name, {}, is installed in {}", old.mark(), place.place.shown());
                if crate::ask::confirm(session, &format!("{what}: take it out?")) == Some(true) {
                    let place = again(session, *store, &place, bundles);
                    rows.push(apply::at(session, ledger, *store, &old, &place, bundles, Goal::Remove)?);
                } else {
                    let do_ = human::dim("do:");
                    text.push_str(&format!(
                        "{} {what}\n  {do_}  tamga trust add {} --yes takes it out\n",
                        human::care("older"),
                        new.label
                    ));
                }
            }
        }
    }
    Ok((rows, text))
}

/// The present root where an earlier one stands, and the earlier one out. First in, then out: nobody is left without.
pub(crate) fn swap(session: &Session, ledger: &Ledger, a: &Authority, bundles: &[PathBuf]) -> Result<Vec<Row>> {
    let mut rows = Vec::new();
    for (store, place) in places(session, a, bundles) {
        let row = apply::at(session, ledger, store, &root(a), &place, bundles, Goal::Add)?;
        let stands = row.code == 0;
        rows.push(row);
        if !stands {
            continue;
        }
        for earlier in &a.earlier {
            let place = again(session, store, &place, bundles);
            if place.entries.iter().any(|e| e.certificate == *earlier) {
                let old = Root { label: a.label.clone(), certificate: earlier.clone() };
                rows.push(apply::at(session, ledger, store, &old, &place, bundles, Goal::Remove)?);
            }
        }
    }
    Ok(rows)
}

/// A successor beside the old root, wherever that one stands.
pub(crate) fn beside(
    session: &Session,
    ledger: &Ledger,
    old: &Authority,
    new: &Authority,
    bundles: &[PathBuf],
) -> Result<Vec<Row>> {
    let mut rows = Vec::new();
    for (store, place) in places(session, old, bundles) {
        rows.push(apply::at(session, ledger, store, &root(new), &place, bundles, Goal::Add)?);
    }
    Ok(rows)
}

/// An authority's root, present and earlier, out of every place.
pub(crate) fn everywhere(session: &Session, ledger: &Ledger, a: &Authority, bundles: &[PathBuf]) -> Result<Vec<Row>> {
    let mut rows = Vec::new();
    for (store, place) in places(session, a, bundles) {
        for certificate in a.earlier.iter().chain([&a.certificate]) {
            let place = again(session, store, &place, bundles);
            if place.entries.iter().any(|e| e.certificate == *certificate) {
                let one = Root { label: a.label.clone(), certificate: certificate.clone() };
                rows.push(apply::at(session, ledger, store, &one, &place, bundles, Goal::Remove)?);
            }
        }
    }
    Ok(rows)
}
