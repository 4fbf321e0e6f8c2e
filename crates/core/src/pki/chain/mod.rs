//! Chains: which paths lead from a leaf to a trusted root ([`path`]), whether names match and constraints hold, what
//! revocation lists and policies say. What a client
//! makes of one is in [`crate::check::client::judge`].

pub mod constraints;
pub mod name_match;
pub mod path;
pub mod policies;
pub mod revocation;
