//! Enrollment over the network: the service that issues certificates to those who prove control of a name, and the client that asks such a
//! service (RFC 8555, RFC 8737, RFC 8738, RFC 9773). What the protocol's messages are and mean is in `tamga-core`; here is what listens,
//! connects and records.

pub mod answer;
pub mod client;
mod endpoint;
pub mod event;
pub mod listen;
pub mod manage;
pub mod metrics;
pub mod nonce;
mod own;
pub mod publish;
pub mod seal;
mod secret_file;
pub mod service;
pub mod settings;
pub mod start;
mod upkeep;
pub mod validate;
