//! Certificates as the file says: issued, renewed, put right.

use super::typed::{secrets, words};
use super::{Applying, Row};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use std::collections::BTreeSet;
use tamga_core::apply::{Todo, compare};
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::form::pem;
use tamga_core::report::{Authority, Issued};
use tamga_core::text::Shown;
use tamga_host::fs;

impl Applying<'_> {
    /// Gives the labels that are new or were renewed.
    pub(super) fn certificates(&mut self) -> Result<BTreeSet<String>> {
        let (known, standing): (Vec<Authority>, Vec<Issued>) = match self.session.open_to_look()? {
            Some(l) => (l.authorities()?, l.issued(None)?),
            None => Default::default(),
        };
        let mut todo: Vec<(usize, Todo)> = Vec::new();
        let current: std::collections::BTreeMap<&str, &Issued> =
            standing.iter().filter(|i| i.is_live()).map(|i| (i.label.as_str(), i)).collect();
        for i in self.meant() {
            let w = &self.wanted[i];
            let issuer = self.lab.certificate[i].issuer.as_ref().map(|t| t.get_ref().as_str());
            let is = current.get(w.label.as_str()).copied();
            let mut differs = compare(w, issuer, is, &known, self.session.now);
            if differs.is_none()
                && let Some(is) = is
                && !is.folder.join(KEY_FILE).exists()
            {
                let why = format!("its private key is gone from {}", is.folder.shown());
                differs = Some(Todo::Renew { add: vec![], drop: vec![], algorithm: None, issuer: None, why });
            }
            if let Some(is) = is.filter(|_| differs.is_none()) {
                self.certificates.push(is.clone());
            }
            todo.extend(differs.map(|d| (i, d)));
        }
        self.put_right(&known)?;
        let mut changed = BTreeSet::new();
        let new: Vec<usize> = todo.iter().filter(|(_, t)| *t == Todo::Issue).map(|(i, _)| *i).collect();
        self.issue(&new, &mut changed);
        for (i, t) in todo {
            let label = self.wanted[i].label.to_string();
            match t {
                Todo::Issue => {}
                Todo::Impossible { why, remedy } => {
                    self.rows.push(Row {
                        what: "certificate",
                        about: label,
                        change: "failed",
                        why,
                        remedy: Some(remedy),
                    });
                    self.code = exit::worst(self.code, exit::BAD);
                }
                Todo::Renew { add, drop, algorithm, issuer, why } => {
                    let typed = words(&[&label])
                        .each("--add", &add)
                        .each("--drop", &drop)
                        .option_word("--key-algorithm", algorithm.map(|a| a.word().to_owned()))
                        .option_word("--issuer", issuer)
                        .with(secrets(&self.args.secrets));
                    let done = match self.is_dry() {
                        true => Ok(()),
                        false => {
                            typed.parse().and_then(|a| crate::commands::renew::run(self.session, &a)).map(drop_done)
                        }
                    };
                    match done {
                        Ok(()) => {
                            self.row("certificate", &label, "renewed", why);
                            changed.insert(label);
                        }
                        Err(e) => self.failed("certificate", &label, &e),
                    }
                }
            }
        }
        Ok(changed)
    }

    /// The chain in a certificate's own folder is what was issued; overwritten, it is put right from the ledger.
    fn put_right(&mut self, known: &[Authority]) -> Result<()> {
        for i in self.certificates.clone() {
            let file = i.folder.join(CERTIFICATE_FILE);
            let first = fs::read_regular(&file).map(|b| pem::certificates(&b).into_iter().next()).unwrap_or_default();
            if first.as_deref() == Some(i.certificate.der()) {
                continue;
            }
            let above = known.iter().find(|a| Some(&a.label) == i.authority.as_ref());
            let rest = above.map(Authority::served_with).unwrap_or_default();
            let text: String = std::iter::once(&i.certificate)
                .chain(&rest)
                .map(|c| pem::write(pem::CERTIFICATE, c.der()).to_string())
                .collect();
            if !self.is_dry() {
                fs::write_whole(&file, text.as_bytes(), 0o644)?;
            }
            let why = format!("{} was not what was issued", file.shown());
            self.row("certificate", &i.label, "put right", why);
        }
        Ok(())
    }

    /// Those that ask for the same are made in one go.
    fn issue(&mut self, new: &[usize], changed: &mut BTreeSet<String>) {
        let mut groups: Vec<(Vec<String>, Vec<usize>)> = Vec::new();
        for i in new {
            let c = &self.lab.certificate[*i];
            let typed = words(&[])
                .option("--issuer", c.issuer.as_ref())
                .option("--for", c.server.as_ref())
                .list("--purpose", &c.purpose)
                .option("--key-algorithm", c.key_algorithm.as_ref())
                .option("--valid-for", c.valid_for.as_ref())
                .option("--not-before", c.not_before.as_ref())
                .with(secrets(&self.args.secrets))
                .words;
            // A list has no labels of its own, and no server.
            let listed = c.label.is_none() && c.server.is_none();
            match groups.iter_mut().find(|g| listed && g.0 == typed && self.lab.certificate[g.1[0]].label.is_none()) {
                Some(group) => group.1.push(*i),
                None => groups.push((typed, vec![*i])),
            }
        }
        for (typed, group) in groups {
            let done = match (self.is_dry(), group.as_slice()) {
                (true, _) => Ok(()),
                (_, [one]) => {
                    let w = &self.wanted[*one];
                    let names: Vec<String> = w.names.iter().map(ToString::to_string).collect();
                    let typed = words(&[]).with(names).option_word("--label", Some(w.label.to_string())).with(typed);
                    typed.parse().and_then(|a| crate::commands::issue::run(self.session, a)).map(drop_done)
                }
                (_, many) => {
                    let line = |i: &usize| self.wanted[*i].names.iter().map(ToString::to_string).collect::<Vec<_>>();
                    let lines: Vec<String> = many.iter().map(|i| line(i).join(" ")).collect();
                    issue_list(self.session, &lines.join("\n"), typed)
                }
            };
            let labels: Vec<String> = group.iter().map(|i| self.wanted[*i].label.to_string()).collect();
            match done {
                Ok(()) => {
                    for label in labels {
                        self.row("certificate", &label, "issued", "there was none");
                        changed.insert(label);
                    }
                }
                Err(e) => labels.iter().for_each(|l| self.failed("certificate", l, &e)),
            }
        }
    }
}

fn drop_done(_: Done) {}

/// Many certificates by one list, which lives as long as the command.
fn issue_list(session: &Session, lines: &str, typed: Vec<String>) -> Result<()> {
    let folder = tempfile::Builder::new()
        .prefix("tamga-apply-")
        .tempdir()
        .map_err(tamga_host::error::Error::file("making a folder in", &std::env::temp_dir()))?;
    let list = folder.path().join("list");
    fs::write_whole(&list, lines.as_bytes(), 0o600)?;
    let typed = words(&[]).option_word("--list", Some(list.shown())).with(typed);
    crate::commands::issue::run(session, typed.parse()?).map(drop_done)
}
