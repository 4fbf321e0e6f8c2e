//! A ledger copied whole into another one, row by row.

use super::sql::{Cell, Dialect, Value};
use super::{Database, Row, SqlResult, events, values};
use crate::database::SqlError;
use std::borrow::Cow;
use tamga_core::vocabulary::timestamp::Timestamp;

/// What was copied.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Transferred {
    /// Authorities.
    pub authorities: usize,
    /// Certificates.
    pub certificates: usize,
    /// Rows of all tables.
    pub rows: usize,
}

/// Every table of the present layout with its columns; the first one orders it. A test holds them to the tables as they are made.
pub(super) const TABLES: [(&str, &str); 16] = [
    (
        "authority",
        "label, folder, issuer, key_place, key_path, purposes, crl_url, issuer_url, retired, list_number, list_behind, made_at, ocsp_url, host",
    ),
    ("authority_certificate", "id, label, role, sha256, der, at"),
    (
        "certificate",
        "id, label, serial, sha256, der, authority, folder, state, ends, issued_at, starts, self_issued, names, sha1, host",
    ),
    ("certificate_name", "name, certificate"),
    ("revocation", "authority, serial, at, reason, published"),
    ("request", "label, kind, der, folder, settings, made_at, host"),
    ("event", "id, at, kind, about, detail, host, mark"),
    ("journal", "id, at, work, host, mark"),
    ("origin", "label, settings, host"),
    ("enrollment_account", "id, thumbprint, jwk, state, contact, invitation, made_at"),
    ("enrollment_invitation", "key_id, sealed, names, uses_left, ends, made_at"),
    (
        "enrollment_order",
        "id, account, identifiers, named, profile, not_before, not_after, replaces, state, error, expires, certificate, made_at",
    ),
    ("enrollment_authorization", "id, account, kind, name, state, expires"),
    ("enrollment_order_authorization", "of_order, place, \"authorization\""),
    ("enrollment_challenge", "id, \"authorization\", kind, token, state, validated, error"),
    ("enrollment_nonce", "id, at"),
];
/// So many rows are inserted by one statement: fewer ways to a server and back.
const TOGETHER: usize = 50;
/// The event of a ledger that came from elsewhere.
const MOVED: &str = "ledger-moved";

/// True if nothing was recorded yet.
pub(super) fn is_empty(db: &dyn Database) -> SqlResult<bool> {
    let sql = "SELECT 1 FROM authority UNION ALL SELECT 1 FROM certificate UNION ALL SELECT 1 FROM request LIMIT 1";
    Ok(db.all(sql, values![], |_| Ok(()))?.is_empty())
}

/// True if the copy with this mark arrived.
pub(super) fn has_arrived(db: &dyn Database, attempt: &str) -> SqlResult<bool> {
    let sql = "SELECT 1 FROM event WHERE kind = ?1 AND detail = ?2";
    Ok(!db.all(sql, values![MOVED, attempt], |_| Ok(()))?.is_empty())
}

/// Notes that a copy arrived.
pub(super) fn arrived(db: &dyn Database, attempt: &str, now: Timestamp) -> SqlResult<()> {
    events::insert(db, now, MOVED, "", attempt)
}

/// Copies every row. The caller is within a transaction of the target.
///
/// Errors: either database's; a table that has not as many rows afterwards.
pub(super) fn copy(from: &dyn Database, to: &dyn Database) -> SqlResult<Transferred> {
    let mut out = Transferred::default();
    for (table, columns) in TABLES {
        let n = table_copied(from, to, table, columns)?;
        out.rows += n;
        match table {
            "authority" => out.authorities = n,
            "certificate" => out.certificates = n,
            _ => {}
        }
        if to.dialect() == Dialect::Postgres && columns.starts_with("id, ") && table != "enrollment_nonce" {
            let next = format!(
                "SELECT setval(pg_get_serial_sequence('{table}', 'id'), max(id)) FROM {table} HAVING max(id) IS NOT NULL"
            );
            to.all(&next, values![], |_| Ok(()))?;
        }
    }
    Ok(out)
}

fn table_copied(from: &dyn Database, to: &dyn Database, table: &str, columns: &str) -> SqlResult<usize> {
    let names: Vec<&str> = columns.split(", ").collect();
    let (host, folder) = (names.iter().position(|n| *n == "host"), names.iter().position(|n| *n == "folder"));
    let mut waiting: Vec<Value<'static>> = Vec::new();
    let mut n = 0;
    from.each(&format!("SELECT {columns} FROM {table} ORDER BY {}", names[0]), values![], &mut |r| {
        let first = waiting.len();
        for at in 0..names.len() {
            waiting.push(owned(r, at)?);
        }
        if let Some(host) = host {
            // What is on this machine is so under its name there. A certificate without a directory is on none of ours.
            let row = &mut waiting[first..];
            let nowhere = table == "certificate" && folder.is_some_and(|f| text(&row[f]).is_empty());
            if text(&row[host]) == from.host() && !nowhere {
                row[host] = to.host().to_owned().into();
                // Marked by nobody, or by another secret, over there: all that is between the number and the machine's name.
                if let Some(mark) = names.iter().position(|n| *n == "mark") {
                    let parts: Vec<&str> = row[1..host].iter().map(text).collect();
                    row[mark] = to.mark(&parts).into();
                }
            }
        }
        n += 1;
        if n % TOGETHER == 0 {
            insert(to, table, columns, names.len(), &std::mem::take(&mut waiting))?;
        }
        Ok(())
    })?;
    insert(to, table, columns, names.len(), &waiting)?;
    let counted: i64 = to.single(&format!("SELECT count(*) FROM {table}"), values![], |r| r.get(0))?;
    if usize::try_from(counted).ok() == Some(n) { Ok(n) } else { Err(SqlError::Vanished) }
}

fn insert(to: &dyn Database, table: &str, columns: &str, width: usize, all: &[Value<'_>]) -> SqlResult<()> {
    if all.is_empty() {
        return Ok(());
    }
    let row = |r: usize| {
        let marks: Vec<String> = (1..=width).map(|c| format!("?{}", r * width + c)).collect();
        format!("({})", marks.join(", "))
    };
    let rows: Vec<String> = (0..all.len() / width).map(row).collect();
    to.execute(&format!("INSERT INTO {table} ({columns}) VALUES {}", rows.join(", ")), all).map(drop)
}

fn owned(r: Row<'_>, at: usize) -> SqlResult<Value<'static>> {
    Ok(match r.cell(at)? {
        Cell::Null => Value::Null,
        Cell::Integer(n) => Value::Integer(Some(n)),
        Cell::Text(t) => Value::Text(Some(Cow::Owned(t.to_owned()))),
        Cell::Bytes(b) => Value::Bytes(Some(Cow::Owned(b.to_vec()))),
    })
}

fn text<'v>(value: &'v Value<'_>) -> &'v str {
    if let Value::Text(Some(t)) = value { t } else { "" }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use crate::ledger::Sqlite;
    use std::collections::BTreeSet;
    use std::path::Path;

    #[test]
    fn every_table_and_every_column_is_copied() {
        let ledger = Sqlite::in_memory("columns", Path::new("/nowhere")).unwrap();
        let db: &dyn Database = &ledger.db;
        let words = |sql: &str| -> BTreeSet<String> {
            db.all(sql, values![], |r| r.get::<String>(0)).unwrap().into_iter().collect()
        };
        let tables = words("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'");
        assert_eq!(tables, TABLES.iter().map(|(t, _)| (*t).to_owned()).collect());
        for (table, columns) in TABLES {
            let listed: BTreeSet<String> = columns.replace('"', "").split(", ").map(str::to_owned).collect();
            assert_eq!(words(&format!("SELECT name FROM pragma_table_info('{table}')")), listed, "{table}");
        }
    }
}
