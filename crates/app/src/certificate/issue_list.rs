//! Issuing many certificates: everything is checked before the first is made.

use super::issue::{Settled, Terms};
use super::make::Signer;
use crate::env::{Change, Env};
use crate::failure::Result;
use crate::interact::Task;
use crate::output::{absolute, unoccupied};
use crate::report::{self, Answer, Certificate};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::ca::authority::{CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::issue::{self, Made};
use tamga_core::ca::list_file::Entry;
use tamga_core::ca::report::Issued;
use tamga_core::finding::Finding;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_host::fs;
use tamga_host::ledger::WorkKind;
use tamga_host::ledger::{Ledger, Record, Work};

/// Certificates recorded in one durable commit: few enough that a kill takes little back.
const CHUNK: usize = 64;

/// Many certificates on the same terms.
#[derive(Clone, Debug)]
pub struct Request {
    /// Their names and labels.
    pub entries: Vec<Entry>,
    /// The directory above their directories; None for the current one.
    pub into: Option<PathBuf>,
    /// What they share.
    pub terms: Terms,
    /// Opens the authority's key.
    pub secret: Secret,
    /// Protects the new keys.
    pub new_secret: NewSecret,
}

/// What was issued, or would be.
pub type Report = Answer<Done, Plan>;

/// Certificates that were issued.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The new ones.
    pub certificates: Vec<Certificate>,
    /// How many stood already with the same names, and were left as they are.
    pub unchanged: usize,
    /// Remarks on the new ones.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// The directory above theirs.
    #[serde(skip)]
    pub parent: PathBuf,
    /// The label of the root that was made for them alone.
    #[serde(skip)]
    pub single_use_root: Option<Label>,
}

/// Certificates that would be issued.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// How many.
    pub count: usize,
    /// The directory above theirs.
    #[serde(skip)]
    pub parent: PathBuf,
}

/// Issues all of them, on every core.
///
/// Errors: as for [`super::issue::issue`], before the first is made. Killed in between, what was committed stands.
pub fn issue_list(env: &Env, request: &Request) -> Result<Report> {
    let parent = absolute(&request.into.clone().unwrap_or_else(|| PathBuf::from(".")))?;
    let terms = request.terms.settled(env)?;
    let all: Vec<issue::Request> = request
        .entries
        .iter()
        .map(|e| terms.request(e.names.clone(), e.label.clone(), parent.join(e.label.as_str())))
        .collect();
    let protect = request.new_secret.wanted(env, "the keys of the certificates")?;
    if env.dry_run {
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, count: all.len(), parent }));
    }
    let mut done = Done { certificates: Vec::new(), unchanged: 0, findings: Vec::new(), parent, single_use_root: None };
    let (_lock, ledger) = env.open_for_change()?;
    // What stands already with the same names, from an earlier run of the same list, is left as it is.
    let mut wanted = Vec::new();
    for request in all {
        match ledger.current(request.label.as_str())? {
            Some(i) if is_same(&i, &request) => done.unchanged += 1,
            _ => wanted.push(request),
        }
    }
    for r in &wanted {
        unoccupied(env, &r.folder, &[CERTIFICATE_FILE, KEY_FILE])?;
    }
    if !wanted.is_empty() {
        let signer = terms.signer(env, &*ledger, &wanted, &request.secret)?;
        let progress = env.caller.progress(Task::Many("issuing", wanted.len()));
        for chunk in wanted.chunks(CHUNK) {
            let made = keys_and_signatures(env, chunk, &terms, protect.as_ref(), &signer, &*progress)?;
            let issued = put_in_place(env, &*ledger, chunk, &made, &signer)?;
            done.certificates.extend(issued.into_iter().map(Certificate::with_all_files));
            done.findings.extend(made.into_iter().flat_map(|m| m.findings));
        }
        done.single_use_root = signer.single_use_root().map(|a| a.label.clone());
    }
    Ok(Answer::Done(done))
}

fn is_same(i: &Issued, request: &issue::Request) -> bool {
    let mut has = i.certificate.name_words();
    let mut wanted: Vec<String> = request.names.iter().map(ToString::to_string).collect();
    has.sort();
    wanted.sort();
    has == wanted && i.folder == request.folder
}

fn keys_and_signatures(
    env: &Env,
    chunk: &[issue::Request],
    terms: &Settled,
    protect: Option<&Passphrase>,
    signer: &Signer,
    progress: &dyn crate::interact::Progress,
) -> Result<Vec<Made>> {
    let one = |request: &issue::Request| {
        let made = signer.sign_with_new_key(env, request, terms.algorithm, protect)?;
        progress.step();
        Ok(made)
    };
    in_parallel(chunk, one).into_iter().map(|m: tamga_core::error::Result<Made>| m.map_err(Into::into)).collect()
}

/// One durable commit for all of them, then the files of each, then the journal's rows away.
fn put_in_place(
    env: &Env,
    ledger: &dyn Ledger,
    chunk: &[issue::Request],
    made: &[Made],
    signer: &Signer,
) -> Result<Vec<Issued>> {
    let issued: Vec<Issued> = chunk.iter().zip(made).map(|(r, m)| signer.recorded(r, m.certificate.clone())).collect();
    let root = signer.single_use_root();
    let changes: Vec<Change<'_>> = issued
        .iter()
        .zip(made)
        .map(|(issued, m)| Change {
            what: WorkKind::Certificate,
            label: &issued.label,
            sha256: issued.certificate.sha256(),
            publication: &m.publication,
            answers: false,
            record: Record::Certificate { issued, kind: "issued", root },
        })
        .collect();
    let works: Vec<Work> = changes.iter().map(Change::work).collect();
    let all: Vec<(&Work, &Record<'_>)> = works.iter().zip(&changes).map(|(w, c)| (w, &c.record)).collect();
    let ids = ledger.begin_all(&all, env.now)?;
    let written = in_parallel(&changes, |c| env.disk().publish_unsynced(c.publication, c.sha256.short()));
    let failed = written.into_iter().find_map(std::result::Result::err);
    for directory in parents(&changes) {
        env.disk().sync_directory(directory)?;
    }
    if let Some(e) = failed {
        // The next run, or this one at once, takes back what did not come to stand.
        drop(tamga_host::recover::recover(ledger, &env.machine, env.now, true)?);
        return Err(e.into());
    }
    let rows: Vec<(i64, &Work)> = ids.into_iter().zip(&works).collect();
    ledger.finish_all(&rows)?;
    Ok(issued)
}

/// The directories in which new directories appeared, each once.
fn parents<'a>(changes: &'a [Change<'_>]) -> Vec<&'a Path> {
    let mut out: Vec<&Path> = changes.iter().map(|c| fs::parent(&c.publication.folder)).collect();
    out.sort();
    out.dedup();
    out
}

/// Applies a function to every element, on as many threads as there are cores; answers in order. A panic of one is a panic of the
/// whole: with an answer missing the others would be paired with the wrong elements.
fn in_parallel<T: Sync, R: Send>(all: &[T], work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let threads = std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(all.len().max(1));
    let next = AtomicUsize::new(0);
    let mut answers: Vec<(usize, R)> = std::thread::scope(|scope| {
        let running: Vec<_> = (0..threads)
            .map(|_| {
                scope.spawn(|| {
                    let mut mine = Vec::new();
                    loop {
                        let i = next.fetch_add(1, Ordering::Relaxed);
                        match all.get(i) {
                            Some(one) => mine.push((i, work(one))),
                            None => return mine,
                        }
                    }
                })
            })
            .collect();
        running.into_iter().flat_map(|t| t.join().unwrap_or_else(|p| std::panic::resume_unwind(p))).collect()
    });
    answers.sort_by_key(|(i, _)| *i);
    answers.into_iter().map(|(_, r)| r).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_in_order_and_a_panic_is_not_an_answer_less() {
        let all: Vec<usize> = (0..100).collect();
        assert_eq!(in_parallel(&all, |n| n * 2), all.iter().map(|n| n * 2).collect::<Vec<_>>());
        let one_panics = std::panic::catch_unwind(|| {
            in_parallel(&all, |n| if *n == 41 { std::panic::resume_unwind(Box::new("on purpose")) } else { *n })
        });
        assert!(one_panics.is_err());
    }
}
