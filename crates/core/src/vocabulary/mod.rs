//! Values that are parsed once and valid ever after: names, labels, fingerprints, times, purposes, reasons, secrets.

pub mod client_id;
pub mod fingerprint;
pub mod label;
pub mod name;
pub mod permit;
pub mod purpose;
pub mod reason;
pub mod secret;
pub mod text;
pub mod timestamp;
pub mod token_fault;
pub mod word;
