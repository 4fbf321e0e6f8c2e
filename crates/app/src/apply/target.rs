//! Where servers read their certificates: put there, taken up, seen; or put back.

use super::proofs::shows;
use super::{Change, Run, What};
use crate::certificate::form;
use crate::env::Env;
use crate::failure::Result;
use crate::output::keep_out_of_version_control;
use crate::secret::Secret;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE};
use tamga_core::ca::report::Issued;
use tamga_core::deploy::lab::file::{Content, Target, TargetFile};
use tamga_core::deploy::lab::place::{Found, Recorded, differs};
use tamga_core::error::{Diagnostic, Kind, Stated};
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_host::error;
use tamga_host::fs::File;
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::place::{self, Owner, Through};
use zeroize::Zeroizing;

/// The ledger's word for files that were put where a server reads them.
const PLACED: &str = "placed";

impl Run<'_> {
    pub(super) fn targets(&mut self, changed: &BTreeSet<Label>) -> Result<()> {
        if self.lab.certificates.iter().all(|c| c.targets.is_empty()) {
            return Ok(());
        }
        let looked = self.env.open_to_look()?;
        let base = self.base().to_owned();
        let deploying = Deploying::new(self.env, looked.as_deref(), &self.request.secret, &base)?;
        for wanted in self.lab.certificates.clone() {
            let label = wanted.label.as_str();
            if !self.is_meant(label) {
                continue;
            }
            for target in &wanted.targets {
                let about = format!("{label} {}", named(target));
                if self.env.dry_run && changed.contains(label) {
                    self.row(What::Place, about, Change::Put, "the certificate is new");
                    continue;
                }
                let Some(current) = looked.as_ref().map(|l| l.current(label)).transpose()?.flatten() else { continue };
                match deploying.put(&current, target) {
                    Ok(None) => {}
                    Ok(Some(why)) => self.row(What::Place, about, Change::Put, why),
                    Err(e) => self.failed(What::Place, about, &e),
                }
            }
        }
        Ok(())
    }
}

/// What a target is called in words.
fn named(target: &Target) -> String {
    let file = target.files.last().map(|f| f.path.shown()).unwrap_or_default();
    match target.through.last() {
        Some(host) => format!("in {file} on {host}"),
        None => format!("in {file}"),
    }
}

/// A change that the server did not take, and whether it was undone.
fn not_taken(why: String, undone: bool) -> Stated {
    let what = match undone {
        true => "the server did not take the new certificate, and what was there before is back",
        false => "the server did not take the certificate",
    };
    let remedy = "look at the server's log, then run tamga apply again".into();
    Stated { kind: Kind::Partial, code: "not-taken", what: what.into(), why, remedy }
}

/// What the ledger remembers of a target.
#[derive(Deserialize, Serialize)]
struct Placed {
    place: String,
    certificate: Sha256Fingerprint,
    sha256: Vec<String>,
}

/// What is known of all targets.
struct Deploying<'a> {
    env: &'a Env,
    secret: &'a Secret,
    /// The directory in which programs are run.
    base: &'a Path,
    recorded: HashMap<String, Recorded>,
    open: Vec<(i64, Work)>,
}

impl<'a> Deploying<'a> {
    fn new(env: &'a Env, ledger: Option<&dyn Ledger>, secret: &'a Secret, base: &'a Path) -> Result<Deploying<'a>> {
        let (mut recorded, mut open) = (HashMap::new(), Vec::new());
        if let Some(l) = ledger {
            for e in l.of_kind(PLACED)? {
                let Ok(p) = serde_json::from_str::<Placed>(&e.detail) else { continue };
                recorded.insert(p.place, Recorded { certificate: p.certificate, files: p.sha256 });
            }
            open = l.unfinished()?;
        }
        Ok(Deploying { env, secret, base, recorded, open })
    }

    /// Puts a certificate where a server reads it, if it is not there; returns why it had to, or in a dry run would.
    fn put(&self, issued: &Issued, target: &Target) -> Result<Option<String>> {
        let sha = issued.certificate.sha256();
        let owner = owner(target)?;
        let found: Vec<Found> = match target.through.is_empty() {
            false => Vec::new(),
            true => target.files.iter().map(|f| found(self.env, f, &owner)).collect(),
        };
        let recorded = self.recorded.get(&key(&issued.label, target));
        let waiting = self.open.iter().find(|(_, w)| is_of(w, &issued.label, &target.files, &sha));
        let why = differs(&found, recorded, &sha, target.files.len());
        let Some(mut why) = why.or_else(|| waiting.map(|_| "whether the server took it was not seen".to_owned()))
        else {
            return Ok(None);
        };
        if self.env.dry_run {
            return Ok(Some(why));
        }
        if waiting.is_some() {
            why = "the files stood, and whether the server took them was not seen".into();
        }
        match target.through.is_empty() {
            true => self.here(issued, target, &owner, waiting)?,
            false => self.there(issued, target, &owner)?,
        }
        Ok(Some(why))
    }

    fn here(&self, issued: &Issued, target: &Target, owner: &Owner, waiting: Option<&(i64, Work)>) -> Result<()> {
        let env = self.env;
        let (_lock, ledger) = env.open_for_change()?;
        let files: Vec<(PathBuf, String)>;
        let (id, work) = match waiting {
            // The files stand since an interrupted run: it goes on with the server.
            Some((id, work @ Work::Place { files: f, .. })) => {
                files = f.iter().map(|(path, sha)| (path.0.clone(), sha.clone())).collect();
                (*id, work.clone())
            }
            _ => {
                let items = self.items(issued, target)?;
                files = items.iter().map(|i| (i.path.clone(), place::sha256(&i.bytes))).collect();
                let work = Work::Place {
                    label: issued.label.clone(),
                    certificate: issued.certificate.sha256(),
                    files: files.iter().map(|(path, sha)| (path.clone().into(), sha.clone())).collect(),
                };
                for file in target.files.iter().filter(|f| f.content.has_key()) {
                    if let Some(said) = keep_out_of_version_control(self.env, &file.path)? {
                        env.caller.note(&said);
                    }
                }
                let id = ledger.begin(&work, &Record::Nothing, env.now)?;
                if let Err(e) = env.disk().deploy(&items, owner.ids) {
                    // As before already; if even that failed, the row stays, and the next run goes on.
                    let lent: Vec<_> = files.iter().map(|(path, sha)| (path.as_path(), sha.as_str())).collect();
                    env.disk().recover_deployment(&lent)?;
                    ledger.finish(id, &work)?;
                    return Err(e.into());
                }
                (id, work)
            }
        };
        let all: Vec<&Path> = files.iter().map(|f| f.0.as_path()).collect();
        let taken = || place::run(&target.run, self.base).map_err(|e| e.why()).and_then(|()| proved(issued, target));
        if let Err(why) = env.unlocked(taken)? {
            let undone = env.disk().roll_back(&all)?;
            if undone {
                env.unlocked(|| drop(place::run(&target.run, self.base)))?;
            }
            ledger.finish(id, &work)?;
            ledger.note(env.now, "not-taken", &issued.label, &why)?;
            return Err(not_taken(why, undone).into());
        }
        self.record(&*ledger, issued, target, files.iter().map(|f| f.1.clone()).collect())?;
        env.disk().settle(&all)?;
        Ok(ledger.finish(id, &work)?)
    }

    fn there(&self, issued: &Issued, target: &Target, owner: &Owner) -> Result<()> {
        let env = self.env;
        let items = self.items(issued, target)?;
        let through = Through(&target.through);
        let (_lock, ledger) = env.open_for_change()?;
        // The session there cleans up after itself; what this row is for is that the next run says it.
        let said = format!(
            "putting {} {} was interrupted; tamga apply puts it there again, with what was kept beside it removed",
            issued.label,
            named(target)
        );
        let work = Work::Replace { said, files: Vec::new() };
        let id = ledger.begin(&work, &Record::Nothing, env.now)?;
        let taken = || -> Result<std::result::Result<(), String>> {
            through.put(&items, owner)?;
            let run = if target.run.is_empty() { Ok(()) } else { through.run(&target.run) };
            Ok(run.map_err(|e| e.why()).and_then(|()| proved(issued, target)))
        };
        let taken = env.unlocked(taken)?.inspect_err(|_| drop(ledger.finish(id, &work)))?;
        if let Err(why) = taken {
            let back = || -> Result<bool> {
                let undone = through.put_back(&items)?;
                if !target.run.is_empty() {
                    let _ = through.run(&target.run);
                }
                Ok(undone)
            };
            let undone = env.unlocked(back)??;
            ledger.finish(id, &work)?;
            return Err(not_taken(why, undone).into());
        }
        self.record(&*ledger, issued, target, items.iter().map(|i| place::sha256(&i.bytes)).collect())?;
        env.unlocked(|| through.settle(&items))??;
        Ok(ledger.finish(id, &work)?)
    }

    fn record(&self, ledger: &dyn Ledger, issued: &Issued, target: &Target, sha256: Vec<String>) -> Result<()> {
        let placed = Placed { place: key(&issued.label, target), certificate: issued.certificate.sha256(), sha256 };
        let detail = serde_json::to_string(&placed).unwrap_or_default();
        Ok(ledger.note(self.env.now, PLACED, &issued.label, &detail)?)
    }

    /// The files' contents.
    fn items(&self, issued: &Issued, target: &Target) -> Result<Vec<File>> {
        let secret = match &target.passphrase_file {
            Some(f) => Secret { file: Some(f.clone()), variable: None },
            None => self.secret.clone(),
        };
        // Opened only where it must be: the pair is proved here, before anything is written.
        if target.files.iter().any(|f| f.content.has_key()) {
            self.env.key_of(&issued.label, &issued.folder, &issued.certificate, &secret)?;
        }
        let item = |f: &TargetFile| -> Result<File> {
            let bytes = match f.content {
                Content::Chain => read(self.env, issued, CERTIFICATE_FILE)?,
                Content::Key => read(self.env, issued, KEY_FILE)?,
                Content::Root => read(self.env, issued, ROOT_FILE)?,
                Content::Form(form) => {
                    let protect = target.passphrase_file.is_some() && form.takes_passphrase();
                    let passphrase = if protect { secret.given(self.env)? } else { None };
                    form::made(self.env, issued, form, &secret, passphrase.as_ref())?
                }
            };
            Ok(File { mode: f.mode, path: f.path.clone(), bytes })
        };
        target.files.iter().map(item).collect()
    }
}

fn read(env: &Env, issued: &Issued, name: &str) -> Result<Zeroizing<Vec<u8>>> {
    let file = issued.folder.join(name);
    Ok(env.disk().read(&file).map_err(error::Error::file("reading", &file))?)
}

fn proved(issued: &Issued, target: &Target) -> std::result::Result<(), String> {
    target.check.as_ref().map_or(Ok(()), |endpoint| shows(issued, endpoint))
}

/// By what the ledger knows a target.
fn key(label: &str, target: &Target) -> String {
    let files: Vec<String> = target.files.iter().map(|f| f.path.shown()).collect();
    format!("{label} {} {}", target.through.join(" "), files.join(" "))
}

fn owner(target: &Target) -> Result<Owner> {
    let (owner, group) = (target.owner.as_deref(), target.group.as_deref());
    if target.through.is_empty() {
        return Ok(Owner { ids: place::ids(owner, group)?, words: None });
    }
    let group_word = group.map(|g| format!(":{g}")).unwrap_or_default();
    let words = (owner.is_some() || group.is_some()).then(|| format!("{}{group_word}", owner.unwrap_or_default()));
    Ok(Owner { ids: None, words })
}

fn found(env: &Env, file: &TargetFile, owner: &Owner) -> Found {
    let bytes = env.disk().read(&file.path).ok();
    Found {
        path: file.path.shown(),
        digest: bytes.map(|b| place::sha256(&b)),
        rights: place::rights(&file.path, file.mode, owner),
    }
}

/// True if a row of the journal is about these files and this certificate.
fn is_of(work: &Work, label: &str, all: &[TargetFile], sha: &str) -> bool {
    match work {
        Work::Place { label: l, certificate, files } => {
            l == label && certificate == sha && files.iter().map(|f| &*f.0).eq(all.iter().map(|a| a.path.as_path()))
        }
        _ => false,
    }
}
