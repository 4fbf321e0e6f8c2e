//! Other programs: arguments, never a shell line; bytes on standard input; a time limit.

use crate::error::{Error, Result};
use crate::places::Machine;
use crate::platform;
use crate::scratch;
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tamga_core::plan::ports::Commands;
use tamga_core::plan::step::{FILE, Invocation};
use tamga_core::vocabulary::text::Untrusted;

/// How a program ended.
pub struct Ended {
    /// Its exit code; None if it was stopped.
    pub code: Option<i32>,
    /// Standard output.
    pub output: Vec<u8>,
    /// Standard error: another program's text.
    pub errors: Untrusted,
}

/// The `PATH` of what runs as root, whatever the user's shell has.
const SYSTEM_PATH: &str = "/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin";

/// A command for a program that runs as root: nothing of the user's environment reaches it.
pub(crate) fn clean(program: impl AsRef<std::ffi::OsStr>) -> Command {
    let mut command = Command::new(program);
    command.env_clear().env("PATH", SYSTEM_PATH).env("LC_ALL", "C.UTF-8").env("HOME", "/root").current_dir("/");
    command
}

/// Runs a step's program on this machine; as root where root privileges were given up for the user's.
///
/// What changes the machine's own stores is looked for in the system's directories only, and gets a clean environment.
pub fn invoke(machine: &Machine, invocation: &Invocation) -> Result<()> {
    let name = invocation.program.to_string_lossy().into_owned();
    well(&invoke_to_end(machine, invocation)?, invocation.limit_seconds, &name)
}

/// The same, with what it printed, however it ended.
///
/// Errors: it does not start.
pub fn invoke_to_end(machine: &Machine, invocation: &Invocation) -> Result<Ended> {
    let name = invocation.program.to_string_lossy().into_owned();
    let failed = |said: String| Error::Program { program: name.clone(), said };
    let raised = invocation.raised && cfg!(unix);
    let find = |name: &str| if raised { machine.system_program(name) } else { machine.program(name) };
    let program = find(&name).ok_or_else(|| failed("it is not installed".into()))?;
    let start = |program: &std::path::Path| if raised { clean(program) } else { Command::new(program) };
    let mut command = match machine.inside(&program) {
        // An image's own command runs with the image as its root.
        Some((root, within)) => {
            let chroot = find("chroot").ok_or_else(|| failed("chroot is not installed".into()))?;
            let mut command = start(&chroot);
            command.arg(root).arg(within);
            command
        }
        None => start(&program),
    };
    command.args(&invocation.arguments);
    command.args(machine.sysroot_arguments(&name));
    match &machine.person {
        Some(_) if invocation.raised => platform::with_root(&mut command),
        Some(p) => platform::as_user(&mut command, &p.rights),
        None => {}
    }
    let file = match &invocation.file {
        Some(bytes) => Some(given(bytes).map_err(|e| failed(e.to_string()))?),
        None => None,
    };
    let mut input = invocation.input.clone();
    match &file {
        Some(f) if String::from_utf8_lossy(&input).contains(FILE) => {
            let text = zeroize::Zeroizing::new(String::from_utf8_lossy(&input).into_owned());
            input = zeroize::Zeroizing::new(text.replace(FILE, &f.path().to_string_lossy()).into_bytes());
        }
        Some(f) => {
            command.arg(f.path());
        }
        None => {}
    }
    run(command, &input, Duration::from_secs(invocation.limit_seconds)).map_err(|e| failed(e.to_string()))
}

/// Runs a program to its good end.
///
/// Errors: it does not start, ends with another code than 0, or is stopped at the limit.
pub(crate) fn finish(command: Command, input: &[u8], limit: Duration, name: &str) -> Result<()> {
    let failed = |said: String| Error::Program { program: name.to_owned(), said };
    well(&run(command, input, limit).map_err(|e| failed(e.to_string()))?, limit.as_secs(), name)
}

/// Errors: it ended with another code than 0, or was stopped at the limit.
fn well(ended: &Ended, limit_seconds: u64, name: &str) -> Result<()> {
    let failed = |said: String| Error::Program { program: name.to_owned(), said };
    match ended.code {
        Some(0) => Ok(()),
        Some(n) => Err(failed(format!("it ended with {n}: {}", last_line(ended.errors.as_received())))),
        None => Err(failed(format!("it was stopped after {limit_seconds} seconds"))),
    }
}

/// Public bytes as a file that a program is given; gone afterwards.
fn given(bytes: &[u8]) -> std::io::Result<tempfile::NamedTempFile> {
    let mut file = tempfile::Builder::new().prefix("tamga-").suffix(".pem").tempfile()?;
    file.write_all(bytes)?;
    Ok(file)
}

/// Asks a system's command that only tells, with the rights that we have: what it prints, or what it writes to the file
/// that it is given as its last argument. None if it is not installed.
///
/// Errors: the last line of what it said.
pub fn ask(
    machine: &Machine,
    invocation: &Invocation,
    answers_in_file: bool,
) -> Option<std::result::Result<Vec<u8>, String>> {
    let program = machine.program(&invocation.program.to_string_lossy())?;
    let mut command = Command::new(program);
    command.args(&invocation.arguments);
    let folder = if answers_in_file {
        match scratch::directory("tamga-answer-") {
            Ok(folder) => Some(folder),
            Err(e) => return Some(Err(e.to_string())),
        }
    } else {
        None
    };
    let file = folder.as_ref().map(|f| f.path().join("answer"));
    command.args(&file);
    let ended = match run(command, &invocation.input, Duration::from_secs(invocation.limit_seconds)) {
        Ok(ended) => ended,
        Err(e) => return Some(Err(e.to_string())),
    };
    Some(match (ended.code, file) {
        (Some(0), Some(file)) => crate::fs::read_regular(&file).map(|b| b.to_vec()).map_err(|e| e.to_string()),
        (Some(0), None) => Ok(ended.output),
        _ => Err(last_line(ended.errors.as_received())),
    })
}

fn last_line(text: &str) -> String {
    text.lines()
        .rev()
        .find(|l| !l.trim().is_empty())
        .map(tamga_core::vocabulary::text::harmless)
        .unwrap_or_else(|| "without a word".into())
}

/// Runs a program to its end or its limit.
pub fn run(command: Command, input: &[u8], limit: Duration) -> std::io::Result<Ended> {
    run_in(command, input, limit, false)
}

/// The same in a process group of its own: at the limit, what it has started ends too. Not for programs that ask at the terminal.
pub fn run_grouped(command: Command, input: &[u8], limit: Duration) -> std::io::Result<Ended> {
    run_in(command, input, limit, true)
}

/// After a program has exited, another that it has started may still hold its output open: this long we listen on.
const AFTERWARDS: Duration = Duration::from_millis(300);

fn run_in(mut command: Command, input: &[u8], limit: Duration, group: bool) -> std::io::Result<Ended> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    if group {
        platform::own_group(&mut command);
    }
    let mut child = command.spawn()?;
    let started = scratch::started(&child, group);
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let input = zeroize::Zeroizing::new(input.to_vec());
    // Not joined: each ends with its pipe, and that may be later than the program.
    std::thread::spawn(move || {
        // A program that does not read its input has not failed.
        let _ = stdin.map(|mut s| s.write_all(&input));
    });
    let output = Drain::start(stdout);
    let errors = Drain::start(stderr);
    let code = wait_in(&mut child, limit, group)?;
    // It has exited: its number may soon be another program's.
    drop(started);
    let end = Instant::now() + if code.is_some() { AFTERWARDS } else { Duration::ZERO };
    let (output, errors) = (output.finish(end), errors.finish(end));
    Ok(Ended { code, output, errors: Untrusted::from_bytes(&errors) })
}

/// Runs a program that sends back what it is sent: only if every byte came back as it was, it reads `go` and goes on.
///
/// Errors: it does not start, or what came back is something else.
pub fn sent_back(mut command: Command, parts: &[&[u8]], go: &[u8], limit: Duration) -> std::io::Result<Ended> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let begun = Instant::now();
    let mut child = command.spawn()?;
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let sent = zeroize::Zeroizing::new(parts.concat());
    let errors = Drain::start(stderr);
    let (tell, came) = std::sync::mpsc::channel();
    let total = sent.len();
    std::thread::spawn(move || {
        let mut back = zeroize::Zeroizing::new(vec![0; total]);
        let read = stdout.ok_or_else(|| std::io::Error::from(std::io::ErrorKind::BrokenPipe));
        let read = read.and_then(|mut s| s.read_exact(&mut back).map(|()| s));
        let _ = tell.send(read.map(|s| (s, back)));
    });
    let (ready, input) = std::sync::mpsc::channel();
    let bytes = sent.clone();
    std::thread::spawn(move || {
        // The pipe stays open until we know what to say next.
        let _ = stdin.map(|mut s| s.write_all(&bytes).and_then(|()| s.flush()).map(|()| ready.send(s)));
    });
    let left = || limit.saturating_sub(begun.elapsed());
    let (mut confirmed, mut changed) = (false, false);
    // A program that ends early closes its output: what it said on the way is the answer then.
    if let Ok(Ok((stdout, back))) = came.recv_timeout(left()) {
        if *back == *sent {
            confirmed = true;
            if let Ok(mut stdin) = input.recv_timeout(left()) {
                let _ = stdin.write_all(go);
            }
        } else {
            changed = true;
        }
        drop(input);
        std::thread::spawn(move || std::io::copy(&mut { stdout }, &mut std::io::sink()));
    } else {
        drop(input);
    }
    let code = wait_in(&mut child, left().max(Duration::from_secs(1)), false)?;
    let errors = errors.finish(Instant::now() + AFTERWARDS);
    match (confirmed, code) {
        _ if changed => Err(std::io::Error::other("what came back is not what was sent")),
        // What it says itself is more than that it ended.
        (false, Some(0)) => Err(std::io::Error::other("it ended before everything had come back")),
        _ => Ok(Ended { code, output: Vec::new(), errors: Untrusted::from_bytes(&errors) }),
    }
}

/// Cap on a program's output, in bytes: no helper program prints more.
const OUTPUT_LIMIT: usize = 64 << 20;

/// What a thread reads from a pipe; the reader does not have to wait for the pipe's end.
struct Drain {
    read: std::sync::Arc<std::sync::Mutex<Vec<u8>>>,
    ended: std::sync::mpsc::Receiver<()>,
}

impl Drain {
    fn start(from: Option<impl Read + Send + 'static>) -> Drain {
        let read = std::sync::Arc::new(std::sync::Mutex::new(Vec::new()));
        let (tell, ended) = std::sync::mpsc::channel();
        let into = read.clone();
        std::thread::spawn(move || {
            let Some(mut from) = from else {
                {
                    let _ = tell.send(());
                    return;
                }
            };
            let mut block = [0; 16 << 10];
            while let Ok(n) = from.read(&mut block)
                && n > 0
            {
                let mut all = into.lock().unwrap_or_else(|e| e.into_inner());
                let room = OUTPUT_LIMIT.saturating_sub(all.len()).min(n);
                all.extend_from_slice(&block[..room]);
            }
            let _ = tell.send(());
        });
        Drain { read, ended }
    }

    fn finish(self, by: Instant) -> Vec<u8> {
        let _ = self.ended.recv_timeout(by.saturating_duration_since(Instant::now()));
        std::mem::take(&mut *self.read.lock().unwrap_or_else(|e| e.into_inner()))
    }
}

/// Waits for a child; kills it at the limit (then None).
pub fn wait(child: &mut Child, limit: Duration) -> std::io::Result<Option<i32>> {
    wait_in(child, limit, false)
}

fn wait_in(child: &mut Child, limit: Duration, group: bool) -> std::io::Result<Option<i32>> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(1);
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status.code().unwrap_or(-1)));
        }
        if begun.elapsed() > limit {
            if group {
                platform::end_group(child);
            }
            child.kill()?;
            child.wait()?;
            return Ok(None);
        }
        std::thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_millis(20));
    }
}

#[cfg(all(test, unix))]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;

    fn shell(line: &str) -> Command {
        let mut command = Command::new("sh");
        command.args(["-c", line]);
        command
    }

    #[test]
    fn at_the_limit_what_a_program_has_started_ends_too() {
        let folder = tempfile::tempdir().unwrap();
        let mark = folder.path().join("still-here");
        let line = format!("(sleep 3; touch {}) & sleep 30", mark.to_string_lossy());
        let begun = Instant::now();
        let ended = run_grouped(shell(&line), b"", Duration::from_secs(1)).unwrap();
        assert!(ended.code.is_none() && begun.elapsed() < Duration::from_secs(3), "{:?}", begun.elapsed());
        std::thread::sleep(Duration::from_secs(3));
        assert!(!mark.exists(), "what it had started went on");
    }

    #[test]
    fn what_holds_the_output_open_does_not_prolong_the_wait() {
        let begun = Instant::now();
        let ended = run(shell("echo said; sleep 30 & exit 3"), b"", Duration::from_secs(20)).unwrap();
        assert_eq!((ended.code, ended.output.as_slice()), (Some(3), &b"said\n"[..]));
        assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", begun.elapsed());
    }

    #[test]
    fn only_what_came_back_as_it_was_is_gone_on_with() {
        let parts: [&[u8]; 2] = [b"one", b"two"];
        let go = "head -c 6; read -r go; [ \"$go\" = go ]";
        let ended = sent_back(shell(go), &parts, b"go\n", Duration::from_secs(10)).unwrap();
        assert_eq!(ended.code, Some(0));
        for line in ["head -c 6 | tr o p; read -r go", "exit 0", "head -c 3", "cat >/dev/null"] {
            assert!(sent_back(shell(line), &parts, b"go\n", Duration::from_secs(2)).is_err(), "{line}");
        }
        let ended = sent_back(shell("echo why >&2; exit 7"), &parts, b"go\n", Duration::from_secs(10)).unwrap();
        assert_eq!((ended.code, ended.errors.as_received()), (Some(7), "why\n"));
    }
}
