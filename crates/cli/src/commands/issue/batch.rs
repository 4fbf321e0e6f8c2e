//! `tamga issue --list FILE`: many certificates, everything checked before the first is made.

use super::{IssueArgs, Source, Terms, recorded, single_use, source, unoccupied};
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json, progress::Progress};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::finding::Finding;
use tamga_core::issue::{self, Holder, Made, Request, Signer};
use tamga_core::key::PrivateKey;
use tamga_core::list_file;
use tamga_core::report::Issued;
use tamga_core::secret::Passphrase;
use tamga_core::text::Shown;
use tamga_host::ledger::{Ledger, Record, Work};
use tamga_host::{entropy, fs};

/// So many are recorded in one durable commit: few enough that a kill takes little back.
const CHUNK: usize = 64;

pub(super) fn run(session: &Session, args: &IssueArgs, terms: &Terms) -> Result<Done> {
    let parent = args.into.clone().unwrap_or_else(|| PathBuf::from("."));
    let parent = std::path::absolute(&parent).map_err(tamga_host::error::Error::file("finding", &parent))?;
    let all = read(args.list.as_deref().unwrap_or(Path::new("-")), terms, &parent)?;
    let protect = args.new_secrets.wanted("the keys of the certificates")?;
    if session.common.dry_run {
        let text = format!("would issue {} certificates into folders below {}\n", all.len(), parent.shown());
        return Ok(Done::good(text, json!({"certificates": [], "dry_run": true, "count": all.len()})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    // What stands already with the same names, from an earlier run of the same list, is left as it is.
    let mut wanted = Vec::new();
    let mut standing = 0;
    for request in all {
        match ledger.current(request.label.as_str())? {
            Some(i) if same(&i, &request) => standing += 1,
            _ => wanted.push(request),
        }
    }
    for r in &wanted {
        unoccupied(&r.folder)?;
    }
    let (mut issued, mut findings) = (Vec::new(), Vec::new());
    let mut root = None;
    if !wanted.is_empty() {
        let (source, _) = source(session, &ledger, args, terms, &wanted)?;
        let bar = Progress::new(&session.common, wanted.len());
        for chunk in wanted.chunks(CHUNK) {
            let made = keys_and_signatures(session, chunk, terms, protect.as_ref(), &source, &bar)?;
            issued.extend(put_in_place(session, &ledger, chunk, &made, &source)?);
            findings.extend(made.into_iter().flat_map(|m| m.findings));
        }
        bar.finish();
        if let Source::SingleUse(a, _) = &source {
            root = Some(a.label.clone());
        }
    }
    Ok(done(&issued, &findings, standing, &parent, root.as_deref()))
}

fn same(i: &Issued, request: &Request) -> bool {
    let mut has = i.certificate.name_words();
    let mut wanted: Vec<String> = request.names.iter().map(ToString::to_string).collect();
    has.sort();
    wanted.sort();
    has == wanted && i.folder == request.folder
}

/// Reads the list.
fn read(file: &Path, terms: &Terms, parent: &Path) -> Result<Vec<Request>> {
    let text = if file == Path::new("-") { fs::read_stdin_text()? } else { fs::read_named_text(file)? };
    let all = list_file::read(&text, &file.shown())?;
    Ok(all.into_iter().map(|e| terms.request(e.names, e.label.clone(), parent.join(e.label.as_str()))).collect())
}

/// Makes keys and certificates on every core.
fn keys_and_signatures(
    session: &Session,
    chunk: &[Request],
    terms: &Terms,
    protect: Option<&Passphrase>,
    source: &Source,
    bar: &Progress,
) -> Result<Vec<Made>> {
    let one = |request: &Request| -> tamga_core::error::Result<Made> {
        let key = PrivateKey::generate(terms.algorithm, &entropy::System)?;
        let signer = match source {
            Source::Authority(a, k) | Source::SingleUse(a, k) => Signer::Authority(a, k),
            Source::Itself => Signer::Itself(&key),
        };
        let ignore = fs::read_to_replace(&request.folder.join(".gitignore")).unwrap_or_default();
        let made = issue::make(request, &Holder::Key(&key, protect), &signer, &ignore, session.now, &entropy::System)?;
        bar.step();
        Ok(made)
    };
    in_parallel(chunk, one).into_iter().map(|m| m.map_err(Into::into)).collect()
}

/// One durable commit for all of them, then the files of each, then the journal's rows away.
fn put_in_place(
    session: &Session,
    ledger: &Ledger,
    chunk: &[Request],
    made: &[Made],
    source: &Source,
) -> Result<Vec<Issued>> {
    let issued: Vec<Issued> = chunk.iter().zip(made).map(|(r, m)| recorded(r, m.certificate.clone(), source)).collect();
    let root = match source {
        Source::SingleUse(a, _) => Some(&**a),
        _ => None,
    };
    let changes: Vec<Change<'_>> = issued
        .iter()
        .zip(made)
        .map(|(issued, m)| Change {
            what: "certificate",
            label: &issued.label,
            sha256: issued.certificate.sha256(),
            publication: &m.publication,
            answers: false,
            record: Record::Certificate { issued, kind: "issued", root },
        })
        .collect();
    let works: Vec<Work> = changes.iter().map(Change::work).collect();
    let all: Vec<(&Work, &Record<'_>)> = works.iter().zip(&changes).map(|(w, c)| (w, &c.record)).collect();
    let ids = ledger.begin_all(&all, session.now)?;
    let written = in_parallel(&changes, |c| fs::publish_unsynced(c.publication, &c.sha256[..8]));
    let failed = written.into_iter().find_map(std::result::Result::err);
    for folder in parents(&changes) {
        fs::sync_directory(folder)?;
    }
    if let Some(e) = failed {
        // The next run, or this one at once, takes back what did not come to stand.
        drop(tamga_host::recover::recover(ledger, &session.machine, session.now, true)?);
        return Err(e.into());
    }
    let rows: Vec<(i64, &Work)> = ids.into_iter().zip(&works).collect();
    ledger.finish_all(&rows)?;
    Ok(issued)
}

/// The folders in which new folders appeared, each once.
fn parents<'a>(changes: &'a [Change<'_>]) -> Vec<&'a Path> {
    let mut out: Vec<&Path> = changes.iter().map(|c| fs::parent(&c.publication.folder)).collect();
    out.sort();
    out.dedup();
    out
}

/// Applies a function to every element, on as many threads as there are cores; answers in order.
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
        running.into_iter().flat_map(|t| t.join().unwrap_or_default()).collect()
    });
    answers.sort_by_key(|(i, _)| *i);
    answers.into_iter().map(|(_, r)| r).collect()
}

fn done(issued: &[Issued], findings: &[Finding], standing: usize, parent: &Path, root: Option<&str>) -> Done {
    let mut text =
        format!("{} {} certificates into folders below {}\n", human::good("issued"), issued.len(), parent.shown());
    if standing > 0 {
        text.push_str(&format!(
            "{} {standing} stood already with the same names and were left as they are\n",
            human::dim("note  ")
        ));
    }
    let mut kinds: Vec<(&Finding, usize)> = Vec::new();
    for f in findings {
        match kinds.iter_mut().find(|(k, _)| k.code == f.code) {
            Some((_, n)) => *n += 1,
            None => kinds.push((f, 1)),
        }
    }
    for (f, n) in kinds {
        let among = if n > 1 { format!(" (and {} more of this kind)", n - 1) } else { String::new() };
        text.push_str(&format!("{} {}{among}\n", human::dim("note  "), f.summary));
    }
    if let Some(label) = root {
        text.push_str(&single_use::words(label));
    }
    text.push_str("next   tamga list shows them; tamga trust add puts their root into the stores\n");
    let certificates: Vec<_> = issued.iter().map(json::issued).collect();
    let findings: Vec<_> = findings.iter().map(json::finding).collect();
    Done::good(text, json!({"certificates": certificates, "unchanged": standing, "findings": findings}))
}
