//! Certificates: by label, serial, fingerprint or name, page by page.

use super::{Sqlite, restored, text};
use crate::error::Result;
use rusqlite::types::ToSql;
use rusqlite::{Connection, OptionalExtension, Row, params};
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
    values: Vec<Box<dyn ToSql>>,
}

impl Query {
    fn new(db: &Connection, filter: &Filter) -> rusqlite::Result<Query> {
        let mut wheres: Vec<String> = Vec::new();
        let mut values: Vec<Box<dyn ToSql>> = Vec::new();
        let mut add = |condition: &str, value: Option<Box<dyn ToSql>>| {
            values.extend(value);
            wheres.push(condition.replace('?', &format!("?{}", values.len())));
        };
        if let Some(pattern) = &filter.pattern {
            match few(db, pattern)? {
                Some(ids) => add(&format!("c.id IN ({ids})"), None),
                None => add(
                    "(c.label GLOB ? OR c.id IN (SELECT certificate FROM certificate_name WHERE name GLOB ?))",
                    Some(Box::new(glob(pattern))),
                ),
            }
        }
        if let Some(at) = filter.ended_by {
            add("c.ends < ? AND c.state = 'live'", Some(Box::new(at.unix())));
        }
        if let Some((from, until)) = filter.ending {
            add("c.ends >= ? AND c.state = 'live' AND c.folder <> '' AND r.at IS NULL", Some(Box::new(from.unix())));
            add("c.ends <= ?", Some(Box::new(until.unix())));
        }
        if filter.revoked {
            wheres.push("r.at IS NOT NULL".into());
        }
        let conditions = if wheres.is_empty() { String::new() } else { format!("WHERE {}", wheres.join(" AND ")) };
        Ok(Query { conditions, values })
    }

    fn values(&self) -> Vec<&dyn ToSql> {
        self.values.iter().map(AsRef::as_ref).collect()
    }
}

/// A pattern as SQLite's GLOB has it: only `*` is special.
fn glob(pattern: &str) -> String {
    let plain: String = pattern
        .to_lowercase()
        .chars()
        .map(|c| if matches!(c, '[' | '?') { format!("[{c}]") } else { c.to_string() })
        .collect();
    if plain.contains('*') { plain } else { format!("*{plain}*") }
}

/// So many matches are looked up one by one; of more, a page is sooner found by reading on.
const FEW: usize = 1_000;

/// The ids of what a pattern takes, from the two indices alone: a table of a million certificates is not read for a handful of them. None
/// where they are many.
fn few(db: &Connection, pattern: &str) -> rusqlite::Result<Option<String>> {
    let begins = pattern.split_once('*').map(|(begins, _)| begins.to_lowercase()).unwrap_or_default();
    // Written out, since SQLite sees the beginning of a pattern only in one that is not bound.
    let end = if begins.is_empty() { String::new() } else { format!("{begins}{}", char::MAX) };
    let within = if begins.is_empty() { "" } else { "column >= ?2 AND column < ?3 AND " };
    let of = |id: &str, table: &str, column: &str| {
        format!("SELECT {id} FROM {table} WHERE {}{column} GLOB ?1", within.replace("column", column))
    };
    let (labels, names) = (of("id", "certificate", "label"), of("certificate", "certificate_name", "name"));
    let mut q = db.prepare(&format!("{labels} UNION ALL {names} LIMIT {}", FEW + 1))?;
    let pattern = glob(pattern);
    let all: [&dyn ToSql; 3] = [&pattern, &begins, &end];
    let used = if begins.is_empty() { 1 } else { 3 };
    let ids: Vec<String> =
        q.query_map(&all[..used], |r| r.get::<_, i64>(0).map(|id| id.to_string()))?.collect::<rusqlite::Result<_>>()?;
    Ok((ids.len() <= FEW).then(|| ids.join(",")))
}

pub(super) const SUMMARY: &str =
    "c.label, c.names, c.serial, c.sha256, c.starts, c.ends, c.self_issued, c.authority, c.folder, c.state,
  r.at, r.reason, r.published, c.sha1
  FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial";

pub(super) fn summary(r: &Row<'_>) -> rusqlite::Result<Option<Summary>> {
    let read = (r.get_ref(0)?.as_str()?.parse(), r.get_ref(3)?.as_str()?.parse());
    let (Ok(label), Ok(sha256)) = read else { return Ok(None) };
    // Text is borrowed where it is only read: a list has up to a million rows.
    let names = serde_json::from_str(r.get_ref(1)?.as_str()?).unwrap_or_default();
    Ok(Some(Summary {
        label,
        names,
        serial: r.get(2)?,
        sha256,
        sha1: r.get(13)?,
        not_before: Timestamp::from_unix(r.get(4)?),
        not_after: Timestamp::from_unix(r.get(5)?),
        is_self_issued: r.get(6)?,
        authority: r.get::<_, Option<String>>(7)?.and_then(|a| a.parse().ok()),
        folder: restored(r.get_ref(8)?.as_str()?),
        life: r.get_ref(9)?.as_str()?.parse().unwrap_or(Life::Abandoned),
        revoked: revocation(r, 10)?,
    }))
}

/// A revocation from three columns.
fn revocation(r: &Row<'_>, first: usize) -> rusqlite::Result<Option<Revocation>> {
    let at: Option<String> = r.get(first)?;
    let Some(at) = at.and_then(|at| Timestamp::from_str(&at).ok()) else { return Ok(None) };
    let reason = r.get_ref(first + 1)?.as_str()?.parse().unwrap_or(Reason::Unspecified);
    Ok(Some(Revocation { at, reason, published: r.get(first + 2)? }))
}

const COLUMNS: &str = "c.label, c.der, c.authority, c.folder, c.state, r.at, r.reason, r.published
  FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial";

fn issued(r: &Row<'_>) -> rusqlite::Result<Option<Issued>> {
    let (label, der): (String, Vec<u8>) = (r.get(0)?, r.get(1)?);
    let (Ok(certificate), Ok(label)) = (Certificate::read(&der, &label), label.parse()) else { return Ok(None) };
    Ok(Some(Issued {
        label,
        certificate,
        authority: r.get::<_, Option<String>>(2)?.and_then(|a| a.parse().ok()),
        folder: restored(&r.get::<_, String>(3)?),
        life: r.get::<_, String>(4)?.parse().unwrap_or(Life::Abandoned),
        revoked: revocation(r, 5)?,
    }))
}

/// The certificates of a ledger.
pub trait Certificates {
    /// The certificates of a label, oldest first.
    fn issued(&self, label: &str) -> Result<Vec<Issued>>;

    /// Live ones that are not revoked and whose files are here, oldest first.
    fn in_use(&self) -> Result<Vec<Issued>>;

    /// The live ones whose files are here, revoked ones too, by their age.
    fn live(&self) -> Result<Vec<Issued>>;

    /// The directories of all, each once.
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

impl Certificates for Sqlite {
    fn issued(&self, label: &str) -> Result<Vec<Issued>> {
        self.select("WHERE c.label = ?1 ORDER BY c.id", &[&label])
    }

    fn in_use(&self) -> Result<Vec<Issued>> {
        self.select("WHERE c.state = 'live' AND c.folder <> '' AND r.at IS NULL ORDER BY c.id", &[])
    }

    fn live(&self) -> Result<Vec<Issued>> {
        self.select("WHERE c.state = 'live' AND c.folder <> '' ORDER BY c.id", &[])
    }

    fn directories(&self) -> Result<Vec<PathBuf>> {
        self.texts("SELECT DISTINCT folder FROM certificate WHERE folder <> ''")
            .map(|all| all.iter().map(|f| restored(f)).collect())
    }

    fn names(&self) -> Result<Vec<String>> {
        self.texts("SELECT DISTINCT name FROM certificate_name")
    }

    fn label_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<Label>> {
        let one = "SELECT label FROM certificate WHERE sha256 = ?1";
        let found = self.db.query_row(one, [sha256.as_str()], |r| r.get::<_, String>(0));
        Ok(found.optional().map_err(|e| self.failed(e))?.and_then(|l| l.parse().ok()))
    }

    fn directory_of(&self, sha256: &Sha256Fingerprint) -> Result<Option<PathBuf>> {
        self.db
            .query_row("SELECT folder FROM certificate WHERE sha256 = ?1", [sha256.as_str()], |r| r.get::<_, String>(0))
            .map(|folder| restored(&folder))
            .optional()
            .map_err(|e| self.failed(e))
    }

    fn current(&self, label: &str) -> Result<Option<Issued>> {
        Ok(self.select("WHERE c.label = ?1 AND c.state = 'live' ORDER BY c.id DESC LIMIT 1", &[&label])?.pop())
    }

    fn live_in(&self, directory: &Path) -> Result<Option<Issued>> {
        let folder = text(directory);
        Ok(self.select("WHERE c.folder = ?1 AND c.state = 'live' ORDER BY c.id DESC LIMIT 1", &[&folder])?.pop())
    }

    fn moved(&self, label: &Label, from: &Path, to: &Path, now: Timestamp) -> Result<()> {
        let run = || -> rusqlite::Result<()> {
            let tx = self.db.unchecked_transaction()?;
            tx.execute(
                "UPDATE certificate SET folder = ?3 WHERE label = ?1 AND folder = ?2",
                params![label.as_str(), text(from), text(to)],
            )?;
            super::events::insert(&tx, now, "moved", label, &text(to))?;
            tx.commit()
        };
        run().map_err(|e| self.failed(e))
    }

    fn live_without_authority(&self) -> Result<Vec<Issued>> {
        self.select("WHERE c.authority IS NULL AND c.state = 'live' ORDER BY c.id", &[])
    }

    fn by_number(&self, hex: &str) -> Result<Vec<Issued>> {
        let mut out = self.select("WHERE c.serial = ?1", &[&hex])?;
        out.extend(self.select("WHERE c.sha256 = ?1", &[&hex])?);
        Ok(out)
    }

    fn by_fingerprint(&self, sha256: &Sha256Fingerprint) -> Result<Option<Issued>> {
        Ok(self.select("WHERE c.sha256 = ?1", &[&sha256.as_str()])?.pop())
    }

    fn naming(&self, name: &str) -> Result<Vec<Issued>> {
        let sql =
            "JOIN certificate_name n ON n.certificate = c.id WHERE n.name = ?1 AND c.state = 'live' ORDER BY c.id";
        self.select(sql, &[&name])
    }

    fn labels(&self, most: usize) -> Result<Vec<String>> {
        let rows = || -> rusqlite::Result<Vec<String>> {
            let mut q = self
                .db
                .prepare("SELECT DISTINCT label FROM certificate WHERE state = 'live' ORDER BY label LIMIT ?1")?;
            q.query_map([i64::try_from(most).unwrap_or(i64::MAX)], |r| r.get(0))?.collect()
        };
        rows().map_err(|e| self.failed(e))
    }

    fn filtered(&self, filter: &Filter, sort: Sort) -> Result<Vec<Issued>> {
        let query = Query::new(&self.db, filter).map_err(|e| self.failed(e))?;
        self.select(&format!("{} {}", query.conditions, sort.clause()), &query.values())
    }

    fn summaries(
        &self,
        filter: &Filter,
        sort: Sort,
        page: Option<Page>,
        row: &mut dyn FnMut(Summary),
    ) -> Result<usize> {
        let query = Query::new(&self.db, filter).map_err(|e| self.failed(e))?;
        let (size, skipped) = page.map_or((usize::MAX, 0), |p| (p.size, p.size.saturating_mul(p.number)));
        let part = if page.is_some() { format!("LIMIT {size} OFFSET {skipped}") } else { String::new() };
        let mut read = || -> rusqlite::Result<usize> {
            let sql = format!("SELECT {SUMMARY} {} {} {part}", query.conditions, sort.clause());
            let mut q = self.db.prepare(&sql)?;
            let mut rows = q.query(query.values().as_slice())?;
            let mut shown = 0;
            while let Some(r) = rows.next()? {
                shown += 1;
                summary(r)?.into_iter().for_each(&mut *row);
            }
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
            let count: i64 = self.db.query_row(&sql, query.values().as_slice(), |r| r.get(0))?;
            Ok(usize::try_from(count).unwrap_or(0))
        };
        read().map_err(|e| self.failed(e))
    }
}

impl Sqlite {
    fn texts(&self, sql: &str) -> Result<Vec<String>> {
        let read = || -> rusqlite::Result<Vec<String>> { self.db.prepare(sql)?.query_map([], |r| r.get(0))?.collect() };
        read().map_err(|e| self.failed(e))
    }

    fn select(&self, rest: &str, values: &[&dyn ToSql]) -> Result<Vec<Issued>> {
        let rows = || -> rusqlite::Result<Vec<Issued>> {
            let mut q = self.db.prepare_cached(&format!("SELECT {COLUMNS} {rest}"))?;
            let mut rows = q.query(values)?;
            let mut out = Vec::new();
            while let Some(r) = rows.next()? {
                out.extend(issued(r)?);
            }
            Ok(out)
        };
        rows().map_err(|e| self.failed(e))
    }
}

/// Records a certificate; one of the same label that was live is superseded.
pub(super) fn insert(db: &Connection, i: &Issued, now: Timestamp) -> rusqlite::Result<()> {
    db.prepare_cached("UPDATE certificate SET state = 'superseded' WHERE label = ?1 AND state = 'live'")?
        .execute([i.label.as_str()])?;
    let c = &i.certificate;
    let mut insert = db.prepare_cached(
        "INSERT INTO certificate
           (label, serial, sha256, der, authority, folder, state, starts, ends, self_issued, names, issued_at, sha1)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'live', ?7, ?8, ?9, ?10, ?11, ?12)
         ON CONFLICT (sha256) DO UPDATE SET label = excluded.label, folder = excluded.folder, state = 'live'
         RETURNING id",
    )?;
    // One that was signed here for a key that waits here comes back to that key: it stays one certificate.
    let id = insert.query_row(
        params![
            i.label.as_str(),
            c.serial,
            c.sha256().as_str(),
            c.der(),
            i.authority.as_deref(),
            text(&i.folder),
            c.not_before.unix(),
            c.not_after.unix(),
            c.is_self_issued(),
            names_column(c),
            now.to_string(),
            c.sha1()
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
pub(super) fn summarize(db: &Connection) -> rusqlite::Result<()> {
    let mut all = db.prepare("SELECT id, der FROM certificate")?;
    let mut fill =
        db.prepare("UPDATE certificate SET starts = ?2, self_issued = ?3, names = ?4, sha1 = ?5 WHERE id = ?1")?;
    let mut rows = all.query([])?;
    while let Some(r) = rows.next()? {
        let (id, der): (i64, Vec<u8>) = (r.get(0)?, r.get(1)?);
        if let Ok(c) = Certificate::read(&der, "a certificate of the ledger") {
            fill.execute(params![id, c.not_before.unix(), c.is_self_issued(), names_column(&c), c.sha1()])?;
            name_rows(db, id, &c)?;
        }
    }
    Ok(())
}

/// The names of a certificate, for finding it by one.
pub(super) fn name_rows(db: &Connection, id: i64, c: &Certificate) -> rusqlite::Result<()> {
    let mut add = db.prepare_cached("INSERT OR IGNORE INTO certificate_name (name, certificate) VALUES (?1, ?2)")?;
    for name in c.name_words() {
        add.execute(params![name, id])?;
    }
    Ok(())
}
