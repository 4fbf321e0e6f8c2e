//! What Tamga's tests stand on: a sandbox for the built program, traces of its system calls, sample makers, and
//! judges that share no code with Tamga. Never published.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot be set up has failed")]

pub mod account;
pub mod chromium;
pub mod clock;
pub mod differential;
pub mod firefox;
pub mod hostile;
pub mod judge;
pub mod machine;
pub mod matrix;
pub mod memory;
pub mod mutual;
pub mod postgres;
pub mod sample;
pub mod sandbox;
pub mod schema;
pub mod server;
pub mod site;
pub mod stand_ins;
pub mod terminal;
pub mod trace;
pub mod transcript;
