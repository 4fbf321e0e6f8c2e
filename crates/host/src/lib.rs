//! What Tamga does: the real side of the core's doors. Files, the ledger, stores, the network, other programs.

pub mod access;
pub mod act;
pub mod backup;
pub mod clients;
pub mod database;
pub mod dial;
pub mod digest;
pub mod entropy;
pub mod error;
pub mod fs;
pub mod install;
pub mod ledger;
pub mod memory;
pub mod nss;
pub mod place;
pub mod places;
pub mod platform;
pub mod process;
pub mod raise;
pub mod recover;
pub mod repair;
pub mod rights;
pub mod scratch;
pub mod serve;
pub mod share;
pub mod token;
