//! Certificates, requests and revocation lists: what goes in ([`profile`]), how a certificate is put together ([`build`]),
//! what is in one ([`read`], [`extensions`]), what is asked for ([`csr`]), what is revoked ([`crl`]).

pub mod build;
pub mod crl;
pub mod csr;
pub mod extensions;
pub mod profile;
pub mod raw;
pub mod read;
pub mod subject;
mod verified;

pub use read::{Certificate, Fields};
