//! What a person may name and what is found by looking: pipes, devices, names of any bytes.

use crate::lab;
use std::ffi::OsStr;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::symlink;
use std::os::unix::process::CommandExt as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tamga_testkit::sandbox::{Ran, Sandbox, has};

/// Runs a command that must end soon by itself.
fn soon(s: &Sandbox, words: &[&str]) -> Ran {
    let mut child =
        s.command(words).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() {
        if begun.elapsed() > Duration::from_secs(20) {
            child.kill().unwrap();
            panic!("tamga {} hangs", words.join(" "));
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    child.wait_with_output().unwrap().into()
}

fn fifo(path: &std::path::Path) {
    assert!(Command::new("mkfifo").arg(path).status().unwrap().success());
}

#[test]
fn a_fifo_in_a_directory_hangs_nobody() {
    let s = lab();
    for name in ["charts/z.pem", "charts/request.pem", "charts/a.crt"] {
        fifo(&s.lab(name));
    }
    symlink("/dev/zero", s.lab("charts/b.pem")).unwrap();
    soon(&s, &["match", "charts"]).expect(0);
    soon(&s, &["show", "charts"]);
    soon(&s, &["repair", "charts", "."]).expect(0);
    soon(&s, &["check", "charts", "--name", "charts.saltmarsh.test", "--clients", "standard"]);
    soon(&s, &["status"]);
    std::fs::remove_file(s.lab("charts/private-key.pem")).unwrap();
    fifo(&s.lab("charts/private-key.pem"));
    soon(&s, &["status"]).expect(1);
    std::fs::remove_file(s.lab("charts/certificate.pem")).unwrap();
    fifo(&s.lab("charts/certificate.pem"));
    soon(&s, &["status"]).expect(1);
    soon(&s, &["apply"]);
    soon(&s, &["match", "charts"]);
}

#[test]
fn a_pipe_that_was_named_is_read_to_its_end() {
    if !has(&["bash"]) {
        return;
    }
    let s = lab();
    let shell = |line: &str| -> Ran {
        let mut c = s.around("bash");
        c.args(["-c", line]);
        c.output().unwrap().into()
    };
    let ran = shell("tamga show <(cat charts/certificate.pem)").expect(0);
    assert!(ran.out.contains("charts.saltmarsh.test"), "{}", ran.out);
    shell("tamga issue locked.test --new-passphrase-file <(echo a passphrase by a pipe)").expect(0);
    shell("tamga export locked.test --as der --output key.der --passphrase-file <(echo a passphrase by a pipe)")
        .expect(0);
    shell("cat charts/certificate.pem | tamga check /dev/stdin --name charts.saltmarsh.test --clients standard");
    // As much as a pipe gives, but not more than anybody needs.
    let ran = shell("tamga show <(head -c 80000000 /dev/zero)").expect(4);
    assert!(ran.err.contains("more than 64 MiB"), "{}", ran.err);
}

#[test]
fn a_device_is_refused_and_ctrl_c_ends_a_silent_pipe() {
    let s = lab();
    for words in [["show", "/dev/zero"], ["sign", "/dev/zero"], ["show", "/dev/null"]] {
        let ran = soon(&s, &words).expect(4);
        assert!(ran.err.contains("it is a device"), "{words:?}: {}", ran.err);
    }
    fifo(&s.lab("silent"));
    let mut c = s.command(&["show", "silent"]);
    // Tests that a shell started in the background have it ignored, and so would the program.
    // SAFETY: between fork and exec only a plain system call is made.
    unsafe {
        c.pre_exec(|| {
            nix::sys::signal::signal(nix::sys::signal::Signal::SIGINT, nix::sys::signal::SigHandler::SigDfl)?;
            Ok(())
        });
    }
    let mut child = c.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(300));
    assert!(child.try_wait().unwrap().is_none(), "it waits for the pipe");
    let pid = nix::unistd::Pid::from_raw(i32::try_from(child.id()).unwrap());
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGINT).unwrap();
    let begun = Instant::now();
    while child.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < Duration::from_secs(5), "Ctrl-C does not end it");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// A path of any bytes works, or is refused before anything is made; it is shown escaped, and comes back from the ledger.
#[test]
fn a_path_that_is_not_utf8_works_and_is_shown_escaped() {
    let s = lab();
    let odd = s.path("lab").join(OsStr::from_bytes(b"odd-\xff\x1b[31m-dir"));
    std::fs::create_dir(&odd).unwrap();
    let run = |words: &[&OsStr]| -> Ran {
        let mut c = s.command(&[]);
        c.args(words).output().unwrap().into()
    };
    let os = OsStr::new;
    let place = odd.join("tls");
    for format in ["text", "json"] {
        let label = format!("archive-{format}");
        let into = place.join(&label);
        let words = ["issue", "archive.saltmarsh.test", "--label", &label, "--format", format, "--into"].map(os);
        let ran = run(&[&words[..], &[into.as_os_str()]].concat()).expect(0);
        assert!(into.join("private-key.pem").exists());
        assert!(ran.out.contains("odd-\\xff") || ran.out.contains("odd-\\\\xff"), "{}", ran.out);
        assert!(!ran.out.contains("\u{1b}[31m-dir") && !ran.out.contains('\u{fffd}'), "{:?}", ran.out);
        if format == "json" {
            let folder = ran.json()["certificates"][0]["folder"].as_str().unwrap().to_owned();
            assert!(folder.contains("odd-\\xff\\u{1b}[31m-dir"), "{folder}");
        }
        // The ledger has the path whole: the pair is found, renewed and judged where it is.
        s.run(&["renew", &label]).expect(0);
        let listed = s.json(&["show", &label]).expect(0);
        assert!(!listed.out.contains('\u{fffd}'), "{}", listed.out);
        assert_eq!(std::fs::read_dir(&into).unwrap().count(), 4, "no file went elsewhere");
        s.run(&["export", &label, "--as", "combined-pem", "--output", "x.pem", "--yes"]).expect(0);
    }
    for words in [[os("match"), place.join("archive-text").as_os_str()], [os("repair"), place.as_os_str()]] {
        let ran = run(&words).expect(0);
        assert!(!ran.out.contains("\u{1b}[31m-dir"), "{:?}", ran.out);
    }
    // What may be a label as well is refused before anything is made.
    run(&[os("show"), place.join("archive-text/certificate.pem").as_os_str()]).expect(2);
    let output = odd.join("out.p12");
    std::fs::write(s.lab("pass"), "a passphrase for the way\n").unwrap();
    let words = ["export", "charts", "--as", "pkcs12", "--new-passphrase-file", "pass", "--output"].map(os);
    run(&[&words[..], &[output.as_os_str()]].concat()).expect(0);
    assert!(output.exists());
    // A data directory too; and a word that is no command is a usage error, not a panic.
    let data = odd.join("data");
    run(&[os("--data-dir"), data.as_os_str(), os("authority"), os("create"), os("harbour")]).expect(0);
    run(&[
        os("--data-dir"),
        data.as_os_str(),
        os("authority"),
        os("backup"),
        os("--output"),
        odd.join("b").as_os_str(),
        os("--new-passphrase-file"),
        os("pass"),
    ])
    .expect(0);
    run(&[os("--data-dir"), data.as_os_str(), os("status")]).expect(1);
    run(&[OsStr::from_bytes(b"\xff")]).expect(2);
    run(&[os("--format"), os("json"), OsStr::from_bytes(b"\xff")]).expect(2);
}

/// A journal that names such a path finishes what was interrupted there.
#[test]
fn interrupted_work_in_such_a_path_is_finished_by_the_next_run() {
    use tamga_testkit::trace;
    let s = lab();
    let odd = s.path("lab").join(OsStr::from_bytes(b"odd-\xff"));
    let command = |s: &Sandbox| {
        let mut c = s.command(&["issue", "archive.saltmarsh.test", "--into"]);
        c.arg(&odd);
        c
    };
    let Some(whole) = trace::run(command(&s), None) else {
        eprintln!("SKIPPED: system calls are traced on x86-64 Linux only");
        return;
    };
    assert_eq!(whole.code, Some(0));
    for point in (1..whole.calls.len()).step_by(3) {
        let s = lab();
        trace::run(command(&s), Some(point)).unwrap();
        s.run(&["repair"]).expect(0);
        let left: Vec<_> = std::fs::read_dir(s.path("lab")).unwrap().flatten().map(|e| e.file_name()).collect();
        assert!(!left.iter().any(|n| n.as_bytes().windows(7).any(|w| w == b".tamga-")), "point {point}: {left:?}");
    }
}

/// Names that would steer the terminal are shown, wherever they come from.
#[test]
fn hostile_names_reach_no_terminal() {
    use tamga_testkit::terminal;
    let s = lab();
    let hostile = [
        "\u{1b}]0;owned\u{7}.pem",
        "\u{202e}mep.pem",
        "a\rb.pem",
        "soft\u{ad}hyphen.pem",
        "\u{206a}x.pem",
        "\u{9b}31m.pem",
    ];
    let folder = s.lab("hostile");
    std::fs::create_dir(&folder).unwrap();
    for name in hostile {
        std::fs::copy(s.lab("charts/certificate.pem"), folder.join(name)).unwrap();
        std::fs::write(folder.join(format!("key-{name}")), "no key").unwrap();
    }
    for words in [&["match", "hostile"][..], &["show", "hostile"], &["check", "hostile"], &["repair", "hostile"]] {
        let ran = terminal::run(s.command(words), &[]);
        let seen = ran.seen;
        for bad in ["\u{1b}]0", "\u{202e}", "a\rb", "\u{ad}", "\u{206a}", "\u{9b}"] {
            assert!(!seen.contains(bad), "{words:?} lets {bad:?} through: {seen:?}");
        }
    }
    for name in hostile {
        let mut path = folder.join(name).into_os_string().into_string().unwrap();
        let ran = terminal::run(s.command(&["show", &path]), &[]);
        path = ran.seen;
        for bad in ["\u{1b}]0", "\u{202e}", "\u{ad}", "\u{206a}", "\u{9b}31m"] {
            assert!(!path.contains(bad), "show lets {bad:?} through: {path:?}");
        }
    }
    let _ = std::io::stdout().flush();
}

/// What is wrong with a value is said in lines that a person can read, however long the value is.
#[test]
fn a_very_long_value_does_not_fill_the_screen() {
    let s = lab();
    let ran = s.run(&["issue", &format!("{}.test", "a".repeat(70_000))]).expect(3);
    assert!(ran.err.contains("63 octets"), "{}", &ran.err[..300]);
    assert!(ran.err.len() < 3_000, "{} bytes", ran.err.len());
}
