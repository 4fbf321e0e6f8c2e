//! Statements on one connection.

use super::super::{Cell, Database, Dialect, Row, SqlResult, Value};
use super::Host;
use super::link::{Link, next, wait};
use crate::database::SqlError;
use std::cell::{Cell as Kept, RefCell};
use std::future::Future;
use tokio_postgres::types::{IsNull, ToSql, Type, private::BytesMut, to_sql_checked};

impl ToSql for Value<'_> {
    fn to_sql(
        &self,
        kind: &Type,
        out: &mut BytesMut,
    ) -> std::result::Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Value::Integer(n) => n.to_sql(kind, out),
            Value::Text(t) => t.as_deref().to_sql(kind, out),
            Value::Bytes(b) => b.as_deref().to_sql(kind, out),
            Value::Null => Ok(IsNull::Yes),
        }
    }

    fn accepts(kind: &Type) -> bool {
        [Type::INT8, Type::TEXT, Type::BYTEA, Type::UNKNOWN].contains(kind)
    }

    to_sql_checked!();
}

fn typed<'v>(values: &'v [Value<'_>]) -> Vec<(&'v (dyn ToSql + Sync), Type)> {
    let kind = |v: &Value<'_>| match v {
        Value::Integer(_) => Type::INT8,
        Value::Text(_) => Type::TEXT,
        Value::Bytes(_) => Type::BYTEA,
        Value::Null => Type::UNKNOWN,
    };
    values.iter().map(|v| -> (&(dyn ToSql + Sync), Type) { (v, kind(v)) }).collect()
}

/// The value of a column.
pub(in super::super) fn cell(row: &tokio_postgres::Row, at: usize) -> SqlResult<Cell<'_>> {
    let kind = row.columns().get(at).map(|c| c.type_().clone()).ok_or(SqlError::Shape(at))?;
    let found = match kind {
        Type::INT8 => row.try_get::<_, Option<i64>>(at)?.map(Cell::Integer),
        Type::TEXT => row.try_get::<_, Option<&str>>(at)?.map(Cell::Text),
        Type::BYTEA => row.try_get::<_, Option<&[u8]>>(at)?.map(Cell::Bytes),
        _ => return Err(SqlError::Shape(at)),
    };
    Ok(found.unwrap_or(Cell::Null))
}

/// Our marks as the server has them: `$1` for `?1`.
fn marked(sql: &str) -> String {
    sql.replace('?', "$")
}

/// A transaction under way.
pub(super) struct Transaction<'l> {
    pub(super) link: &'l Link,
    pub(super) host: &'l Host,
    /// How it begins: sent together with its first statement, which saves the way there and back.
    pub(super) begin: RefCell<Option<String>>,
}

impl Transaction<'_> {
    /// Waits for an answer, with the beginning before it if that was not sent yet.
    fn asked<T>(&self, answer: impl Future<Output = std::result::Result<T, tokio_postgres::Error>>) -> SqlResult<T> {
        let begin = self.begin.take();
        let Some(begin) = begin else { return Ok(wait(answer)??) };
        let (begun, answer) = wait(futures_util::future::join(self.link.client.batch_execute(&begin), answer))?;
        begun?;
        Ok(answer?)
    }

    /// Begins if nothing was asked.
    pub(super) fn begun(&self) -> SqlResult<()> {
        if self.begin.borrow().is_none() { Ok(()) } else { self.asked(std::future::ready(Ok(()))) }
    }
}

impl Database for Transaction<'_> {
    fn dialect(&self) -> Dialect {
        Dialect::Postgres
    }

    fn host(&self) -> &str {
        &self.host.name
    }

    fn mark(&self, parts: &[&str]) -> String {
        self.host.mark(parts)
    }

    fn execute(&self, sql: &str, values: &[Value<'_>]) -> SqlResult<usize> {
        let (sql, values) = (marked(sql), typed(values));
        let changed = self.asked(self.link.client.execute_typed(&sql, &values))?;
        Ok(usize::try_from(changed).unwrap_or(usize::MAX))
    }

    fn each(&self, sql: &str, values: &[Value<'_>], row: &mut dyn FnMut(Row<'_>) -> SqlResult<()>) -> SqlResult<()> {
        let (sql, values) = (marked(sql), typed(values));
        let asked = self.link.client.query_typed_raw(&sql, values.iter().map(|(v, t)| (*v, t.clone())));
        let mut rows = Box::pin(self.asked(asked)?);
        while let Some(r) = next(&mut rows)? {
            row(Row::Postgres(&r?))?;
        }
        Ok(())
    }
}

/// Statements that only read, each by itself.
pub(super) struct Reading<'l> {
    pub(super) db: Transaction<'l>,
    /// True once a row was handed on.
    pub(super) handed: &'l Kept<bool>,
}

impl Database for Reading<'_> {
    fn dialect(&self) -> Dialect {
        self.db.dialect()
    }

    fn host(&self) -> &str {
        self.db.host()
    }

    fn mark(&self, parts: &[&str]) -> String {
        self.db.mark(parts)
    }

    fn execute(&self, sql: &str, values: &[Value<'_>]) -> SqlResult<usize> {
        self.db.execute(sql, values)
    }

    fn each(&self, sql: &str, values: &[Value<'_>], row: &mut dyn FnMut(Row<'_>) -> SqlResult<()>) -> SqlResult<()> {
        self.db.each(sql, values, &mut |r| {
            self.handed.set(true);
            row(r)
        })
    }
}
