//! Certificates: what goes in ([`profile`]), how they are put together ([`build`]), what stands in one ([`read`]).

pub mod build;
pub mod profile;
pub mod read;
pub mod subject;

pub use read::Certificate;
