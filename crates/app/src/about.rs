//! Where this machine's state is: for reports of faults.

use crate::env::Env;
use crate::failure::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_host::ledger::LAYOUT;

/// Where the state is.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Report {
    /// The data directory.
    #[serde(serialize_with = "crate::report::path")]
    #[schemars(with = "String")]
    pub data_folder: PathBuf,
    /// The ledger.
    pub ledger: LedgerFile,
}

/// The ledger's file.
#[derive(Debug, Serialize, JsonSchema)]
pub struct LedgerFile {
    /// Where it is, or would be.
    #[serde(serialize_with = "crate::report::path")]
    #[schemars(with = "String")]
    pub path: PathBuf,
    /// The number of its layout; null where there is none yet, or it is damaged.
    pub layout: Option<i64>,
    /// True if this version can use it.
    pub readable: bool,
}

/// Looks, and changes nothing.
///
/// Errors: the ledger cannot be read.
pub fn about(env: &Env) -> Result<Report> {
    let (data, ledgers) = (env.machine.data(), env.machine.ledgers());
    let layout = ledgers.layout(data)?;
    let readable = layout.is_none_or(|l| l <= LAYOUT);
    let ledger = LedgerFile { path: ledgers.place(data), layout, readable };
    Ok(Report { data_folder: data.to_owned(), ledger })
}
