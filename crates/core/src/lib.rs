//! What Tamga decides: names, keys, certificates, chains, clients, stores, findings.
//!
//! Nothing in this crate prints, tells the time, draws randomness, reads the environment or touches a
//! file, a process or a socket. What it needs of the world comes in through [`ports`] and arguments;
//! what it wants done goes out as [`step::Step`]s. See `ARCHITECTURE.md`.

pub mod access;
pub mod apply;
pub mod archive;
pub mod assess;
pub mod authority;
pub mod cert;
pub mod chain;
pub mod client;
pub mod client_id;
pub mod difference;
pub mod error;
pub mod export;
pub mod fault;
pub mod finding;
pub mod form;
pub mod hosts;
pub mod identity;
pub mod issue;
pub mod key;
pub mod label;
pub mod list_file;
pub mod moment;
pub mod name;
pub mod native;
pub mod nss;
pub mod pairs;
pub mod perform;
pub mod permit;
pub mod ports;
pub mod purpose;
pub mod reason;
pub mod receive;
pub mod recipe;
pub mod redirect;
pub mod renew;
pub mod report;
pub mod request;
pub mod schedule;
pub mod secret;
pub mod sign;
pub mod signature;
pub mod status;
pub mod step;
pub mod text;
pub mod trust;
pub mod wire;

#[cfg(test)]
mod test_entropy;
