//! Certificates as the file says: issued, renewed, put right.

use super::{Change, Run, What};
use crate::certificate::issue::{self, Issuer, Terms};
use crate::certificate::{issue_list, renew};
use crate::enroll;
use crate::failure::Result;
use crate::secret::NewSecret;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::list_file::Entry;
use tamga_core::ca::report::{Authority, Issued};
use tamga_core::deploy::lab::file::Certificate as Wanted;
use tamga_core::deploy::lab::service::Service;
use tamga_core::deploy::lab::{Todo, compare};
use tamga_core::pki::format::pem;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::ledger::stored_path::StoredPath;
use tamga_host::ledger::{Ledger, Origin};

impl Run<'_> {
    /// Returns the labels that are new or were renewed.
    pub(super) fn certificates(&mut self) -> Result<BTreeSet<Label>> {
        let ledger = self.env.open_to_look()?;
        let known = ledger.as_ref().map_or_else(|| Ok(Vec::new()), |l| l.authorities())?;
        let mut todo: Vec<(Wanted, Todo)> = Vec::new();
        for wanted in self.lab.certificates.clone() {
            if !self.is_meant(wanted.label.as_str()) {
                continue;
            }
            let is = ledger.as_ref().map(|l| l.current(wanted.label.as_str())).transpose()?.flatten();
            let mut differs = compare(&wanted, is.as_ref(), &known, self.env.now);
            if differs.is_none()
                && let Some(is) = &is
                && !self.env.disk().exists(&is.folder.join(KEY_FILE))
            {
                let why = format!("its private key is gone from {}", is.folder.shown());
                differs = Some(Todo::Renew { add: vec![], drop: vec![], algorithm: None, issuer: None, why });
            }
            if let (None, Some(is), Some(ledger)) = (&differs, &is, &ledger) {
                differs = self.elsewhere(&**ledger, &wanted, is)?;
            }
            match differs {
                Some(differs) => todo.push((wanted, differs)),
                None => self.standing.extend(is),
            }
        }
        drop(ledger);
        self.put_right(&known)?;
        let mut changed = BTreeSet::new();
        let new: Vec<&Wanted> = todo.iter().filter(|(_, t)| *t == Todo::Issue).map(|(w, _)| w).collect();
        self.issue(&new, &mut changed);
        for (wanted, t) in todo {
            let label = wanted.label.clone();
            match t {
                Todo::Issue => {}
                Todo::Impossible { why, remedy } => self.lacking(What::Certificate, label, why, Some(remedy)),
                Todo::Renew { add, drop, algorithm, issuer, why } => {
                    let request = renew::Request {
                        labels: vec![label.clone()],
                        change: tamga_core::ca::renew::Change { add, drop, valid_for: None },
                        key_algorithm: algorithm,
                        issuer,
                        secret: self.request.secret.clone(),
                        ..renew::Request::default()
                    };
                    let done = match self.env.dry_run {
                        true => Ok(()),
                        false => self.settle(&wanted).and_then(|()| renew::renew(self.env, &request).map(drop_it)),
                    };
                    match done {
                        Ok(()) => {
                            self.row(What::Certificate, label.clone(), Change::Renewed, why);
                            changed.insert(label.clone());
                        }
                        Err(e) => self.failed(What::Certificate, label, &e),
                    }
                }
            }
        }
        Ok(changed)
    }

    /// What is to be done about where a certificate comes from: its chain is not in the ledger, so it cannot be put right from there; the file
    /// may name another service, whose settings count from now on.
    fn elsewhere(&self, ledger: &dyn Ledger, wanted: &Wanted, is: &Issued) -> Result<Option<Todo>> {
        let again = |why: String| Some(Todo::Renew { add: vec![], drop: vec![], algorithm: None, issuer: None, why });
        let before = ledger.origin(&is.label)?;
        let Some(service) = &wanted.from else {
            return Ok(before.map(|origin| Todo::Impossible {
                why: format!("it came from {}, and the file names no service", origin.from),
                remedy: "give it another label, or name the service: from = \"…\"".into(),
            }));
        };
        if before.is_none_or(|b| b.from != service.url) {
            return Ok(again(format!("it is to come from {}", service.url)));
        }
        let file = is.folder.join(CERTIFICATE_FILE);
        let first = self.env.disk().read(&file).map(|b| pem::certificates(&b).into_iter().next()).unwrap_or_default();
        let is_changed = first.as_deref() != Some(is.certificate.der());
        Ok(is_changed.then(|| again(format!("{} was not what was issued", file.shown()))).flatten())
    }

    /// From now on it comes from the service that the file names, with the settings that are there.
    fn settle(&self, wanted: &Wanted) -> Result<()> {
        let Some(service) = &wanted.from else { return Ok(()) };
        let settings = enroll::whole(&from_service(wanted, service, self.base()).origin)?;
        let (_lock, ledger) = self.env.open_for_change()?;
        let before = ledger.origin(&wanted.label)?.filter(|o| o.from == settings.from).unwrap_or_default();
        Ok(ledger.set_origin(&wanted.label, &Origin { order: before.order, waiting: before.waiting, ..settings })?)
    }

    /// The chain in a certificate's own directory is what was issued; overwritten, it is put right from the ledger.
    fn put_right(&mut self, known: &[Authority]) -> Result<()> {
        for i in self.standing.clone() {
            let file = i.folder.join(CERTIFICATE_FILE);
            let first =
                self.env.disk().read(&file).map(|b| pem::certificates(&b).into_iter().next()).unwrap_or_default();
            if first.as_deref() == Some(i.certificate.der()) {
                continue;
            }
            let above = known.iter().find(|a| Some(&a.label) == i.authority.as_ref());
            let rest = above.map(Authority::served_with).unwrap_or_default();
            let text: String = std::iter::once(&i.certificate)
                .chain(&rest)
                .map(|c| pem::write(pem::CERTIFICATE, c.der()).to_string())
                .collect();
            if !self.env.dry_run {
                self.env.disk().write_whole(&file, text.as_bytes(), 0o644)?;
            }
            let why = format!("{} was not what was issued", file.shown());
            self.row(What::Certificate, i.label, Change::PutRight, why);
        }
        Ok(())
    }

    /// Those that ask for the same terms are issued in one go.
    fn issue(&mut self, new: &[&Wanted], changed: &mut BTreeSet<Label>) {
        let mut groups: Vec<Vec<&Wanted>> = Vec::new();
        for wanted in new {
            // What is for a server may come in its own form, one by one.
            let alike = |g: &&mut Vec<&Wanted>| {
                wanted.server.is_none() && wanted.from.is_none() && have_same_terms(g[0], wanted)
            };
            match groups.iter_mut().find(alike) {
                Some(group) => group.push(wanted),
                None => groups.push(vec![wanted]),
            }
        }
        for group in groups {
            let done = if self.env.dry_run { Ok(()) } else { self.issue_group(&group) };
            for wanted in group {
                let label = wanted.label.clone();
                match &done {
                    Ok(()) => {
                        self.row(What::Certificate, &label, Change::Issued, "there was none");
                        changed.insert(label);
                    }
                    Err(e) => self.failed(What::Certificate, label, e),
                }
            }
        }
    }

    fn issue_group(&self, group: &[&Wanted]) -> Result<()> {
        let (terms, secret, new_secret) = (terms(group[0]), self.request.secret.clone(), NewSecret::default());
        if let [wanted] = group {
            if let Some(service) = &wanted.from {
                return enroll::issue(self.env, &from_service(wanted, service, self.base())).map(drop_it);
            }
            let request = issue::Request {
                names: wanted.names.clone(),
                label: Some(wanted.label.clone()),
                into: Some(self.base().join(wanted.label.as_str())),
                key_file: None,
                terms,
                secret,
                new_secret,
            };
            return issue::issue(self.env, &request).map(drop_it);
        }
        let entries = group.iter().map(|w| Entry { names: w.names.clone(), label: w.label.clone() }).collect();
        let into = Some(self.base().to_owned());
        let request = issue_list::Request { entries, into, terms, secret, new_secret };
        issue_list::issue_list(self.env, &request).map(drop_it)
    }
}

/// The request for a certificate from a service.
fn from_service(wanted: &Wanted, service: &Service, base: &Path) -> enroll::Request {
    let path = |p: &Option<PathBuf>| p.clone().map(StoredPath);
    enroll::Request {
        names: wanted.names.clone(),
        label: Some(wanted.label.clone()),
        into: Some(base.join(wanted.label.as_str())),
        key_algorithm: wanted.key_algorithm.or_else(|| wanted.server.and_then(|s| s.key(None).ok())),
        origin: Origin {
            from: service.url.clone(),
            challenge: service.challenge.map(|c| c.word().to_owned()),
            challenge_dir: path(&service.challenge_dir),
            challenge_listen: service.challenge_listen.clone(),
            dns_update: service.dns_update,
            dns_key_file: path(&service.dns_key_file),
            anchor: path(&service.anchor),
            contact: service.contact.clone(),
            agreed: service.agreed,
            profile: service.profile.clone(),
            ..Origin::default()
        },
        invitation: service.invitation.clone(),
        ..enroll::Request::default()
    }
}

fn terms(wanted: &Wanted) -> Terms {
    Terms {
        issuer: wanted.issuer.as_ref().map_or(Issuer::Default, |i| Issuer::Named(i.clone())),
        server: wanted.server,
        purposes: wanted.purposes.clone(),
        key_algorithm: wanted.key_algorithm,
        valid_for: wanted.valid_for,
        not_before: wanted.not_before,
        ..Terms::default()
    }
}

fn have_same_terms(a: &Wanted, b: &Wanted) -> bool {
    a.server.is_none()
        && b.server.is_none()
        && a.from.is_none()
        && b.from.is_none()
        && a.issuer == b.issuer
        && a.purposes == b.purposes
        && a.key_algorithm == b.key_algorithm
        && a.valid_for == b.valid_for
        && a.not_before == b.not_before
}

fn drop_it<T>(_: T) {}
