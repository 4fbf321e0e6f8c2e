//! Certificates: issued, requested, signed, received, renewed, revoked, listed, exported.

pub mod export;
mod export_again;
mod exports;
pub(crate) mod form;
pub mod issue;
pub mod issue_list;
pub mod list;
pub mod pairs;
pub mod receive;
pub mod relocate;
pub mod renew;
pub mod request;
pub mod revoke;
pub mod sign;

mod lookup;
pub(crate) mod make;
mod single_use;

pub use lookup::current;
pub(crate) use lookup::{here, waiting};
pub use make::Signer;
pub(crate) use make::make;
