//! Stores, the hosts file and the checks of the file.

use super::{Change, Run, What};
use crate::check::{self, Checked, Terms};
use crate::failure::Result;
use crate::hosts::{self, Verb};
use crate::report::{Answer, Outcome};
use crate::trust::row::Change as InStore;
use crate::trust::stores::Choice;
use crate::trust::{Which, change};
use tamga_core::check::client;
use tamga_core::deploy::lab::file::{Check, Trust};
use tamga_core::finding::Severity;
use tamga_core::stores::trust::Goal;
use tamga_core::vocabulary::text::Shown;

/// The stores of an entry of the file.
pub(super) fn choice(t: &Trust) -> Choice {
    Choice { scope: t.scope, named: t.stores.clone(), bundles: t.bundles.clone() }
}

impl Run<'_> {
    pub(super) fn stores(&mut self) -> Result<()> {
        for t in self.lab.trust.clone() {
            let root = t.root.as_str();
            if self.env.dry_run && !self.env.authorities()?.iter().any(|a| a.label == root) {
                self.row(What::Store, root, Change::Added, "the root is new");
                continue;
            }
            let request = change::Request {
                goal: Goal::Add,
                root: Which::Named(root.to_owned()),
                stores: choice(&t),
                sysroot: None,
                accepted: Vec::new(),
                secret: self.request.secret.clone(),
            };
            match change::change(self.env, &request) {
                Ok(Answer::Done(done)) => {
                    for r in done.rows {
                        let about = format!("{root} {} {}", r.store, r.place.shown());
                        match r.change {
                            InStore::Added => self.row(What::Store, about, Change::Added, r.why.unwrap_or_default()),
                            InStore::Failed => {
                                self.lacking(What::Store, about, r.why.unwrap_or_default(), r.remedy);
                            }
                            InStore::None | InStore::Removed => {}
                        }
                    }
                }
                Ok(Answer::Planned(plan)) => {
                    for p in plan.places.iter().filter(|p| !p.steps.is_empty()) {
                        let about = format!("{root} {} {}", p.store, p.place.shown());
                        self.row(What::Store, about, Change::Added, "it is not there");
                    }
                }
                Err(e) => self.failed(What::Store, root, &e),
            }
        }
        Ok(())
    }

    pub(super) fn hosts(&mut self) {
        if self.lab.hosts.is_empty() {
            return;
        }
        let typed = self.lab.hosts_typed.clone();
        let about = typed.join(" ");
        let request = hosts::Request { verb: Verb::Add, names: self.lab.hosts.clone(), typed, file: None };
        match hosts::hosts(self.env, &request) {
            Ok(Answer::Done(done)) if !done.is_changed => {}
            Ok(_) => self.row(What::Hosts, about, Change::Added, "they were not in the hosts file"),
            Err(e) => self.failed(What::Hosts, about, &e),
        }
    }

    pub(super) fn checks(&mut self) -> Result<()> {
        for c in self.lab.checks.clone() {
            // A file or directory is meant from the file's own directory.
            let beside = self.base().join(&c.target);
            let is_path = !c.target.contains("://") && self.env.disk().exists(&beside);
            let target = if is_path { beside.shown() } else { c.target.clone() };
            let request = check::Request { targets: vec![target], jobs: 1, observe: false, terms: terms(&c) };
            match check::check(self.env, &request, |checked| checked) {
                Ok(all) => all.iter().for_each(|checked| self.checked(&c.target, checked)),
                Err(e) => self.failed(What::Check, &c.target, &e),
            }
        }
        Ok(())
    }

    fn checked(&mut self, target: &str, checked: &Checked) {
        if checked.ending == Outcome::Good {
            return self.row(What::Check, target, Change::Held, "no client would warn");
        }
        let mut errors: Vec<_> = checked.findings.iter().filter(|f| f.severity == Severity::Error).collect();
        if errors.is_empty() {
            errors = checked.findings.iter().collect();
        }
        let mut whys: Vec<String> = errors.iter().map(|f| format!("{}: {}", f.code.word(), f.summary)).collect();
        whys.dedup();
        if whys.is_empty() {
            let refusing = checked.rows.iter().filter(|r| r.outcome != client::Outcome::Accepts);
            whys = refusing.map(|r| format!("{} {}", r.client.word(), r.outcome.word())).collect();
        }
        let remedy = errors.first().map(|f| f.remedy.clone());
        self.lacking(What::Check, target, whys.join("; "), remedy);
    }
}

fn terms(c: &Check) -> Terms {
    Terms { clients: c.clients.clone(), anchors: c.anchors.clone(), resolve: c.resolve.clone(), ..Terms::default() }
}
