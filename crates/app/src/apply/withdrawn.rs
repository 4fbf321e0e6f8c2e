//! What an earlier run made for this file and the file lists no more: listed, and withdrawn if asked.

use super::surroundings::choice;
use super::{Change, Run, What};
use crate::authority::retire;
use crate::certificate::revoke::{self, Which};
use crate::failure::Result;
use crate::hosts::{self, Verb};
use crate::report::Answer;
use crate::trust::stores::Choice;
use crate::trust::{self, change};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::path::PathBuf;
use tamga_core::deploy::hosts::Wanted;
use tamga_core::stores::InScope;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::Goal;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::text::Shown;

/// The ledger's word for what a file had applied.
const APPLIED: &str = "applied";

/// What a file had applied, as the ledger remembers it.
#[derive(Clone, Debug, Default, Deserialize, PartialEq, Eq, Serialize)]
#[serde(default)]
struct Applied {
    file: String,
    authorities: BTreeSet<Label>,
    certificates: BTreeSet<Label>,
    trust: BTreeSet<InStores>,
    hosts: BTreeSet<String>,
}

#[derive(Clone, Debug, Deserialize, Eq, Ord, PartialEq, PartialOrd, Serialize)]
struct InStores {
    root: Label,
    #[serde(default)]
    stores: Vec<StoreId>,
    #[serde(default)]
    scope: InScope,
    #[serde(default)]
    bundles: Vec<PathBuf>,
}

impl Run<'_> {
    /// What the file asks for now.
    fn asked(&self) -> Applied {
        let trust = self.lab.trust.iter().map(|t| {
            let choice = choice(t);
            InStores {
                root: t.root.clone(),
                stores: choice.named_ids(),
                scope: choice.scope,
                bundles: t.bundles.clone(),
            }
        });
        Applied {
            file: self.path.shown(),
            authorities: self.lab.authorities.iter().map(|a| a.label.clone()).collect(),
            certificates: self.lab.certificates.iter().map(|c| c.label.clone()).collect(),
            trust: trust.collect(),
            hosts: self.lab.hosts_typed.iter().cloned().collect(),
        }
    }

    /// Compares with what the last run for this file left, lists what is no longer in the file, and with `prune` withdraws it.
    pub(super) fn withdraw(&mut self) -> Result<()> {
        let now = self.asked();
        let before = self.before(&now.file)?;
        // What stays although it is not asked for is remembered, until it is withdrawn.
        let mut left = now.clone();
        if let Some(before) = &before {
            left.hosts.extend(self.withdraw_hosts(before.hosts.difference(&now.hosts).cloned().collect()));
            for t in before.trust.difference(&now.trust) {
                // The same root in other stores: only those that are not asked for any more would be meant.
                if !self.withdraw_root(t)? {
                    left.trust.insert(t.clone());
                }
            }
            for label in before.certificates.difference(&now.certificates) {
                if !self.withdraw_certificate(label)? {
                    left.certificates.insert(label.clone());
                }
            }
            for label in before.authorities.difference(&now.authorities) {
                if !self.withdraw_authority(label)? {
                    left.authorities.insert(label.clone());
                }
            }
        }
        if !self.env.dry_run && before.as_ref() != Some(&left) {
            let detail = serde_json::to_string(&left).unwrap_or_default();
            let (_lock, ledger) = self.env.open_for_change()?;
            ledger.note(self.env.now, APPLIED, "", &detail)?;
        }
        Ok(())
    }

    /// What the last run for a file left.
    fn before(&self, file: &str) -> Result<Option<Applied>> {
        let Some(ledger) = self.env.open_to_look()? else { return Ok(None) };
        let all = ledger.of_kind(APPLIED)?;
        let read = |e: &tamga_host::ledger::Event| serde_json::from_str::<Applied>(&e.detail).ok();
        Ok(all.iter().filter_map(read).rfind(|a| a.file == file))
    }

    /// Lists something that stays, or withdraws it; true if it is gone.
    fn withdrawn(&mut self, what: What, about: &str, withdraw: impl FnOnce(&Self) -> Result<()>) -> bool {
        let why = "no longer in the file";
        if !self.request.prune {
            let remedy = Some(
                "to withdraw what is unlisted: tamga apply --prune; to keep it, put it back into the file".to_owned(),
            );
            let row = super::Row { what, about: about.to_owned(), change: Change::Unlisted, why: why.into(), remedy };
            self.rows.push(row);
            return false;
        }
        if self.env.dry_run {
            self.row(what, about, Change::Withdrawn, why);
            return false;
        }
        match withdraw(self) {
            Ok(()) => {
                self.row(what, about, Change::Withdrawn, why);
                true
            }
            Err(e) => {
                self.failed(what, about, &e);
                false
            }
        }
    }

    fn withdraw_certificate(&mut self, label: &Label) -> Result<bool> {
        let current = self.env.open_to_look()?.map(|l| l.current(label)).transpose()?.flatten();
        // Revoked or expired already: there is nothing to withdraw.
        if !current.is_some_and(|i| i.is_in_force(self.env.now)) {
            return Ok(true);
        }
        Ok(self.withdrawn(What::Certificate, label, |run| {
            let request = revoke::Request {
                label: label.clone(),
                which: Which::Current,
                reason: Reason::CessationOfOperation,
                is_confirmed: true,
            };
            revoke::revoke(run.env, &request).map(drop)
        }))
    }

    fn withdraw_authority(&mut self, label: &Label) -> Result<bool> {
        if !self.env.authorities()?.iter().any(|a| a.label == *label && !a.retired) {
            return Ok(true);
        }
        Ok(self.withdrawn(What::Authority, label, |run| {
            let request = retire::Request {
                label: label.clone(),
                discard_key: false,
                output: None,
                bundles: Vec::new(),
                secret: run.request.secret.clone(),
                is_confirmed: true,
            };
            retire::retire(run.env, &request).map(drop)
        }))
    }

    fn withdraw_root(&mut self, t: &InStores) -> Result<bool> {
        if !self.env.authorities()?.iter().any(|a| a.label == t.root) {
            return Ok(true);
        }
        let place = match t.stores.is_empty() {
            true => format!("the {} stores", t.scope),
            false => t.stores.iter().map(|s| s.word()).collect::<Vec<_>>().join(", "),
        };
        let about = format!("{} in {place}", t.root);
        Ok(self.withdrawn(What::Store, &about, |run| {
            let stores = Choice { scope: t.scope, named: Choice::named(&t.stores), bundles: t.bundles.clone() };
            let request = change::Request {
                goal: Goal::Remove,
                root: trust::Which::Named(t.root.to_string()),
                stores,
                sysroot: None,
                accepted: Vec::new(),
                secret: run.request.secret.clone(),
            };
            change::change(run.env, &request).map(drop)
        }))
    }

    /// Returns the names that stay.
    fn withdraw_hosts(&mut self, typed: Vec<String>) -> Vec<String> {
        let names: Vec<Wanted> = typed.iter().filter_map(|t| Wanted::parse(t).ok()).collect();
        if names.is_empty() {
            return Vec::new();
        }
        let about = typed.join(" ");
        let gone = self.withdrawn(What::Hosts, &about, |run| {
            let request = hosts::Request { verb: Verb::Remove, names, typed: typed.clone(), file: None };
            match hosts::hosts(run.env, &request)? {
                Answer::Done(_) | Answer::Planned(_) => Ok(()),
            }
        });
        if gone { Vec::new() } else { typed }
    }
}
