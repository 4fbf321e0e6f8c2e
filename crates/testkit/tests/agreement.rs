//! What Tamga predicts is what the installed clients do, in every cell; and every rule and switch is held in place by one.

#![allow(clippy::unwrap_used, reason = "tests")]

use std::process::Command;
use tamga_testkit::matrix::{stores, tell};
use tamga_testkit::sandbox::has;

#[test]
fn every_client_does_what_its_rules_say_of_every_kind() {
    let clients =
        ["curl", "chromium", "firefox-esr", "node", "python3", "java", "go", "wget", "git", "ruby", "php", "psql"];
    if !has(&clients) {
        return;
    }
    let folder = tempfile::Builder::new().prefix("tamga-test-").tempdir().unwrap();
    let (home, root) = (folder.path().join("home"), folder.path().join("root"));
    std::fs::create_dir(&home).unwrap();
    std::fs::create_dir(&root).unwrap();
    // Cargo builds examples beside the tests.
    let own = std::env::current_exe().unwrap();
    let mut c = Command::new(own.ancestors().nth(2).unwrap().join("examples/agreement"));
    // The system's own git, not one that somebody built.
    let path = std::env::join_paths(
        std::iter::once("/usr/bin".into()).chain(std::env::split_paths(&std::env::var_os("PATH").unwrap())),
    );
    c.env_clear().env("PATH", path.unwrap()).env("HOME", &home).env("TAMGA_ROOT", root);
    let ran = c.env("NODE_EXTRA_CA_CERTS", home.join(stores::EXTRA)).current_dir(folder.path()).output().unwrap();
    let wrong = String::from_utf8_lossy(&ran.stderr);
    assert!(ran.status.success() && wrong.is_empty(), "{wrong}");
    let text = String::from_utf8_lossy(&ran.stdout);
    let committed = include_str!("../../../docs/agreement.md");
    assert!(text == committed, "docs/agreement.md is not what `just agreement` makes");
    let kinds = text.lines().filter(|l| l.starts_with("| ")).count();
    assert!(kinds > tell::LEAST_KINDS, "{kinds}");
}
