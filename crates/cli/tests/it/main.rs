//! Drives the built program in hermetic sandboxes. Whatever a test needs beyond a Rust toolchain it says, and is
//! skipped visibly without it.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::disallowed_methods,
    clippy::disallowed_macros,
    reason = "tests arrange files as they like"
)]

mod account;
mod apply;
mod at_a_terminal;
mod attack;
mod authority;
mod boring;
mod carried;
mod certificates;
mod check;
mod children;
mod completions;
mod contract;
mod demo;
mod device;
mod enrollment;
mod environment;
mod everywhere;
mod examples;
mod export;
mod fetched;
mod firefox;
mod foreign_keys;
mod guide;
mod handed_on;
mod hostile;
mod hosts;
mod hung_up;
mod identity;
mod images;
mod inputs;
mod issue;
mod java;
mod kills;
mod ledger;
mod ledger_input;
mod limits;
mod machines;
mod many;
mod met;
mod missteps;
mod observe_many;
mod other_systems;
mod padlock;
mod policies;
mod preludes;
mod privileges;
mod readers;
mod recipes;
mod redirects;
mod reference;
mod remembered;
mod rights;
mod schedule;
mod secrets;
mod serve;
mod servers;
mod servers_page;
mod setup;
mod share;
mod shared_ledger;
mod status;
mod stopped;
mod suites;
mod token;
mod transcripts;
mod trust;
mod upgrades;
mod vectors;
mod version;
mod windows_recipes;
mod wire;

use tamga_testkit::sandbox::Sandbox;

fn sandbox() -> Sandbox {
    Sandbox::new(env!("CARGO_BIN_EXE_tamga"))
}

/// A sandbox with the lab's authority and the certificate of its web server.
fn lab() -> Sandbox {
    let s = sandbox();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s.run(&["issue", "charts.saltmarsh.test", "localhost", "127.0.0.1", "::1", "--label", "charts"]).expect(0);
    s
}
