//! The transcripts in `docs/cli/`: every command on the sample data, with exactly what it prints. `TAMGA_TESTS_WRITE=1` writes
//! them; what they say is then read by a person.

use std::path::PathBuf;
use tamga_testkit::sandbox::{Sandbox, has};
use tamga_testkit::transcript;

fn folder() -> PathBuf {
    std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/cli")
}

/// A sandbox whose path is as long everywhere, with these programs and no other.
fn with(programs: &[&str]) -> Sandbox {
    let s = Sandbox::below("/tmp", env!("CARGO_BIN_EXE_tamga")).without_clients();
    let path = std::env::var_os("PATH").unwrap_or_default();
    // The tools of every system, for the lines of a shell that stand around the commands.
    for name in
        ["cat", "chmod", "cp", "grep", "head", "ls", "mkdir", "mv", "printf", "rm", "sed", "sleep", "timeout", "tail"]
            .iter()
            .chain(programs)
    {
        if let Some(program) = std::env::split_paths(&path).map(|f| f.join(name)).find(|p| p.is_file()) {
            std::os::unix::fs::symlink(program, s.path("bin").join(name)).unwrap();
        }
    }
    std::fs::write(s.path("root/etc/hosts"), "127.0.0.1 localhost\n").unwrap();
    s
}

#[track_caller]
fn holds(name: &str, programs: &[&str]) {
    if !has(programs) {
        return;
    }
    let file = folder().join(name);
    let page = std::fs::read_to_string(&file).unwrap();
    let now = transcript::run(&page, &with(programs));
    if std::env::var_os("TAMGA_TESTS_WRITE").is_some() {
        std::fs::write(&file, now).unwrap();
        return;
    }
    let differs = page.lines().zip(now.lines()).enumerate().find(|(_, (a, b))| a != b);
    if let Some((at, (written, printed))) = differs {
        panic!(
            "{name}, line {}: run the tests with TAMGA_TESTS_WRITE=1\n  written: {written}\n  printed: {printed}",
            at + 1
        );
    }
    assert_eq!(page.lines().count(), now.lines().count(), "{name}");
}

macro_rules! pages {
    ($($name:ident $file:literal $programs:expr;)*) => { $(#[test] fn $name() { holds($file, &$programs); })* };
}

pages! {
    start "start.md" [];
    first_screen "first-screen.md" ["chromium", "curl"];
    certificates "certificates.md" [];
    authorities "authorities.md" [];
    servers "servers.md" [];
    trust "trust.md" [];
    checks "checks.md" [];
    lab "lab.md" [];
    enrollment "enrollment.md" [];
    mistakes "mistakes.md" [];
}

/// No command without a transcript.
#[test]
fn every_command_has_one() {
    let pages: Vec<String> =
        std::fs::read_dir(folder()).unwrap().map(|e| std::fs::read_to_string(e.unwrap().path()).unwrap()).collect();
    let typed: Vec<&str> = pages.iter().flat_map(|p| transcript::commands(p)).collect();
    for command in crate::contract::commands() {
        let words = format!("tamga {command}");
        assert!(typed.iter().any(|t| t.contains(&words)), "{words}");
    }
}
