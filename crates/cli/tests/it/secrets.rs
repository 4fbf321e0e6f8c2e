//! Secrets: not in a core file, not in memory longer than needed, not where other accounts read them, not too short.

use crate::{lab, sandbox};
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::ExitStatusExt;
use std::process::{Command, Stdio};
use std::time::Duration;
use tamga_testkit::sandbox::{Ran, Sandbox, has};
use tamga_testkit::trace;

const LONG: &str = "four random words here\n";

/// A lab whose root's key is encrypted.
fn locked() -> Sandbox {
    let s = sandbox();
    std::fs::write(s.lab("pass"), LONG).unwrap();
    s.run(&["authority", "create", "saltmarsh", "--new-passphrase-file", "pass"]).expect(0);
    s.run(&["issue", "charts.saltmarsh.test", "--label", "charts", "--passphrase-file", "pass"]).expect(0);
    s.run(&["request", "archive.saltmarsh.test", "--label", "archive"]).expect(0);
    s
}

#[test]
fn a_command_that_crashes_with_a_key_at_hand_leaves_no_core_file() {
    if !has(&["bash", "mkfifo"]) {
        return;
    }
    let s = locked();
    let crash = |mut c: Command, control: bool| -> std::process::ExitStatus {
        let mut child = c
            .current_dir(s.path("lab"))
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(s.path("said")).unwrap())
            .spawn()
            .unwrap();
        // At work: it has given up core files, as it does before its first secret; the control never does.
        let of = |file: &str| std::fs::read_to_string(format!("/proc/{}/{file}", child.id())).unwrap_or_default();
        let given_up = || {
            // The shell that comes before it may have no core files either, and gives itself some.
            let text = if of("comm").trim() == "tamga" { of("limits") } else { String::new() };
            text.lines().any(|l| l.starts_with("Max core file size") && l.split_whitespace().nth(4) == Some("0"))
        };
        let begun = std::time::Instant::now();
        let patience = if control { Duration::from_millis(500) } else { Duration::from_secs(20) };
        while !given_up() && begun.elapsed() < patience {
            std::thread::sleep(Duration::from_millis(20));
        }
        std::thread::sleep(Duration::from_millis(300));
        let pid = nix::unistd::Pid::from_raw(i32::try_from(child.id()).unwrap());
        // The first one is taken for a stack overflow by the runtime, which then lets the next one through.
        // Two that arrive together are one, so more follow until the process is gone.
        loop {
            if let Some(status) = child.try_wait().unwrap() {
                return status;
            }
            let _ = nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGSEGV);
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    let unlimited = |words: &[&str]| {
        let mut c = s.around("bash");
        c.args(["-c", "ulimit -c unlimited 2>/dev/null; exec \"$@\"", "bash"]).args(words);
        c
    };
    let control = crash(unlimited(&["sleep", "30"]), true);
    if !control.core_dumped() {
        eprintln!("SKIPPED: this system writes no core files at all");
        return;
    }
    // Each of them waits for a passphrase from a pipe that says nothing: whatever key it has by then is in its memory.
    assert!(Command::new("mkfifo").arg(s.lab("silent")).status().unwrap().success());
    let waiting: [&[&str]; 8] = [
        &["issue", "x.saltmarsh.test", "--passphrase-file", "silent"],
        &["sign", "archive/request.pem", "--into", "back", "--passphrase-file", "silent"],
        &["renew", "charts", "--passphrase-file", "silent"],
        &["authority", "crl", "saltmarsh", "--output", "s.crl", "--passphrase-file", "silent"],
        &["authority", "passphrase", "saltmarsh", "--passphrase-file", "pass", "--new-passphrase-file", "silent"],
        &["authority", "rollover", "saltmarsh", "next", "--passphrase-file", "silent"],
        &["authority", "backup", "--output", "b", "--new-passphrase-file", "silent"],
        &["export", "charts", "--as", "pkcs12", "--new-passphrase-file", "silent"],
    ];
    for words in waiting.iter().chain([&["serve", "charts"][..]].iter()) {
        let status = crash(unlimited(&[&["tamga"], *words].concat()), false);
        let said = std::fs::read_to_string(s.path("said")).unwrap_or_default();
        assert_eq!(status.signal(), Some(11), "{words:?} was at work: {status:?} {said}");
        assert!(!status.core_dumped(), "{words:?} left a core file");
    }
    let cores: Vec<_> = std::fs::read_dir(s.path("lab")).unwrap().flatten().map(|e| e.file_name()).collect();
    assert!(!cores.iter().any(|n| n.to_string_lossy().starts_with("core")) || control.core_dumped(), "{cores:?}");
}

/// The bytes of a key, as they may lie in memory: its scalar, and the text of its file.
fn traces_of(file: &std::path::Path) -> Vec<Vec<u8>> {
    let text = std::fs::read_to_string(file).unwrap();
    let block = tamga_core::pki::format::pem::read(text.as_bytes()).0.remove(0);
    // P-256: the 32 bytes behind `04 20` in the ECPrivateKey.
    let at = block.der.windows(2).position(|w| w == [4, 32]).unwrap() + 2;
    let body: String = text.lines().filter(|l| !l.starts_with('-')).collect();
    vec![block.der[at..at + 32].to_vec(), body.as_bytes()[40..88].to_vec()]
}

#[test]
fn a_key_that_was_used_is_in_memory_no_more() {
    let s = lab();
    let authority = traces_of(&s.path("data/authorities/saltmarsh/private-key.pem"));
    let (key, root) = (s.lab("archive/private-key.pem"), authority.clone());
    let made =
        trace::search_at_exit(s.command(&["issue", "archive.saltmarsh.test", "--label", "archive"]), move || {
            [root, traces_of(&key)].concat()
        });
    let Some(found) = made else {
        eprintln!("SKIPPED: memory is read on x86-64 Linux only");
        return;
    };
    assert_eq!(found, [0, 0, 0, 0], "scalar and text of the authority's key, then of the new one");
    for words in [
        &["renew", "charts"][..],
        &["authority", "crl", "saltmarsh", "--output", "s.crl"],
        &["export", "charts", "--as", "combined-pem", "--output", "x.pem"],
    ] {
        let file = s.lab("charts/private-key.pem");
        let root = authority.clone();
        let found = trace::search_at_exit(s.command(words), move || [root, traces_of(&file)].concat()).unwrap();
        assert_eq!(found, [0, 0, 0, 0], "{words:?}");
    }
}

#[test]
fn a_short_passphrase_for_an_authoritys_key_is_refused_unless_accepted() {
    let s = lab();
    std::fs::write(s.lab("short"), "spring tide\n").unwrap();
    std::fs::write(s.lab("long"), LONG).unwrap();
    let short = ["--new-passphrase-file", "short"];
    let accept = ["--accept", "weak-passphrase"];
    for words in [
        &["authority", "create", "harbour"][..],
        &["authority", "passphrase", "saltmarsh"],
        &["authority", "rollover", "saltmarsh", "next"],
        &["authority", "backup", "--output", "lab.backup"],
        &["authority", "offline", "saltmarsh", "--into", "stick"],
        &["authority", "request", "branch"],
    ] {
        let ran = s.json(&[words, &short].concat()).expect(3).json();
        assert_eq!(ran["error"]["code"], "weak-passphrase", "{words:?}: {ran}");
    }
    s.run(&[&["authority", "create", "harbour"], &short[..], &accept].concat()).expect(0);
    s.run(&["authority", "create", "quay", "--new-passphrase-file", "long"]).expect(0);
    // A leaf's key may be as short as the person likes: it does not sign for others.
    s.run(&[&["issue", "x.saltmarsh.test", "--issuer", "saltmarsh"], &short[..]].concat()).expect(0);
}

#[test]
fn the_successor_of_an_encrypted_root_is_encrypted() {
    let s = locked();
    s.run(&["authority", "rollover", "saltmarsh", "next", "--passphrase-file", "pass"]).expect(0);
    let text = std::fs::read_to_string(s.path("data/authorities/next/private-key.pem")).unwrap();
    assert!(text.contains("ENCRYPTED"), "{text}");
    s.run(&["issue", "new.saltmarsh.test", "--issuer", "next", "--passphrase-file", "pass"]).expect(0);
}

#[test]
fn a_passphrase_file_that_every_account_can_read_is_warned_about() {
    let s = sandbox();
    s.open_to_others();
    std::fs::write(s.lab("pass"), LONG).unwrap();
    let bits =
        |path: &std::path::Path, mode| std::fs::set_permissions(path, std::fs::Permissions::from_mode(mode)).unwrap();
    let create =
        |label: &str| s.run(&["authority", "create", label, "--new-passphrase-file", "pass", "--quiet"]).expect(0);
    bits(&s.lab("pass"), 0o644);
    assert!(create("a").err.contains("passphrase-file-readable"));
    bits(&s.lab("pass"), 0o600);
    assert!(!create("b").err.contains("passphrase-file-readable"));
    // No other account can reach the file.
    bits(&s.lab("pass"), 0o644);
    bits(&s.path("lab"), 0o700);
    assert!(!create("c").err.contains("passphrase-file-readable"));
    bits(&s.path("lab"), 0o755);
    // A secret of a container: mounted for it alone, readable for anyone who is inside.
    let script = format!(
        "mkdir -p {0} && mount -t tmpfs -o mode=755 t {0} && cp pass {0}/word && chmod 444 {0}/word",
        s.lab("run").display()
    );
    let Some(mut c) = tamga_testkit::account::private(&script) else { return };
    let own = s.command(&["authority", "create", "d", "--new-passphrase-file", "run/word"]);
    c.arg(own.get_program()).args(own.get_args()).current_dir(s.path("lab")).env_clear();
    c.envs(own.get_envs().filter_map(|(k, v)| Some((k, v?)))).env("PATH", "/usr/bin:/bin:/usr/sbin:/sbin");
    let ran = Ran::from(c.output().unwrap()).expect(0);
    assert!(!ran.err.contains("passphrase-file-readable"), "{}", ran.err);
}

#[test]
fn a_bug_is_three_lines_and_seventy_and_no_dump() {
    let s = lab();
    for place in ["main", "thread"] {
        let mut c = s.command(&["list"]);
        let ran = Ran::from(c.env("TAMGA_TESTS_PANIC", place).output().unwrap());
        if ran.code == 0 {
            eprintln!("SKIPPED: only builds for tests can be made to fail");
            return;
        }
        let ran = ran.expect(70);
        assert_eq!(ran.err.lines().count(), 3, "{}", ran.err);
        assert!(
            ran.err.contains("a bug in Tamga") && ran.err.contains("do:") && !ran.err.contains("RUST_BACKTRACE"),
            "{}",
            ran.err
        );
    }
}
