//! The differential loop: situations drawn at random, served on loopback, judged by the rules, and visited by the real clients in bulk.

pub mod cover;
pub mod kept;
pub mod keys;
pub mod observe;
pub mod odd;
pub mod predict;
pub mod report;
pub mod rng;
pub mod serve;
pub mod shrink;
pub mod situation;
