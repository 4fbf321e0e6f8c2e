//! Would a client warn, why, and what to do: clients, their rules, findings about a chain, redirects, bytes on the wire.

pub mod assess;
pub mod client;
pub mod messages;
pub mod verify;
pub mod redirect;
pub mod wire;
