//! Where this machine's state is: for reports of faults.

use crate::env::Env;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::error::Diagnostic as _;
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
    /// The number of its layout; null where there is none yet, or it does not read.
    pub layout: Option<i64>,
    /// True if this version can use it, or may make one.
    pub readable: bool,
    /// Why it does not read.
    pub fault: Option<String>,
}

/// Looks, and changes nothing. A ledger that does not read is no error here: who reports a fault may have just that.
pub fn about(env: &Env) -> Report {
    let (data, ledgers) = (env.machine.data(), env.machine.ledgers());
    let (layout, fault) = match ledgers.layout(data) {
        Ok(layout) => (layout, None),
        Err(e) => (None, Some(format!("{}: {}", e.what(), e.why()))),
    };
    let readable = fault.is_none() && layout.is_none_or(|l| l <= LAYOUT);
    let ledger = LedgerFile { path: ledgers.place(data), layout, readable, fault };
    Report { data_folder: data.to_owned(), ledger }
}
