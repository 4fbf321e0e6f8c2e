//! Which root is in which store.

use super::root::Which;
use super::row::Row;
use super::stores::{Choice, ours_in};
use super::{exceptions, image, leaf};
use crate::env::Env;
use crate::failure::Result;
use crate::report::{self, Outcome};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::report::{Authority, KeyPlace};
use tamga_core::finding::Finding;
use tamga_core::stores::trust::{self, Root, State, Store};

/// Which roots and stores.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The root; None for all of them.
    pub root: Option<Which>,
    /// The stores that should have it.
    pub stores: Choice,
    /// True if only stores of that scope are looked into; else the scope says only which of them should have the root.
    pub is_scope_typed: bool,
    /// The file system of an image instead of this machine's.
    pub sysroot: Option<PathBuf>,
}

/// The roots in the stores.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// Every root in every place.
    #[serde(rename = "stores")]
    pub rows: Vec<Row>,
    /// Marks of roots that are in a store, but not in the ledger.
    pub leftovers: Vec<String>,
    /// What browsers and settings remember besides.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// True if there is no root at all.
    #[serde(skip)]
    pub is_empty: bool,
    /// True if a root in use is absent from a store that should have it.
    #[serde(skip)]
    pub is_lacking: bool,
}

impl Report {
    /// Bad if a root in use is absent from a store that should have it.
    pub fn outcome(&self) -> Outcome {
        if self.is_lacking { Outcome::Bad } else { Outcome::Good }
    }
}

/// Looks into the stores.
///
/// Errors: no such root; the ledger cannot be read.
pub fn status(env: &Env, request: &Request) -> Result<Report> {
    let env = &image::of(env, request.sysroot.as_deref())?;
    let all = env.authorities()?;
    let mut meant: Vec<Root> = match &request.root {
        Some(which) => vec![which.root(env, &all, None, &[], &[])?],
        None => {
            let roots = all.iter().filter(|a| a.is_root());
            roots.map(|a| Root { label: a.label.clone(), certificate: a.certificate.clone() }).collect()
        }
    };
    let stores =
        Choice { bundles: request.stores.bundles_here(env, request.sysroot.is_some())?, ..request.stores.clone() };
    let wanted = stores.stores();
    let is_open = request.stores.named.is_empty() && request.sysroot.is_none() && !request.is_scope_typed;
    let looked_into: Vec<&'static dyn Store> = if is_open { trust::ALL.to_vec() } else { wanted.clone() };
    let leaves = leaf::own(env)?;
    let mut leftovers = Vec::new();
    let mut surveys = Vec::new();
    for store in looked_into {
        for place in store.survey(&env.machine, &stores.bundles) {
            for (root, known) in ours_in(&place, &all, &leaves) {
                let is_new = request.root.is_none() && !meant.iter().any(|m| m.certificate == root.certificate);
                let is_leaf = known && !is_of(&all, &root);
                if is_new && (is_leaf || !known) {
                    if !known {
                        leftovers.push(root.mark());
                    }
                    meant.push(root);
                }
            }
            surveys.push((store, place));
        }
    }
    let found =
        surveys.iter().flat_map(|(store, place)| meant.iter().map(|root| Row::found(env.now, *store, root, place)));
    let mut rows: Vec<Row> = found.collect();
    // Stores that were named, but that this system does not have at all.
    if request.stores.named.iter().any(|s| !rows.iter().any(|r| r.store == s.id()))
        && let Some(root) = meant.first()
    {
        let which = request.root.clone().unwrap_or_default();
        let root = which.root(env, &all, None, &[], &[]).unwrap_or_else(|_| root.clone());
        rows.extend(request.stores.without_place(env, &root, &rows));
    }
    let is_lacking = rows.iter().any(|r| {
        wanted.iter().any(|s| s.id() == r.store)
            && !matches!(r.state, State::Present | State::Unavailable)
            && all.iter().any(|a| !a.retired && a.key != KeyPlace::Discarded && a.certificate.sha256() == r.sha256)
    });
    let findings = match request.sysroot {
        // Whosever exceptions and variables they are: not the image's.
        Some(_) => Vec::new(),
        None => exceptions::findings(env, &meant)?,
    };
    Ok(Report { rows, leftovers, findings, is_empty: meant.is_empty(), is_lacking })
}

fn is_of(all: &[Authority], root: &Root) -> bool {
    all.iter().any(|a| a.certificate == root.certificate || a.earlier.contains(&root.certificate))
}
