//! What the ledger asks of a database: statements in the part of SQL that SQLite and PostgreSQL share, values in, rows out.
//!
//! Marks are `?1`, `?2`, …; integers have 64 bits, truth is 0 or 1, text is UTF-8. What differs between the two is in [`Dialect`].

mod postgres;
mod sqlite;

pub use postgres::Postgres;
pub(crate) use postgres::{Around, Place, Pool, Read, Settings, is_postgres};
pub use sqlite::Sqlite;
pub(super) use sqlite::distrust;

use crate::database::SqlError;
use crate::error::{Error, Result};
use std::borrow::Cow;
use std::path::{Path, PathBuf};

/// The answer of a database.
pub(super) type SqlResult<T> = std::result::Result<T, SqlError>;

/// Where the two differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Dialect {
    /// Text is matched by `GLOB`.
    Sqlite,
    /// Text is matched by `LIKE`.
    Postgres,
}

/// A value for a mark. None is NULL; of which kind is said all the same, since a server wants to know.
#[derive(Clone, Debug)]
pub(super) enum Value<'a> {
    Integer(Option<i64>),
    Text(Option<Cow<'a, str>>),
    Bytes(Option<Cow<'a, [u8]>>),
    /// Of whatever kind the column is.
    Null,
}

macro_rules! value_from {
    ($($kind:ident: $type:ty, $v:ident => $as:expr;)*) => {$(
        impl<'a> From<$type> for Value<'a> {
            fn from($v: $type) -> Value<'a> {
                Value::$kind(Some($as))
            }
        }

        impl<'a> From<Option<$type>> for Value<'a> {
            fn from(v: Option<$type>) -> Value<'a> {
                Value::$kind(v.map(|$v| $as))
            }
        }
    )*};
}

value_from! {
    Integer: i64, v => v;
    Integer: bool, v => i64::from(v);
    Integer: u32, v => i64::from(v);
    Text: &'a str, v => Cow::Borrowed(v);
    Text: &'a String, v => Cow::Borrowed(v.as_str());
    Text: String, v => Cow::Owned(v);
    Bytes: &'a [u8], v => Cow::Borrowed(v);
}

/// Values for the marks of a statement, in their order.
macro_rules! values {
    ($($v:expr),* $(,)?) => { &[$($crate::ledger::sql::Value::from($v)),*] };
}
pub(super) use values;

/// The value of one column.
#[derive(Clone, Copy, Debug)]
pub(super) enum Cell<'r> {
    Null,
    Integer(i64),
    Text(&'r str),
    Bytes(&'r [u8]),
}

/// A row of an answer. Its columns count from 0.
#[derive(Clone, Copy)]
pub(super) enum Row<'r> {
    Sqlite(&'r rusqlite::Row<'r>),
    Postgres(&'r tokio_postgres::Row),
}

impl<'r> Row<'r> {
    pub(super) fn cell(self, at: usize) -> SqlResult<Cell<'r>> {
        match self {
            Row::Sqlite(r) => sqlite::cell(r, at),
            Row::Postgres(r) => postgres::cell(r, at),
        }
    }

    /// A column.
    ///
    /// Errors: it is not of this kind.
    pub(super) fn get<T: Column<'r>>(self, at: usize) -> SqlResult<T> {
        T::of(self.cell(at)?).ok_or(SqlError::Shape(at))
    }
}

/// What a column can be read as.
pub(super) trait Column<'r>: Sized {
    /// None if it is something else.
    fn of(cell: Cell<'r>) -> Option<Self>;
}

impl<'r> Column<'r> for i64 {
    fn of(cell: Cell<'r>) -> Option<i64> {
        if let Cell::Integer(n) = cell { Some(n) } else { None }
    }
}

impl<'r> Column<'r> for bool {
    fn of(cell: Cell<'r>) -> Option<bool> {
        i64::of(cell).map(|n| n != 0)
    }
}

impl<'r> Column<'r> for &'r str {
    fn of(cell: Cell<'r>) -> Option<&'r str> {
        if let Cell::Text(t) = cell { Some(t) } else { None }
    }
}

impl<'r> Column<'r> for String {
    fn of(cell: Cell<'r>) -> Option<String> {
        <&str>::of(cell).map(str::to_owned)
    }
}

impl<'r> Column<'r> for &'r [u8] {
    fn of(cell: Cell<'r>) -> Option<&'r [u8]> {
        if let Cell::Bytes(b) = cell { Some(b) } else { None }
    }
}

impl<'r> Column<'r> for Vec<u8> {
    fn of(cell: Cell<'r>) -> Option<Vec<u8>> {
        <&[u8]>::of(cell).map(<[u8]>::to_vec)
    }
}

impl<'r, T: Column<'r>> Column<'r> for Option<T> {
    fn of(cell: Cell<'r>) -> Option<Option<T>> {
        if let Cell::Null = cell { Some(None) } else { T::of(cell).map(Some) }
    }
}

/// A database, inside of a transaction or not.
pub(super) trait Database {
    /// Which of the two it is.
    fn dialect(&self) -> Dialect;

    /// The name of this machine in the ledger; empty where the ledger is this machine's own.
    fn host(&self) -> &str;

    /// This machine's mark on a row that nobody else may forge; empty where the ledger is this machine's own.
    fn mark(&self, parts: &[&str]) -> String;

    /// Carries a statement out; how many rows it changed.
    fn execute(&self, sql: &str, values: &[Value<'_>]) -> SqlResult<usize>;

    /// Calls `row` for each row of the answer, as they are read.
    fn each(&self, sql: &str, values: &[Value<'_>], row: &mut dyn FnMut(Row<'_>) -> SqlResult<()>) -> SqlResult<()>;
}

impl dyn Database + '_ {
    /// All rows, read.
    pub(super) fn all<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        read: impl Fn(Row<'_>) -> SqlResult<T>,
    ) -> SqlResult<Vec<T>> {
        let mut out = Vec::new();
        self.each(sql, values, &mut |r| {
            out.push(read(r)?);
            Ok(())
        })?;
        Ok(out)
    }

    /// The row, if there is one; of several the last.
    pub(super) fn one<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        read: impl Fn(Row<'_>) -> SqlResult<T>,
    ) -> SqlResult<Option<T>> {
        Ok(self.all(sql, values, read)?.pop())
    }

    /// The row of a statement that always gives one.
    pub(super) fn single<T>(
        &self,
        sql: &str,
        values: &[Value<'_>],
        read: impl Fn(Row<'_>) -> SqlResult<T>,
    ) -> SqlResult<T> {
        self.one(sql, values, read)?.ok_or(SqlError::Vanished)
    }
}

/// Whether what is committed must outlive a loss of power.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Durability {
    /// It must.
    Durable,
    /// It need only outlive the process.
    Process,
}

/// A place that keeps a ledger.
pub(super) trait Store {
    /// Calls `work` with the database. It may be called again, if the database asks for that.
    fn look_with(&self, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>) -> SqlResult<()>;

    /// Calls `work` within one transaction: all that it does is done, or nothing. It may be called again.
    fn write_with(&self, durability: Durability, work: &mut dyn FnMut(&dyn Database) -> SqlResult<()>)
    -> SqlResult<()>;

    /// The failure as the caller gets it.
    fn failed(&self, source: SqlError) -> Error;

    /// The data directory of this machine.
    fn directory(&self) -> &Path;
}

/// What every place can do.
pub(super) trait StoreExt: Store {
    /// Reads.
    fn look<T>(&self, mut work: impl FnMut(&dyn Database) -> SqlResult<T>) -> Result<T> {
        let mut out = None;
        let done = self.look_with(&mut |db| {
            out = Some(work(db)?);
            Ok(())
        });
        done.and_then(|()| out.ok_or(SqlError::Vanished)).map_err(|e| self.failed(e))
    }

    /// Writes, durably, in one transaction.
    fn write<T>(&self, work: impl FnMut(&dyn Database) -> SqlResult<T>) -> Result<T> {
        self.write_as(Durability::Durable, work)
    }

    /// Writes in one transaction.
    fn write_as<T>(&self, durability: Durability, mut work: impl FnMut(&dyn Database) -> SqlResult<T>) -> Result<T> {
        let mut out = None;
        let done = self.write_with(durability, &mut |db| {
            out = Some(work(db)?);
            Ok(())
        });
        done.and_then(|()| out.ok_or(SqlError::Vanished)).map_err(|e| self.failed(e))
    }

    /// Where an authority's key and certificate lie.
    fn directory_of_authority(&self, label: &str) -> PathBuf {
        self.directory().join("authorities").join(label)
    }
}

impl<S: Store + ?Sized> StoreExt for S {}
