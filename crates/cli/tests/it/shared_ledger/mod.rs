//! A ledger in PostgreSQL that several machines share: real servers, killed and replaced in the middle of work.

mod alike;
mod partition;
mod program;
mod replaced;

use serde_json::Value;
use tamga_testkit::postgres::Postgres;
use tamga_testkit::sandbox::Sandbox;

/// A machine of its own, on which nothing was done yet.
fn machine() -> Sandbox {
    Sandbox::new(env!("CARGO_BIN_EXE_tamga")).without_clients()
}

/// The same with the root `saltmarsh` and its key.
fn with_authority() -> Sandbox {
    let s = machine();
    s.run(&["authority", "create", "saltmarsh"]).expect(0);
    s
}

/// Another machine that shares a ledger; it has a copy of the authority's key, as an administrator brought it there.
fn joined(first: &Sandbox, url: &str, name: &str) -> Sandbox {
    let s = machine();
    let from = first.path("data").join("authorities");
    let to = s.path("data");
    std::fs::create_dir_all(&to).unwrap();
    assert!(std::process::Command::new("cp").arg("-a").arg(from).arg(&to).status().unwrap().success());
    let moved = s.json(&["ledger", "move", url, "--host", name]).expect(0).json();
    assert_eq!((&moved["joined"], &moved["host"]), (&true.into(), &name.into()));
    s
}

/// Every certificate that is recorded under these labels.
fn recorded(server: &Postgres, database: &str) -> Vec<String> {
    let all = server.sql(database, "SELECT label FROM certificate WHERE state = 'live' ORDER BY label");
    all.lines().map(str::to_owned).collect()
}

fn labels(list: &Value) -> Vec<String> {
    let all = list["certificates"].as_array().cloned().unwrap_or_default();
    all.iter().map(|c| c["label"].as_str().unwrap_or_default().to_owned()).collect()
}
