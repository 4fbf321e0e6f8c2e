//! Chains: which paths lead from a leaf to a trusted root ([`path`]), and what is wrong with one ([`judge`]).

pub mod constraints;
pub mod judge;
pub mod name_match;
pub mod path;
pub mod signature;
