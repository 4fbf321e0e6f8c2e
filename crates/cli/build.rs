//! What `tamga --version --verbose` says of the program: the commit it was made of, and for which system.

#![allow(clippy::disallowed_methods, reason = "a build reads its own sources, and prints their names for cargo")]

use std::path::Path;
use std::process::Command;

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    println!("cargo::rerun-if-env-changed=TAMGA_COMMIT");
    println!("cargo::rustc-env=TAMGA_TARGET={}", std::env::var("TARGET").unwrap_or_default());
    let commit = std::env::var("TAMGA_COMMIT").ok().or_else(packaged).or_else(checked_out);
    println!("cargo::rustc-env=TAMGA_COMMIT={}", commit.unwrap_or_default());
}

/// In a crate as it is published, cargo says of which commit it is.
fn packaged() -> Option<String> {
    let text = std::fs::read_to_string(".cargo_vcs_info.json").ok()?;
    let after = text.split("\"sha1\"").nth(1)?;
    after.split('"').nth(1).map(str::to_owned)
}

/// Only for a release: while one works on it, every commit would compile the program again.
fn checked_out() -> Option<String> {
    let log = Path::new("../../.git/logs/HEAD");
    if std::env::var("PROFILE").as_deref() != Ok("release") || !log.exists() {
        return None;
    }
    println!("cargo::rerun-if-changed={}", log.display());
    let said = Command::new("git").args(["rev-parse", "HEAD"]).output().ok()?;
    let commit = String::from_utf8(said.stdout).ok()?.trim().to_owned();
    (said.status.success() && !commit.is_empty()).then_some(commit)
}
