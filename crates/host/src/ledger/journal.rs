//! The journal: what was begun, together with what it records, in one durable commit.

use super::installed::InstalledFile;
use super::requests::Waiting;
use super::stored_path::StoredPath;
use super::{
    Certificates as _, Database, Durability, Requests as _, SqlResult, Store, StoreExt as _, authorities, certificates,
    events, requests, text, values,
};
use crate::error::Result;
use serde::{Deserialize, Serialize};
use std::path::{Component, Path};
use std::str::FromStr;
use tamga_core::ca::authority::KEY_FILE;
use tamga_core::ca::report::{Authority, Issued};
use tamga_core::pki::cert::Certificate;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::Goal;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Timestamp;

tamga_core::words! {
    /// What files are put in place for.
    pub enum WorkKind: "kind of work" {
        /// A new authority.
        Authority = "authority",
        /// A new certificate of an authority.
        Reissue = "reissue",
        /// A certificate.
        Certificate = "certificate",
        /// A key that waits for its certificate.
        Request = "request",
    }
}

/// Work that was begun.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Work {
    /// Files are put in place.
    Publish {
        /// What they are.
        what: WorkKind,
        /// The label.
        label: Label,
        /// SHA-256 of the certificate or request.
        sha256: Sha256Fingerprint,
        /// The directory.
        folder: StoredPath,
        /// The files' names, in the order of their renaming.
        names: Vec<String>,
        /// The attempt's tag.
        tag: String,
        /// True if a key waited for it: its request goes away when the files stand.
        #[serde(default)]
        answers: bool,
    },
    /// A root goes into or out of a store.
    Trust {
        /// Into or out of it.
        goal: Goal,
        /// The authority's label.
        label: Label,
        /// SHA-256 of the root.
        sha256: Sha256Fingerprint,
        /// The store.
        store: StoreId,
        /// Its place.
        place: StoredPath,
        /// Files that are written on the way.
        #[serde(default)]
        files: Vec<StoredPath>,
    },
    /// Single files are replaced, each whole.
    Replace {
        /// What to report if it was interrupted.
        said: String,
        /// The files.
        files: Vec<StoredPath>,
    },
    /// A re-issued root takes the place of the earlier one in the stores.
    Swap {
        /// The authority's label.
        label: Label,
    },
    /// A certificate goes where a server reads it. It is done when the server shows it: until then what stood there is kept.
    Place {
        /// The certificate's label.
        label: Label,
        /// SHA-256 of the certificate.
        certificate: Sha256Fingerprint,
        /// Each file with the SHA-256 of its contents, in the order of their renaming.
        files: Vec<(StoredPath, String)>,
    },
    /// A server is set up. It is done when the server shows the certificate: until then what stood there is kept.
    Install {
        /// The server.
        server: String,
        /// The certificate's label.
        label: Label,
        /// The directory of its configuration.
        directory: StoredPath,
        /// The symbolic links that were in it.
        links: Vec<StoredPath>,
        /// The files, in the order of their renaming.
        files: Vec<InstalledFile>,
        /// The account that reads them.
        account: Option<u32>,
    },
    /// An authority's key leaves its directory; it goes once the ledger says that it is elsewhere.
    KeyLeaves {
        /// The authority's label.
        label: Label,
        /// The key's file.
        file: StoredPath,
        /// Where it goes; None if it is thrown away.
        into: Option<StoredPath>,
    },
}

/// What a journaled piece of work records.
pub enum Record<'a> {
    /// A new authority.
    Authority(&'a Authority),
    /// A new authority and its predecessor, each with its key certified by the other.
    Successor {
        /// The new one, with its crossed certificate.
        new: &'a Authority,
        /// The label of the old one.
        old: &'a Label,
        /// The old key, certified by the new root.
        old_by_new: &'a Certificate,
    },
    /// A new certificate of an authority that stands.
    Reissued(&'a Authority),
    /// A new certificate; `kind` is the event's: `issued`, `renewed`, `received`.
    Certificate {
        /// The certificate.
        issued: &'a Issued,
        /// The event.
        kind: &'a str,
        /// A single-use root that signed it and is recorded with it.
        root: Option<&'a Authority>,
    },
    /// A key that waits.
    Request(&'a Waiting),
    /// A change of trust.
    Trust {
        /// Into or out of it.
        goal: Goal,
        /// The authority's label.
        label: &'a str,
        /// Where.
        place: &'a Path,
    },
    /// Nothing but the work itself.
    Nothing,
}

fn record(db: &dyn Database, record: &Record<'_>, now: Timestamp) -> SqlResult<()> {
    match record {
        Record::Authority(a) => {
            authorities::insert(db, a, now)?;
            events::insert(db, now, "authority-created", &a.label, &a.certificate.sha256())
        }
        Record::Successor { new, old, old_by_new } => {
            authorities::insert(db, new, now)?;
            authorities::hold(db, old, "crossed", old_by_new, now)?;
            events::insert(db, now, "authority-created", &new.label, &new.certificate.sha256())?;
            events::insert(db, now, "succeeded", old, &new.label)
        }
        Record::Reissued(a) => {
            authorities::hold(db, &a.label, "own", &a.certificate, now)?;
            events::insert(db, now, "reissued", &a.label, &a.certificate.sha256())
        }
        Record::Certificate { issued, kind, root } => {
            if let Some(root) = root {
                let sql = "SELECT count(*) FROM authority WHERE label = ?1";
                let known: i64 = db.single(sql, values![root.label.as_str()], |r| r.get(0))?;
                if known == 0 {
                    authorities::insert(db, root, now)?;
                }
            }
            if *kind == "issued" {
                certificates::is_free(db, &issued.label)?;
            }
            certificates::insert(db, issued, now)?;
            events::insert(db, now, kind, &issued.label, &issued.certificate.sha256())
        }
        Record::Request(w) => {
            requests::insert(db, w, now)?;
            events::insert(db, now, "requested", &w.label, &w.csr.sha256())
        }
        Record::Trust { goal, label, place } => {
            let kind = if *goal == Goal::Add { "trust-added" } else { "trust-removed" };
            events::insert(db, now, kind, label, &text(place))
        }
        Record::Nothing => Ok(()),
    }
}

/// What was begun on this machine: recorded before the first file is touched, and gone when the last one stands.
pub trait Journal {
    /// Durably: the journal's row, and what it is about. Gives the journal's id.
    fn begin(&self, work: &Work, what: &Record<'_>, now: Timestamp) -> Result<i64>;

    /// Several at once, in one commit.
    fn begin_all(&self, all: &[(&Work, &Record<'_>)], now: Timestamp) -> Result<Vec<i64>>;

    /// Takes the journal's row away, and the request that it answered.
    fn finish(&self, id: i64, work: &Work) -> Result<()>;

    /// Several at once.
    fn finish_all(&self, all: &[(i64, &Work)]) -> Result<()>;

    /// What was begun and not finished. Only the holder of the data directory's lock may take it for interrupted. A row that names
    /// files which are not its own is not among them.
    fn unfinished(&self) -> Result<Vec<(i64, Work)>>;

    /// Every row: what was begun, or why the row is refused. The ledger is input too: it may have been edited, or come from a backup.
    fn journal(&self) -> Result<Vec<(i64, std::result::Result<Work, String>)>>;

    /// Removes a refused row; the event keeps why.
    fn refuse(&self, id: i64, why: &str, now: Timestamp) -> Result<()>;

    /// Forgets everything that was under way: in a ledger that comes from a backup it was under way elsewhere.
    fn drop_journal(&self) -> Result<()>;

    /// Takes back what a publication that never stood had recorded: a new authority or request goes, a certificate is
    /// abandoned, and the one before it is in force again.
    fn abandon(&self, id: i64, work: &Work, now: Timestamp) -> Result<()>;
}

impl<S: Store> Journal for S {
    fn begin(&self, work: &Work, what: &Record<'_>, now: Timestamp) -> Result<i64> {
        Ok(self.begin_all(&[(work, what)], now)?[0])
    }

    fn begin_all(&self, all: &[(&Work, &Record<'_>)], now: Timestamp) -> Result<Vec<i64>> {
        let (sql, at) =
            ("INSERT INTO journal (at, work, host, mark) VALUES (?1, ?2, ?3, ?4) RETURNING id", now.to_string());
        self.write(|db| {
            let mut ids = Vec::with_capacity(all.len());
            for (work, what) in all {
                let work = json(work);
                let mark = db.mark(&[&at, &work]);
                ids.push(db.single(sql, values![&at, work, db.host(), mark], |r| r.get(0))?);
                record(db, what, now)?;
            }
            Ok(ids)
        })
    }

    fn finish(&self, id: i64, work: &Work) -> Result<()> {
        self.finish_all(&[(id, work)])
    }

    fn finish_all(&self, all: &[(i64, &Work)]) -> Result<()> {
        // Not durable: a row too many is only looked at again.
        self.write_as(Durability::Process, |db| {
            for (id, work) in all {
                if let (true, Work::Publish { label, .. }) = (answers(work), work) {
                    db.execute("DELETE FROM request WHERE label = ?1", values![label.as_str()])?;
                }
                clear(db, *id)?;
            }
            Ok(())
        })
    }

    fn unfinished(&self) -> Result<Vec<(i64, Work)>> {
        let all = self.journal()?;
        Ok(all.into_iter().filter_map(|(id, work)| Some((id, work.ok()?))).collect())
    }

    fn journal(&self) -> Result<Vec<(i64, std::result::Result<Work, String>)>> {
        let sql = "SELECT id, work, at, mark FROM journal WHERE host = ?1 ORDER BY id";
        let rows = self.look(|db| {
            db.all(sql, values![db.host()], |r| {
                let (work, at): (String, &str) = (r.get(1)?, r.get(2)?);
                let is_ours = r.get::<&str>(3)? == db.mark(&[at, &work]);
                Ok((r.get(0)?, work, is_ours))
            })
        })?;
        let one = |work: &str, is_ours: bool| match is_ours {
            true => read_row(self, work),
            false => Err("this machine did not record it".to_owned()),
        };
        Ok(rows.into_iter().map(|(id, work, is_ours)| (id, one(&work, is_ours))).collect())
    }

    fn refuse(&self, id: i64, why: &str, now: Timestamp) -> Result<()> {
        self.write(|db| {
            events::insert(db, now, "journal-row-refused", "", why)?;
            clear(db, id)
        })
    }

    fn drop_journal(&self) -> Result<()> {
        self.write(|db| db.execute("DELETE FROM journal WHERE host = ?1", values![db.host()]).map(drop))
    }

    fn abandon(&self, id: i64, work: &Work, now: Timestamp) -> Result<()> {
        let Work::Publish { what, label, sha256, answers, .. } = work else { return self.finish(id, work) };
        let (label_of, sha256_of) = (values![label.as_str()], values![sha256.as_str()]);
        self.write(|db| {
            match what {
                WorkKind::Authority => {
                    db.execute("DELETE FROM authority WHERE label = ?1", label_of)?;
                    db.execute("DELETE FROM authority_certificate WHERE label = ?1", label_of)?;
                    // What its predecessor holds of it leads nowhere now.
                    crossed_by_nobody(db)?;
                }
                WorkKind::Reissue => {
                    db.execute("DELETE FROM authority_certificate WHERE sha256 = ?1 AND role = 'own'", sha256_of)?;
                }
                WorkKind::Request => {
                    db.execute("DELETE FROM request WHERE label = ?1", label_of)?;
                }
                // It exists all the same, where it was signed, and may come again; one that was signed here stays on record.
                WorkKind::Certificate if *answers => {
                    let foreign = "sha256 = ?1 AND authority IS NULL";
                    let names = "DELETE FROM certificate_name WHERE certificate = (SELECT id FROM certificate WHERE ";
                    db.execute(&format!("{names}{foreign})"), sha256_of)?;
                    db.execute(&format!("DELETE FROM certificate WHERE {foreign}"), sha256_of)?;
                    db.execute("UPDATE certificate SET state = 'abandoned' WHERE sha256 = ?1", sha256_of)?;
                }
                WorkKind::Certificate => {
                    db.execute("UPDATE certificate SET state = 'abandoned' WHERE sha256 = ?1", sha256_of)?;
                    db.execute(
                        "UPDATE certificate SET state = 'live' WHERE id =
                         (SELECT max(id) FROM certificate WHERE label = ?1 AND state = 'superseded')
                           AND NOT EXISTS (SELECT 1 FROM certificate WHERE label = ?1 AND state = 'live')",
                        label_of,
                    )?;
                }
            }
            events::insert(db, now, "abandoned", label, sha256)?;
            clear(db, id)
        })
    }
}

impl super::Sqlite {
    /// A row's text as work: what the fuzz target asks.
    ///
    /// Errors: it cannot be read, or names files that are not its own.
    pub fn read_row(&self, text: &str) -> std::result::Result<Work, String> {
        read_row(self, text)
    }
}

/// A row's text as work.
///
/// Errors: it cannot be read, or names files that are not its own.
fn read_row(store: &impl Store, text: &str) -> std::result::Result<Work, String> {
    let work: Work = serde_json::from_str(text).map_err(|_| "it cannot be read".to_owned())?;
    accepted(store, &work).map(|()| work)
}

/// A row may name files in the data directory, in the directory of the certificate that it is about, or targets of its own plan
/// (of these only the staged files beside them are touched).
///
/// Errors: why it is refused.
fn accepted(store: &impl Store, work: &Work) -> std::result::Result<(), String> {
    let label = |label: &str| Label::from_str(label).map(drop).map_err(|_| "its label is none".to_owned());
    let whole = |path: &Path| match path.is_absolute() && path.components().all(|c| c != Component::ParentDir) {
        true => Ok(()),
        false => Err(format!("{} is not a whole path", path.shown())),
    };
    let other = |path: &Path, whose: &str| Err(format!("{} is not in the directory of {whose}", path.shown()));
    match work {
        Work::Publish { what, label: of, sha256, folder, names, tag, .. } => {
            label(of)?;
            if tag.len() != 8 || !tag.bytes().all(|b| b.is_ascii_hexdigit()) {
                return Err("its tag is none".into());
            }
            if !names.iter().all(|n| is_file_name(n)) {
                return Err("it names a file outside of its directory".into());
            }
            let own = match what {
                WorkKind::Authority | WorkKind::Reissue => Some(store.directory_of_authority(of)),
                WorkKind::Request => store.waiting_place(of).ok().flatten(),
                WorkKind::Certificate => store.directory_of(sha256).ok().flatten(),
            };
            // What a killed run had recorded is in the ledger, in the same commit as this row.
            if own.as_deref() == Some(&**folder) { Ok(()) } else { other(folder, of) }
        }
        Work::Trust { files, label: of, .. } => label(of).and_then(|()| files.iter().try_for_each(|f| whole(f))),
        Work::Replace { files, .. } => files.iter().try_for_each(|f| whole(f)),
        Work::Place { files, label: of, .. } => label(of).and_then(|()| files.iter().try_for_each(|f| whole(&f.0))),
        Work::Install { files, label: of, directory, links, .. } => {
            let all = files.iter().map(|f| &*f.path).chain(links.iter().map(|l| &**l));
            label(of).and_then(|()| all.chain([&**directory]).try_for_each(whole))
        }
        Work::Swap { label: of } => label(of),
        Work::KeyLeaves { label: of, file, into } => {
            label(of)?;
            if let Some(into) = into {
                whole(into)?;
            }
            let own = store.directory_of_authority(of).join(KEY_FILE);
            if **file == *own { Ok(()) } else { other(file, of) }
        }
    }
}

fn clear(db: &dyn Database, id: i64) -> SqlResult<()> {
    db.execute("DELETE FROM journal WHERE id = ?1", values![id]).map(drop)
}

/// True for the plain name of a file: no path, and nothing that leads out of its directory.
fn is_file_name(name: &str) -> bool {
    let mut parts = Path::new(name).components();
    matches!((parts.next(), parts.next()), (Some(Component::Normal(n)), None) if n == name) && !name.contains('\0')
}

/// True if a key waited for what is published: its request goes away with the row.
fn answers(work: &Work) -> bool {
    matches!(work, Work::Publish { answers: true, .. })
}

/// Removes crossed certificates whose signer is in the ledger no more.
fn crossed_by_nobody(db: &dyn Database) -> SqlResult<()> {
    let of = |role: &str| -> SqlResult<Vec<(i64, Vec<u8>)>> {
        let sql = "SELECT id, der FROM authority_certificate WHERE role = ?1";
        db.all(sql, values![role], |r| Ok((r.get(0)?, r.get(1)?)))
    };
    let read = |der: &[u8]| Certificate::read(der, "an authority").ok();
    let owners: Vec<Certificate> = of("own")?.iter().filter_map(|(_, der)| read(der)).collect();
    for (id, der) in of("crossed")? {
        if !read(&der).is_some_and(|c| owners.iter().any(|o| c.signed_by(o).is_ok())) {
            db.execute("DELETE FROM authority_certificate WHERE id = ?1", values![id])?;
        }
    }
    Ok(())
}

fn json(work: &Work) -> String {
    serde_json::to_string(work).unwrap_or_default()
}
