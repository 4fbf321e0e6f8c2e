//! Tamga's use cases: one file each, with its request, its report and the function that carries it out.
//!
//! A use case reads what there is, lets `tamga-core` decide, and has `tamga-host` do it. It never prints: what it has to say is in
//! its report, and what it has to ask goes through [`interact::Interact`]. The command line makes requests from arguments and text
//! or JSON from reports; a service can do the same without one.

pub mod about;
pub mod apply;
pub mod authority;
pub mod certificate;
pub mod check;
pub mod enroll;
pub mod enrolled;
pub mod enroller;
pub mod env;
pub mod explain;
pub mod failure;
mod files;
pub mod hosts;
pub mod identity;
pub mod interact;
pub mod keys;
pub mod leave;
pub mod ledger;
pub mod machines;
mod observe;
mod open_tokens;
pub mod output;
mod permitted;
pub mod recipe;
pub mod repair;
pub mod report;
pub mod schedule;
pub mod secret;
pub mod serve;
pub mod service_unit;
pub mod setup;
pub mod show;
pub mod status;
pub mod token;
pub mod trust;
