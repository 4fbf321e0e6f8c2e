//! Killed anywhere, and refused anything by the disk: nothing torn, nothing with a key left behind, nothing lost.
//!
//! `TAMGA_TESTS_KILLS` says how often a command is killed after a system call drawn at random (500; 10,000 before an issue is closed),
//! `TAMGA_TESTS_FAULTS=all` that every call of every command fails once instead of some of five commands. `TAMGA_TESTS_SEED` repeats a run.

use crate::lab;
use rusqlite::Connection;
use std::path::{Path, PathBuf};
use tamga_core::ca::authority::{KEY_FILE, read_key};
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::{sample, trace};

/// A generator of the xorshift family: a seed is printed, and repeats the run.
struct Draw(u64);

impl Draw {
    fn new() -> Draw {
        let seed = std::env::var("TAMGA_TESTS_SEED").ok().and_then(|s| s.parse().ok());
        let seed = seed.unwrap_or_else(|| u64::from(std::process::id()) << 20 | 1);
        eprintln!("TAMGA_TESTS_SEED={seed}");
        Draw(seed)
    }

    fn below(&mut self, n: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % u64::try_from(n.max(1)).unwrap()).unwrap()
    }
}

fn prepared() -> Sandbox {
    let s = lab();
    std::fs::write(s.lab("pass"), "four random words here\n").unwrap();
    std::fs::write(s.lab("roots.pem"), "# the lab's\n").unwrap();
    std::fs::write(s.lab("hosts"), "127.0.0.1 localhost\n").unwrap();
    let text = "[[authority]]\nlabel = \"saltmarsh\"\n[[certificate]]\nlabel = \"archive\"\nnames = [\"archive.saltmarsh.test\"]\n\
                [[certificate.place]]\ncertificate = \"server/archive.pem\"\nkey = \"server/archive.key\"\n";
    std::fs::write(s.lab("tamga.toml"), text).unwrap();
    s
}

/// Every command that writes.
const ALL: [&[&str]; 14] = [
    &["issue", "gauge-7.saltmarsh.test"],
    &["renew", "charts", "--add", "archive.saltmarsh.test"],
    &["apply"],
    &["export", "charts", "--as", "pkcs12", "--new-passphrase-file", "pass", "--output", "charts.p12"],
    &["authority", "create", "harbour", "--new-passphrase-file", "pass"],
    &["export", "charts", "--as", "combined-pem", "--output", "charts-all.pem"],
    &["trust", "add", "--stores", "bundle", "--bundle", "roots.pem"],
    &["hosts", "add", "charts.saltmarsh.test", "--file", "hosts"],
    &["authority", "crl", "saltmarsh", "--output", "s.crl"],
    &["authority", "passphrase", "saltmarsh", "--new-passphrase-file", "pass"],
    &["authority", "rollover", "saltmarsh", "next"],
    &["authority", "permit", "saltmarsh", "tides.example"],
    &["request", "quay.saltmarsh.test"],
    &["revoke", "charts", "--reason", "key-compromise", "--yes"],
];

/// What is wrong in a sandbox after the next run has looked at it; empty if all is well.
fn wrong(s: &Sandbox) -> Vec<String> {
    let mut out = Vec::new();
    let repaired = s.run(&["repair"]);
    if repaired.code != 0 {
        out.push(format!("repair ended with {}: {}", repaired.code, repaired.err));
    }
    let files: Vec<PathBuf> = ["lab", "data"].iter().flat_map(|f| s.files(f)).map(|(p, _)| p).collect();
    for path in &files {
        if path.to_string_lossy().contains(".tamga-") {
            out.push(format!("left behind: {}", path.display()));
        }
    }
    for (path, mode) in s.files("lab").into_iter().chain(s.files("data")) {
        let bytes = std::fs::read(&path).unwrap_or_default();
        let has_key = bytes.windows(11).any(|w| w == b"PRIVATE KEY") || path.extension().is_some_and(|e| e == "p12");
        if has_key && mode & 0o077 != 0 {
            out.push(format!("readable by others ({mode:o}): {}", path.display()));
        }
    }
    // Every pair matches, wherever it lies.
    let pair = |key: &Path, certificate: &Path| -> Option<String> {
        if !key.exists() || !certificate.exists() {
            return (key.exists() != certificate.exists()).then(|| format!("half a pair: {}", key.display()));
        }
        let bytes = std::fs::read(key).unwrap();
        if bytes.windows(9).any(|w| w == b"ENCRYPTED") {
            return None;
        }
        let Ok(read) = read_key(&bytes, "key") else { return Some(format!("torn: {}", key.display())) };
        let same = *read.public() == sample::certificate(certificate).key;
        (!same).then(|| format!("torn pair: {}", key.display()))
    };
    for path in files.iter().filter(|p| p.file_name().is_some_and(|n| n == KEY_FILE)) {
        let folder = path.parent().unwrap();
        let waits = folder.join("request.pem").exists();
        if !waits {
            out.extend(pair(path, &folder.join("certificate.pem")));
        }
    }
    out.extend(pair(&s.lab("server/archive.key"), &s.lab("server/archive.pem")));
    // The ledger and the files agree, and what was there before is there still.
    let db = Connection::open(s.path("data/ledger.sqlite")).unwrap();
    let mut q = db.prepare("SELECT label, folder FROM certificate WHERE state = 'live'").unwrap();
    let rows = q.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?))).unwrap();
    for (label, folder) in rows.flatten() {
        if !Path::new(&folder).join("certificate.pem").exists() {
            out.push(format!("the ledger has {label}, and {folder} has no certificate"));
        }
    }
    let (charts, saltmarsh) = (s.lab("charts/private-key.pem"), s.path("data/authorities/saltmarsh/private-key.pem"));
    out.extend([charts, saltmarsh].iter().filter(|p| !p.exists()).map(|p| format!("lost: {}", p.display())));
    out
}

#[test]
fn killed_at_random_nothing_is_torn_left_or_lost() {
    let rounds = std::env::var("TAMGA_TESTS_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(500_usize);
    let mut draw = Draw::new();
    let mut points = Vec::new();
    for words in ALL {
        let s = prepared();
        let Some(whole) = trace::run(s.command(words), None) else {
            eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
            return;
        };
        assert_eq!(whole.code, Some(0), "{words:?}");
        points.push(whole.calls.len());
    }
    let work: Vec<(usize, usize)> = (0..rounds)
        .map(|_| {
            let which = draw.below(ALL.len());
            (which, 1 + draw.below(points[which]))
        })
        .collect();
    let bad: Vec<String> = std::thread::scope(|scope| {
        let halves: Vec<_> = work
            .chunks(work.len().div_ceil(2))
            .map(|part| {
                scope.spawn(move || {
                    let mut bad = Vec::new();
                    for (which, point) in part {
                        let s = prepared();
                        trace::run(s.command(ALL[*which]), Some(*point)).unwrap();
                        let found = wrong(&s);
                        bad.extend(found.iter().map(|f| format!("{:?} after call {point}: {f}", ALL[*which])));
                    }
                    bad
                })
            })
            .collect();
        halves.into_iter().flat_map(|h| h.join().unwrap()).collect()
    });
    eprintln!("{rounds} kills of {} commands: {} wrong", ALL.len(), bad.len());
    assert!(bad.is_empty(), "{}", bad.join("\n"));
}

/// The disk refuses a call: the command says so with an exit code of its own, and what it leaves is as after a kill.
#[test]
fn a_disk_that_is_full_or_broken_at_any_call_loses_nothing() {
    let all = std::env::var("TAMGA_TESTS_FAULTS").is_ok_and(|v| v == "all");
    let commands = if all { &ALL[..] } else { &ALL[..5] };
    let mut tried = 0;
    for words in commands {
        let s = prepared();
        let Some(whole) = trace::run(s.command(words), None) else {
            eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
            return;
        };
        let step = if all { 1 } else { 3 };
        for point in (1..=whole.calls.len()).step_by(step) {
            for errno in [nix::errno::Errno::EIO, nix::errno::Errno::ENOSPC] {
                let s = prepared();
                let call = &whole.calls[point - 1];
                let when = format!("{words:?}: {errno} at call {point} ({} {})", call.name, call.path);
                let ended = trace::fail(s.command(words), point, errno).unwrap();
                // A call whose failure does not matter (a file that was to be removed) may be gone over.
                assert!(matches!(ended.code, Some(0 | 1 | 3 | 4 | 5 | 6)), "{when}: {:?}", ended.code);
                let found = wrong(&s);
                assert!(found.is_empty(), "{when}: {}", found.join("; "));
                tried += 1;
            }
        }
    }
    eprintln!("{tried} injected errors in {} commands: 0 wrong", commands.len());
    assert!(tried > 60, "too few to be true: {tried}");
}
