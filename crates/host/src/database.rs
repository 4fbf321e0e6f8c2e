//! What goes wrong in the ledger's database.

/// What went wrong in a database.
#[derive(Debug, thiserror::Error)]
pub enum SqlError {
    /// SQLite's word.
    #[error("SQLite says: {0}")]
    Sqlite(#[from] rusqlite::Error),
    /// The words of a PostgreSQL server, or of the way to it.
    #[error("{}", said(.0))]
    Postgres(#[from] tokio_postgres::Error),
    /// There is no way to the server.
    #[error("{0}")]
    Unreachable(String),
    /// The server did not answer within so many seconds.
    #[error("it did not answer within {0} seconds")]
    Silent(u64),
    /// A commit was asked for, and whether it was done is not known.
    #[error("{0}")]
    Unconfirmed(String),
    /// A column is not of the kind that is read.
    #[error("column {0} of a row is not what it should be")]
    Shape(usize),
    /// Another machine recorded something with this label in the meantime.
    #[error("another machine has just recorded something with the label {0}")]
    Taken(String),
    /// A row that was just written is not there.
    #[error("a row that was just written is not there")]
    Vanished,
}

/// A server's words, or what was in the way of them.
fn said(e: &tokio_postgres::Error) -> String {
    let mut words = match e.as_db_error() {
        Some(d) => format!("the server says: {}", d.message()),
        None => e.to_string(),
    };
    if let (None, Some(source)) = (e.as_db_error(), std::error::Error::source(e)) {
        words.push_str(&format!(": {source}"));
    }
    tamga_core::vocabulary::text::harmless(&words)
}
