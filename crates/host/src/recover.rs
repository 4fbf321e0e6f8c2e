//! What interrupted work left, finished or undone by the next run, and said.

use crate::error::Result;
use crate::fs::{Disk, Leftover, Recovered};
use crate::install::Service;
use crate::ledger::WorkKind;
use crate::ledger::stored_path::StoredPath;
use crate::ledger::{Installed, InstalledFile, Ledger, Work};
use crate::places::Machine;
use std::path::Path;
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE, REQUEST_FILE};
use tamga_core::ca::report::KeyPlace;
use tamga_core::pki::cert::{Certificate, csr};
use tamga_core::pki::format::pem;
use tamga_core::stores::trust::Goal;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Looks at the journal and fixes. The caller holds the data directory's lock. One line for each thing found.
///
/// `applying`: another process is in a run of `apply`, and the deployments under way are its own.
pub fn recover(ledger: &dyn Ledger, machine: &Machine, now: Timestamp, applying: bool) -> Result<Vec<String>> {
    let mut said = Vec::new();
    for (id, work) in ledger.journal()? {
        match work {
            Ok(Work::Place { .. }) if applying => {}
            Ok(work) => said.extend(one(ledger, machine, id, &work, now)?),
            Err(why) => {
                ledger.refuse(id, &why, now)?;
                said.push(format!(
                    "a row of the journal was refused and dropped, no file was touched: {why} (was the ledger edited?)"
                ));
            }
        }
    }
    Ok(said)
}

fn one(ledger: &dyn Ledger, machine: &Machine, id: i64, work: &Work, now: Timestamp) -> Result<Option<String>> {
    match work {
        Work::Publish { what, label, sha256, folder, names, tag, answers } => {
            let recovered = machine.disk().recover_publication(folder, names, tag)?;
            if !stands(machine.disk(), *what, folder, sha256) {
                ledger.abandon(id, work, now)?;
                return Ok(Some(format!(
                    "the {} {label} was interrupted before its files were in place; it was undone, nothing else changed",
                    noun(*what)
                )));
            }
            if *answers {
                machine.disk().remove(&folder.join(REQUEST_FILE))?;
            }
            ledger.finish(id, work)?;
            // Else the row only survived its own clearing: nothing was wrong.
            Ok((recovered == Recovered::Finished).then(|| {
                format!(
                    "the {} {label} was interrupted while its files were put in place; it is complete now",
                    noun(*what)
                )
            }))
        }
        Work::Trust { goal, label, store, place, files, .. } => {
            files.iter().try_for_each(|f| machine.with_rights_for(f, || machine.disk().unstage(f)))?;
            ledger.finish(id, work)?;
            let (verb, where_) = if *goal == Goal::Add { ("putting", "into") } else { ("taking", "out of") };
            Ok(Some(format!(
                "{verb} the root {label} {where_} {store} ({}) was interrupted; run tamga trust {goal} {label} again",
                place.shown()
            )))
        }
        Work::Replace { said, files } => {
            files.iter().try_for_each(|f| machine.with_rights_for(f, || machine.disk().unstage(f)))?;
            ledger.finish(id, work)?;
            Ok(Some(said.clone()))
        }
        Work::Swap { label } => {
            ledger.finish(id, work)?;
            Ok(Some(format!(
                "the root {label} was reissued, but stores may still hold the earlier one; see tamga trust status, then tamga trust add {label}"
            )))
        }
        Work::Place { label, files, .. } => match machine.disk().recover_deployment(&lent(files))? {
            // It goes on with the reload: its row stays until the server shows it.
            Leftover::Whole => Ok(Some(format!(
                "the files of {label} were put in place, and whether the server took them was not seen; tamga apply goes on"
            ))),
            Leftover::Nothing => {
                ledger.finish(id, work)?;
                Ok(Some(format!(
                    "putting {label} where its server reads it was interrupted; what stood there is as before"
                )))
            }
        },
        Work::Install { server, label, .. } if !machine.acts_as_root() => Ok(Some(format!(
            "setting up {server} for {label} was interrupted; sudo tamga recipe {server} {label} --install goes on"
        ))),
        Work::Install { server, label, directory, links, files, account } => {
            let service = Service { machine, account: *account };
            let before = links.iter().map(|l| l.0.clone()).collect::<Vec<_>>();
            let has =
                |i: &Installed, f: &InstalledFile| i.files.iter().any(|k| k.path == f.path && k.digest == f.digest);
            let known = ledger.installed()?.into_iter().find(|i| i.server == *server && i.label == *label);
            let stood = known.is_some_and(|i| files.iter().all(|f| has(&i, f)));
            if stood {
                service.settle(files.iter().map(|f| &*f.path))?;
                ledger.finish(id, work)?;
                return Ok(None);
            }
            let left = service.withdraw(directory, &before, files);
            ledger.finish(id, work)?;
            let state = match left.is_empty() {
                true => "its files are as before, and if it runs, reload it".to_owned(),
                false => format!("look at what could not be put back: {}", left.join("; ")),
            };
            Ok(Some(format!("setting up {server} for {label} was interrupted; {state}")))
        }
        Work::KeyLeaves { label, file, into } => {
            key_leaves(ledger, machine.disk(), id, work, label, file, into.as_deref())
        }
    }
}

/// The ledger says where the key is since the copy was proved: until then the file here counts.
fn key_leaves(
    ledger: &dyn Ledger,
    disk: &dyn Disk,
    id: i64,
    work: &Work,
    label: &str,
    file: &Path,
    into: Option<&Path>,
) -> Result<Option<String>> {
    if let Some(into) = into {
        for name in [KEY_FILE, CERTIFICATE_FILE] {
            disk.unstage(&into.join(name))?;
        }
    }
    let away = ledger.authorities()?.iter().any(|a| a.label == label && a.key != KeyPlace::Here);
    let said = match (away, into) {
        (true, _) => {
            disk.remove(file)?;
            format!("the key of {label} was still in {} after it had left; it is removed now", file.shown())
        }
        (false, Some(into)) => format!(
            "taking the key of {label} to {} was interrupted; it is still here, run tamga authority offline {label} again",
            into.shown()
        ),
        (false, None) => format!("throwing away the key of {label} was interrupted; it is still here"),
    };
    ledger.finish(id, work)?;
    Ok(Some(said))
}

/// The files of a deployment, and the SHA-256 that each is to have.
fn lent(files: &[(StoredPath, String)]) -> Vec<(&Path, &str)> {
    files.iter().map(|(path, sha256)| (&**path, sha256.as_str())).collect()
}

fn noun(what: WorkKind) -> &'static str {
    match what {
        WorkKind::Reissue => "new certificate of the authority",
        other => other.word(),
    }
}

/// True if the file that vouches for the whole is the one that was meant.
fn stands(disk: &dyn Disk, what: WorkKind, folder: &Path, sha256: &Sha256Fingerprint) -> bool {
    let read = |name: &str| disk.read(&folder.join(name)).ok();
    if what == WorkKind::Request {
        return read(REQUEST_FILE)
            .and_then(|bytes| csr::find(&bytes, REQUEST_FILE).ok())
            .is_some_and(|r| r.sha256() == *sha256);
    }
    read(CERTIFICATE_FILE)
        .and_then(|bytes| pem::certificates(&bytes).into_iter().next())
        .and_then(|der| Certificate::read(&der, CERTIFICATE_FILE).ok())
        .is_some_and(|c| c.sha256() == *sha256)
}
