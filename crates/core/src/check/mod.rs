//! What clients make of a chain and a connection: [`predict`] by each library's own procedure ([`verify`]) or by rules
//! ([`client`]), and what follows for a person ([`assess`]).

pub mod address_limits;
pub mod assess;
pub mod client;
mod ledger;
pub mod messages;
pub mod page;
pub mod predict;
pub mod redirect;
pub mod suite_kind;
pub mod suites;
pub mod verify;
pub mod wire;
