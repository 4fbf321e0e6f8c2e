//! Certificates: by label, serial, fingerprint or name, page by page.

use super::sql::{Dialect, Value};
use super::{Database, Row, SqlResult, Store, StoreExt as _, restored, text, values};
use crate::database::SqlError;
use crate::error::Result;
use std::path::{Path, PathBuf};
use std::str::FromStr;
use tamga_core::ca::report::{Issued, Life, Revocation, Summary};
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::fingerprint::Sha256Fingerprint;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Which certificates.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    /// Only those whose label or a name of which matches: `*` is any text, and without one the pattern may stand anywhere.
    pub pattern: Option<String>,
    /// Only those that had ended by then.
    pub ended_by: Option<Timestamp>,
    /// Only live ones whose files are here and that end between the two moments.
    pub ending: Option<(Timestamp, Timestamp)>,
    /// Only those that were revoked.
    pub revoked: bool,
}

/// In which order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Sort {
    /// As they were issued.
    #[default]
    Issued,
    /// By label.
    Label,
    /// By their end, the earliest first.
    Ends,
}

/// Which part of the answer.
#[derive(Clone, Copy, Debug)]
pub struct Page {
    /// So many at most.
    pub size: usize,
    /// Counted from 0.
    pub number: usize,
}

impl Sort {
    fn clause(self) -> &'static str {
        match self {
            Sort::Issued => "ORDER BY c.id",
            Sort::Label => "ORDER BY c.label, c.id",
            Sort::Ends => "ORDER BY c.ends, c.id",
        }
    }
}

/// A filter as SQL.
struct Query {
    conditions: String,
    values: Vec<Value<'static>>,
}

impl Query {
    fn new(db: &dyn Database, filter: &Filter) -> SqlResult<Query> {
        let mut wheres: Vec<String> = Vec::new();
        let mut values: Vec<Value<'static>> = Vec::new();
        let mut add = |condition: &str, value: Option<Value<'static>>| {
            values.extend(value);
            wheres.push(condition.replace('?', &format!("?{}", values.len())));
        };
        if let Some(pattern) = &filter.pattern {
            match few(db, pattern)? {
                Some(ids) if ids.is_empty() => add("1 = 0", None),
                Some(ids) => add(&format!("c.id IN ({ids})"), None),
                None => {
                    let (matches, pattern) = matching(db.dialect(), pattern);
                    let named = format!("SELECT certificate FROM certificate_name WHERE name {matches}");
                    add(&format!("(c.label {matches} OR c.id IN ({named}))"), Some(pattern.into()));
                }
            }
        }
        if let Some(at) = filter.ended_by {
            add("c.ends < ? AND c.state = 'live'", Some(at.unix().into()));
        }
        if let Some((from, until)) = filter.ending {
            add("c.ends >= ? AND c.state = 'live' AND c.folder <> '' AND r.at IS NULL", Some(from.unix().into()));
            add("c.ends <= ?", Some(until.unix().into()));
            add("c.host = ?", Some(db.host().to_owned().into()));
        }
        if filter.revoked {
            wheres.push("r.at IS NOT NULL".into());
        }
        let conditions = if wheres.is_empty() { String::new() } else { format!("WHERE {}", wheres.join(" AND ")) };
        Ok(Query { conditions, values })
    }
}

/// A pattern, in which only `*` is special, as each database has it: the operator with the mark, and the text for it.
fn matching(dialect: Dialect, pattern: &str) -> (&'static str, String) {
    let (operator, special, any) = match dialect {
        Dialect::Sqlite => ("GLOB ?", ['[', '?'].as_slice(), "*"),
        Dialect::Postgres => ("LIKE ?", ['%', '_', '\\'].as_slice(), "%"),
    };
    let plain: String = pattern
        .to_lowercase()
        .chars()
        .map(|c| match c {
            '*' => any.to_owned(),
            c if special.contains(&c) && dialect == Dialect::Postgres => format!("\\{c}"),
            c if special.contains(&c) => format!("[{c}]"),
            c => c.to_string(),
        })
        .collect();
    (operator, if pattern.contains('*') { plain } else { format!("{any}{plain}{any}") })
}

/// So many ids are asked for one by one; more are found by reading on.
const FEW: usize = 1_000;

/// The ids of what a pattern takes, from the two indices alone: a table of a million certificates is not read for a handful of them. None
/// where they are many.
fn few(db: &dyn Database, pattern: &str) -> SqlResult<Option<String>> {
    let begins = pattern.split_once('*').map(|(begins, _)| begins.to_lowercase()).unwrap_or_default();
    let (matches, pattern) = matching(db.dialect(), pattern);
    // Written out, since a database sees the beginning of a pattern only in one that is not bound.
    let end = format!("{begins}{}", char::MAX);
    let within = if begins.is_empty() { "" } else { "column >= ?2 AND column < ?3 AND " };
    let of = |id: &str, table: &str, column: &str| {
        let within = within.replace("column", column);
        format!("SELECT {id} FROM {table} WHERE {within}{column} {}", matches.replace('?', "?1"))
    };
    let (labels, names) = (of("id", "certificate", "label"), of("certificate", "certificate_name", "name"));
    let sql = format!("{labels} UNION ALL {names} LIMIT {}", FEW + 1);
    let all = values![&pattern, &begins, &end];
    let used = if begins.is_empty() { &all[..1] } else { all };
    let ids: Vec<String> = db.all(&sql, used, |r| r.get::<i64>(0).map(|id| id.to_string()))?;
    Ok((ids.len() <= FEW).then(|| ids.join(",")))
}

pub(super) const SUMMARY: &str =
    "c.label, c.names, c.serial, c.sha256, c.starts, c.ends, c.self_issued, c.authority, c.folder, c.state,
  r.at, r.reason, r.published, c.sha1, c.host
  FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial";

pub(super) fn summary(r: Row<'_>, here: &str) -> SqlResult<Option<Summary>> {
    let read = (r.get::<&str>(0)?.parse(), r.get::<&str>(3)?.parse());
    let (Ok(label), Ok(sha256)) = read else { return Ok(None) };
    // Text is borrowed where it is only read: a list has up to a million rows.
    let names = serde_json::from_str(r.get(1)?).unwrap_or_default();
    Ok(Some(Summary {
        label,
        names,
        serial: r.get(2)?,
        sha256,
        sha1: r.get(13)?,
        not_before: Timestamp::from_unix(r.get(4)?),
        not_after: Timestamp::from_unix(r.get(5)?),
        is_self_issued: r.get(6)?,
        authority: r.get::<Option<&str>>(7)?.and_then(|a| a.parse().ok()),
        folder: restored(r.get(8)?),
        life: r.get::<&str>(9)?.parse().unwrap_or(Life::Abandoned),
        revoked: revocation(r, 10)?,
        host: elsewhere(r.get(14)?, here),
    }))
}

/// A revocation from three columns.
fn revocation(r: Row<'_>, first: usize) -> SqlResult<Option<Revocation>> {
    let at: Option<&str> = r.get(first)?;
    let Some(at) = at.and_then(|at| Timestamp::from_str(at).ok()) else { return Ok(None) };
    let reason = r.get::<&str>(first + 1)?.parse().unwrap_or(Reason::Unspecified);
    Ok(Some(Revocation { at, reason, published: r.get(first + 2)? }))
}

const COLUMNS: &str = "c.label, c.der, c.authority, c.folder, c.state, r.at, r.reason, r.published, c.host
  FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial";

/// The machine of a row, if it is another one.
fn elsewhere(host: &str, here: &str) -> Option<String> {
    (!host.is_empty() && host != here).then(|| host.to_owned())
}

fn issued(r: Row<'_>, here: &str) -> SqlResult<Option<Issued>> {
    let label: &str = r.get(0)?;
    let (Ok(certificate), Ok(label)) = (Certificate::read(r.get(1)?, label), label.parse()) else { return Ok(None) };
    Ok(Some(Issued {
        label,
        certificate,
        authority: r.get::<Option<&str>>(2)?.and_then(|a| a.parse().ok()),
        folder: restored(r.get(3)?),
        life: r.get::<&str>(4)?.parse().unwrap_or(Life::Abandoned),
        revoked: revocation(r, 5)?,
        host: elsewhere(r.get(8)?, here),
    }))
}

/// What is said of a ledger that somebody changed.
pub(super) const CHANGED: &str = "a certificate in it is not the one that was recorded";

/// True if a certificate has not the fingerprint under which it was recorded: somebody changed the ledger. Says so.
pub(super) fn changed(db: &dyn Database) -> SqlResult<Option<String>> {
    let sql = "SELECT sha256, der FROM certificate UNION ALL SELECT sha256, der FROM authority_certificate";
    let mut changed = false;
    db.each(sql, values![], &mut |r| {
        changed |= !super::is_recorded(r.get(0)?, r.get(1)?);
        Ok(())
    })?;
    Ok(changed.then(|| CHANGED.to_owned()))
}

/// The certificates of a ledger.
pub trait Certificates {
    /// The certificates of a label, oldest first.
    fn issued(&self, label: &str) -> Result<Vec<Issued>>;

    /// Live ones that are not revoked and whose files are on this machine, oldest first.
    fn in_use(&self) -> Result<Vec<Issued>>;

    /// The live ones whose files are on this machine, revoked ones too, by their age.
    fn live(&self) -> Result<Vec<Issued>>;

    /// The directories of all that are on this machine, each once.
    fn directories(&self) -> Result<Vec<PathBuf>>;

    /// The names of all, each once.
    fn names(&self) -> Result<Vec<String>>;

    /// The label of the certificate with this SHA-256.
    fn label_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<Label>>;

    /// Where the files of the certificate with this SHA-256 are; None: it is not in the ledger.
    fn directory_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<PathBuf>>;

    /// The current certificate of a label.
    fn current(&self, label: &str) -> Result<Option<Issued>>;

    /// The live one whose files are in this directory; of several the newest.
    fn live_in(&self, directory: &Path) -> Result<Option<Issued>>;

    /// That the files of a label's certificates are in another directory now.
    fn moved(&self, label: &Label, from: &Path, to: &Path, now: Timestamp) -> Result<()>;

    /// Live ones that no authority issued: self-signed, oldest first.
    fn live_without_authority(&self) -> Result<Vec<Issued>>;

    /// True if a certificate in force, an authority or a waiting key has this label.
    fn is_taken(&self, label: &Label) -> Result<bool>;

    /// Those with this serial number or SHA-256, lower-case hex.
    fn by_number(&self, hex: &str) -> Result<Vec<Issued>>;

    /// This one, by the SHA-256 of its DER.
    fn by_fingerprint(&self, sha256: &Sha256Fingerprint) -> Result<Option<Issued>>;

    /// Live ones that name this, as the certificate spells it.
    fn naming(&self, name: &str) -> Result<Vec<Issued>>;

    /// Live labels, for telling a person what there is; at most so many.
    fn labels(&self, most: usize) -> Result<Vec<String>>;

    /// Those that pass the filter.
    fn filtered(&self, filter: &Filter, sort: Sort) -> Result<Vec<Issued>>;

    /// What a list says of those that pass the filter, one page or all, as they are read; returns how many pass in all.
    ///
    /// Errors: the ledger cannot be read; what `row` returns.
    fn summaries(&self, filter: &Filter, sort: Sort, page: Option<Page>, row: &mut dyn FnMut(Summary))
    -> Result<usize>;
}

impl<S: Store> Certificates for S {
    fn issued(&self, label: &str) -> Result<Vec<Issued>> {
        self.look(|db| select(db, "WHERE c.label = ?1 ORDER BY c.id", values![label]))
    }

    fn in_use(&self) -> Result<Vec<Issued>> {
        let condition = "WHERE c.state = 'live' AND c.folder <> '' AND c.host = ?1 AND r.at IS NULL ORDER BY c.id";
        self.look(|db| select(db, condition, values![db.host()]))
    }

    fn live(&self) -> Result<Vec<Issued>> {
        let condition = "WHERE c.state = 'live' AND c.folder <> '' AND c.host = ?1 ORDER BY c.id";
        self.look(|db| select(db, condition, values![db.host()]))
    }

    fn directories(&self) -> Result<Vec<PathBuf>> {
        let sql = "SELECT DISTINCT folder FROM certificate WHERE folder <> '' AND host = ?1";
        self.look(|db| db.all(sql, values![db.host()], |r| r.get(0).map(restored)))
    }

    fn names(&self) -> Result<Vec<String>> {
        self.look(|db| db.all("SELECT DISTINCT name FROM certificate_name", values![], |r| r.get(0)))
    }

    fn label_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<Label>> {
        let sql = "SELECT label FROM certificate WHERE sha256 = ?1";
        let found = self.look(|db| db.one(sql, values![sha256.as_str()], |r| Ok(r.get::<&str>(0)?.parse().ok())));
        found.map(Option::flatten)
    }

    fn directory_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<PathBuf>> {
        let sql = "SELECT folder FROM certificate WHERE sha256 = ?1 AND host = ?2";
        self.look(|db| db.one(sql, values![sha256.as_str(), db.host()], |r| r.get(0).map(restored)))
    }

    fn current(&self, label: &str) -> Result<Option<Issued>> {
        let condition = "WHERE c.label = ?1 AND c.state = 'live' ORDER BY c.id DESC LIMIT 1";
        Ok(self.look(|db| select(db, condition, values![label]))?.pop())
    }

    fn live_in(&self, directory: &Path) -> Result<Option<Issued>> {
        let condition = "WHERE c.folder = ?1 AND c.host = ?2 AND c.state = 'live' ORDER BY c.id DESC LIMIT 1";
        Ok(self.look(|db| select(db, condition, values![text(directory), db.host()]))?.pop())
    }

    fn moved(&self, label: &Label, from: &Path, to: &Path, now: Timestamp) -> Result<()> {
        let sql = "UPDATE certificate SET folder = ?3 WHERE label = ?1 AND folder = ?2 AND host = ?4";
        self.write(|db| {
            db.execute(sql, values![label.as_str(), text(from), text(to), db.host()])?;
            super::events::insert(db, now, "moved", label, &text(to))
        })
    }

    fn live_without_authority(&self) -> Result<Vec<Issued>> {
        self.look(|db| select(db, "WHERE c.authority IS NULL AND c.state = 'live' ORDER BY c.id", values![]))
    }

    fn is_taken(&self, label: &Label) -> Result<bool> {
        let sql = "SELECT 1 FROM certificate WHERE label = ?1 AND state = 'live'
             UNION ALL SELECT 1 FROM authority WHERE label = ?1 UNION ALL SELECT 1 FROM request WHERE label = ?1";
        self.look(|db| Ok(db.one(sql, values![label.as_str()], |_| Ok(()))?.is_some()))
    }

    fn by_number(&self, hex: &str) -> Result<Vec<Issued>> {
        self.look(|db| {
            let mut out = select(db, "WHERE c.serial = ?1", values![hex])?;
            out.extend(select(db, "WHERE c.sha256 = ?1", values![hex])?);
            Ok(out)
        })
    }

    fn by_fingerprint(&self, sha256: &Sha256Fingerprint) -> Result<Option<Issued>> {
        Ok(self.look(|db| select(db, "WHERE c.sha256 = ?1", values![sha256.as_str()]))?.pop())
    }

    fn naming(&self, name: &str) -> Result<Vec<Issued>> {
        let condition =
            "JOIN certificate_name n ON n.certificate = c.id WHERE n.name = ?1 AND c.state = 'live' ORDER BY c.id";
        self.look(|db| select(db, condition, values![name]))
    }

    fn labels(&self, most: usize) -> Result<Vec<String>> {
        let sql = "SELECT DISTINCT label FROM certificate WHERE state = 'live' ORDER BY label LIMIT ?1";
        self.look(|db| db.all(sql, values![i64::try_from(most).unwrap_or(i64::MAX)], |r| r.get(0)))
    }

    fn filtered(&self, filter: &Filter, sort: Sort) -> Result<Vec<Issued>> {
        self.look(|db| {
            let query = Query::new(db, filter)?;
            select(db, &format!("{} {}", query.conditions, sort.clause()), &query.values)
        })
    }

    fn summaries(
        &self,
        filter: &Filter,
        sort: Sort,
        page: Option<Page>,
        row: &mut dyn FnMut(Summary),
    ) -> Result<usize> {
        let (size, skipped) = page.map_or((usize::MAX, 0), |p| (p.size, p.size.saturating_mul(p.number)));
        let part = if page.is_some() { format!("LIMIT {size} OFFSET {skipped}") } else { String::new() };
        self.look(|db| {
            let query = Query::new(db, filter)?;
            let sql = format!("SELECT {SUMMARY} {} {} {part}", query.conditions, sort.clause());
            let mut shown = 0;
            db.each(&sql, &query.values, &mut |r| {
                shown += 1;
                summary(r, db.host())?.into_iter().for_each(&mut *row);
                Ok(())
            })?;
            // A page that is not full is the last.
            if shown < size && (shown > 0 || skipped == 0) {
                return Ok(skipped + shown);
            }
            // Counting needs the second table only where the filter does.
            let from = match filter.revoked || filter.ending.is_some() {
                true => "certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial",
                false => "certificate c",
            };
            let sql = format!("SELECT count(*) FROM {from} {}", query.conditions);
            let count: i64 = db.single(&sql, &query.values, |r| r.get(0))?;
            Ok(usize::try_from(count).unwrap_or(0))
        })
    }
}

fn select(db: &dyn Database, rest: &str, values: &[Value<'_>]) -> SqlResult<Vec<Issued>> {
    let read = |r: Row<'_>| issued(r, db.host());
    Ok(db.all(&format!("SELECT {COLUMNS} {rest}"), values, read)?.into_iter().flatten().collect())
}

/// Refuses a label that another machine took since it was found free; on one machine the lock of the data directory keeps it free.
pub(super) fn is_free(db: &dyn Database, label: &Label) -> SqlResult<()> {
    let sql = "SELECT 1 FROM certificate WHERE label = ?1 AND state = 'live'";
    match !db.host().is_empty() && db.one(sql, values![label.as_str()], |_| Ok(()))?.is_some() {
        true => Err(SqlError::Taken(label.to_string())),
        false => Ok(()),
    }
}

/// Records a certificate; one of the same label that was live is superseded.
pub(super) fn insert(db: &dyn Database, i: &Issued, now: Timestamp) -> SqlResult<()> {
    let supersede = "UPDATE certificate SET state = 'superseded' WHERE label = ?1 AND state = 'live'";
    db.execute(supersede, values![i.label.as_str()])?;
    let c = &i.certificate;
    // One that was signed here for a key that waits here comes back to that key: it stays one certificate.
    let insert = "INSERT INTO certificate
           (label, serial, sha256, der, authority, folder, state, starts, ends, self_issued, names, issued_at, sha1, host)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'live', ?7, ?8, ?9, ?10, ?11, ?12, ?13)
         ON CONFLICT (sha256) DO UPDATE SET label = excluded.label, folder = excluded.folder, host = excluded.host, state = 'live'
         RETURNING id";
    let id = db.single(
        insert,
        values![
            i.label.as_str(),
            &c.serial,
            c.sha256().as_str(),
            c.der(),
            i.authority.as_deref(),
            text(&i.folder),
            c.not_before.unix(),
            c.not_after.unix(),
            c.is_self_issued(),
            names_column(c),
            now.to_string(),
            c.sha1(),
            // What a client enrolled is on no machine of ours.
            if i.folder.as_os_str().is_empty() { "" } else { db.host() }
        ],
        |r| r.get(0),
    )?;
    name_rows(db, id, c)
}

/// The names of a certificate as one column.
fn names_column(c: &Certificate) -> String {
    serde_json::Value::from(c.name_words()).to_string()
}

/// Reads what a list says of each certificate out of the certificate itself.
pub(super) fn summarize(db: &dyn Database) -> SqlResult<()> {
    let fill = "UPDATE certificate SET starts = ?2, self_issued = ?3, names = ?4, sha1 = ?5 WHERE id = ?1";
    db.each("SELECT id, der FROM certificate", values![], &mut |r| {
        let id: i64 = r.get(0)?;
        let Ok(c) = Certificate::read(r.get(1)?, "a certificate of the ledger") else { return Ok(()) };
        db.execute(fill, values![id, c.not_before.unix(), c.is_self_issued(), names_column(&c), c.sha1()])?;
        name_rows(db, id, &c)
    })
}

/// The names of a certificate, for finding it by one.
pub(super) fn name_rows(db: &dyn Database, id: i64, c: &Certificate) -> SqlResult<()> {
    let sql = "INSERT INTO certificate_name (name, certificate) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
    c.name_words().into_iter().try_for_each(|name| db.execute(sql, values![name, id]).map(drop))
}
