//! Certificates: by label, serial, fingerprint or name, page by page.

use super::{Ledger, restored, text};
use crate::error::Result;
use rusqlite::types::ToSql;
use rusqlite::{Connection, OptionalExtension, Row, params};
use std::path::PathBuf;
use tamga_core::ca::report::{Issued, Life, Revocation};
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::timestamp::Timestamp;

/// Which certificates.
#[derive(Clone, Debug, Default)]
pub struct Filter {
    /// Only those of this label.
    pub label: Option<String>,
    /// Only those that had ended by then.
    pub ended_by: Option<Timestamp>,
    /// Only live ones that end between the two moments.
    pub ending: Option<(Timestamp, Timestamp)>,
    /// Only those that were taken back.
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

const COLUMNS: &str = "c.label, c.der, c.authority, c.folder, c.state, r.at, r.reason, r.published
  FROM certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial";

fn issued(r: &Row<'_>) -> rusqlite::Result<Option<Issued>> {
    let (label, der): (String, Vec<u8>) = (r.get(0)?, r.get(1)?);
    let Ok(certificate) = Certificate::read(&der, &label) else { return Ok(None) };
    let at: Option<String> = r.get(5)?;
    let revoked = match at.and_then(|at| Timestamp::parse(&at).ok()) {
        Some(at) => Some(Revocation {
            at,
            reason: Reason::parse(&r.get::<_, String>(6)?).unwrap_or(Reason::Unspecified),
            published: r.get(7)?,
        }),
        None => None,
    };
    Ok(Some(Issued {
        label,
        certificate,
        authority: r.get(2)?,
        folder: restored(&r.get::<_, String>(3)?),
        life: Life::parse(&r.get::<_, String>(4)?),
        revoked,
    }))
}

impl Ledger {
    /// Certificates, oldest first; with a label only those that bear it.
    pub fn issued(&self, label: Option<&str>) -> Result<Vec<Issued>> {
        match label {
            Some(label) => self.select("WHERE c.label = ?1 ORDER BY c.id", &[&label]),
            None => self.select("ORDER BY c.id", &[]),
        }
    }

    /// Where the files of the certificate with this SHA-256 are; None: it is not in the ledger.
    pub fn directory_of(&self, sha256: &str) -> Result<Option<PathBuf>> {
        self.db
            .query_row("SELECT folder FROM certificate WHERE sha256 = ?1", [sha256], |r| r.get::<_, String>(0))
            .map(|folder| restored(&folder))
            .optional()
            .map_err(|e| self.failed(e))
    }

    /// The current certificate of a label.
    pub fn current(&self, label: &str) -> Result<Option<Issued>> {
        Ok(self.select("WHERE c.label = ?1 AND c.state = 'live' ORDER BY c.id DESC LIMIT 1", &[&label])?.pop())
    }

    /// Live ones that no authority issued: self-signed, oldest first.
    pub fn live_without_authority(&self) -> Result<Vec<Issued>> {
        self.select("WHERE c.authority IS NULL AND c.state = 'live' ORDER BY c.id", &[])
    }

    /// Those with this serial number or SHA-256, lower-case hex.
    pub fn by_number(&self, hex: &str) -> Result<Vec<Issued>> {
        let mut out = self.select("WHERE c.serial = ?1", &[&hex])?;
        out.extend(self.select("WHERE c.sha256 = ?1", &[&hex])?);
        Ok(out)
    }

    /// Live ones that name this, as the certificate spells it.
    pub fn naming(&self, name: &str) -> Result<Vec<Issued>> {
        let sql =
            "JOIN certificate_name n ON n.certificate = c.id WHERE n.name = ?1 AND c.state = 'live' ORDER BY c.id";
        self.select(sql, &[&name])
    }

    /// Live labels, for telling a person what there is; at most so many.
    pub fn labels(&self, most: usize) -> Result<Vec<String>> {
        let rows = || -> rusqlite::Result<Vec<String>> {
            let mut q = self
                .db
                .prepare("SELECT DISTINCT label FROM certificate WHERE state = 'live' ORDER BY label LIMIT ?1")?;
            q.query_map([i64::try_from(most).unwrap_or(i64::MAX)], |r| r.get(0))?.collect()
        };
        rows().map_err(|e| self.failed(e))
    }

    /// One page of those that pass the filter, and how many pass in all.
    pub fn page(&self, filter: &Filter, sort: Sort, page: Option<Page>) -> Result<(Vec<Issued>, usize)> {
        let mut wheres: Vec<String> = Vec::new();
        let mut values: Vec<Box<dyn ToSql>> = Vec::new();
        let mut add = |condition: &str, value: Box<dyn ToSql>| {
            values.push(value);
            wheres.push(condition.replace('?', &format!("?{}", values.len())));
        };
        if let Some(label) = &filter.label {
            add("c.label = ?", Box::new(label.clone()));
        }
        if let Some(at) = filter.ended_by {
            add("c.ends < ? AND c.state = 'live'", Box::new(at.unix()));
        }
        if let Some((from, until)) = filter.ending {
            add("c.ends >= ? AND c.state = 'live' AND r.at IS NULL", Box::new(from.unix()));
            add("c.ends <= ?", Box::new(until.unix()));
        }
        if filter.revoked {
            wheres.push("r.at IS NOT NULL".into());
        }
        let which = if wheres.is_empty() { String::new() } else { format!("WHERE {}", wheres.join(" AND ")) };
        let order = match sort {
            Sort::Issued => "c.id",
            Sort::Label => "c.label, c.id",
            Sort::Ends => "c.ends, c.id",
        };
        let part = match page {
            Some(p) => format!("LIMIT {} OFFSET {}", p.size, p.size.saturating_mul(p.number)),
            None => String::new(),
        };
        let all: Vec<&dyn ToSql> = values.iter().map(AsRef::as_ref).collect();
        let found = self.select(&format!("{which} ORDER BY {order} {part}"), &all)?;
        // Counting needs the second table only where the filter does.
        let from = match filter.revoked || filter.ending.is_some() {
            true => "certificate c LEFT JOIN revocation r ON r.authority = c.authority AND r.serial = c.serial",
            false => "certificate c",
        };
        let count: i64 = self
            .db
            .query_row(&format!("SELECT count(*) FROM {from} {which}"), all.as_slice(), |r| r.get(0))
            .map_err(|e| self.failed(e))?;
        Ok((found, usize::try_from(count).unwrap_or(0)))
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
        .execute([&i.label])?;
    let c = &i.certificate;
    db.prepare_cached(
        "INSERT INTO certificate (label, serial, sha256, der, authority, folder, state, ends, issued_at)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, 'live', ?7, ?8)",
    )?
    .execute(params![
        i.label,
        c.serial,
        c.sha256(),
        c.der(),
        i.authority,
        text(&i.folder),
        c.not_after.unix(),
        now.to_string()
    ])?;
    name_rows(db, db.last_insert_rowid(), c)
}

/// The names of a certificate, for finding it by one.
pub(super) fn name_rows(db: &Connection, id: i64, c: &Certificate) -> rusqlite::Result<()> {
    let mut add = db.prepare_cached("INSERT OR IGNORE INTO certificate_name (name, certificate) VALUES (?1, ?2)")?;
    for name in c.name_words() {
        add.execute(params![name, id])?;
    }
    Ok(())
}
