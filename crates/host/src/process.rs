//! Other programs: arguments, never a shell line; bytes on standard input; a time limit.

use crate::error::{Error, Result};
use crate::places::Machine;
use crate::platform;
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tamga_core::ports::Look;
use tamga_core::step::{FILE, Invocation};

/// How a program ended.
pub struct Ended {
    /// Its exit code; None if it was stopped.
    pub code: Option<i32>,
    /// Standard output.
    pub output: Vec<u8>,
    /// Standard error, as text.
    pub errors: String,
}

/// Runs a step's program on this machine; with root's rights where they were given up for the person's.
pub fn invoke(machine: &Machine, invocation: &Invocation) -> Result<()> {
    let name = invocation.program.to_string_lossy().into_owned();
    let failed = |said: String| Error::Program { program: name.clone(), said };
    let program = machine.program(&name).ok_or_else(|| failed("it is not installed".into()))?;
    let mut command = match machine.inside(&program) {
        // An image's own command runs with the image as its root.
        Some((root, within)) => {
            let chroot = machine.program("chroot").ok_or_else(|| failed("chroot is not installed".into()))?;
            let mut command = Command::new(chroot);
            command.arg(root).arg(within);
            command
        }
        None => Command::new(program),
    };
    // A system's command with a system's path, whatever the person's shell has.
    command.args(&invocation.arguments).env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin");
    command.args(machine.sysroot_arguments(&name));
    match &machine.person {
        Some(_) if invocation.raised => platform::with_root(&mut command),
        Some(p) => platform::as_person(&mut command, p.uid, p.gid),
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
            input = zeroize::Zeroizing::new(text.replace(FILE, &f.path().display().to_string()).into_bytes());
        }
        Some(f) => {
            command.arg(f.path());
        }
        None => {}
    }
    finish(command, &input, Duration::from_secs(invocation.limit_seconds), &name)
}

/// Runs a program to its good end.
///
/// Errors: it does not start, ends with another code than 0, or is stopped at the limit.
pub(crate) fn finish(command: Command, input: &[u8], limit: Duration, name: &str) -> Result<()> {
    let failed = |said: String| Error::Program { program: name.to_owned(), said };
    let ended = run(command, input, limit).map_err(|e| failed(e.to_string()))?;
    match ended.code {
        Some(0) => Ok(()),
        Some(n) => Err(failed(format!("it ended with {n}: {}", last_line(&ended.errors)))),
        None => Err(failed(format!("it was stopped after {} seconds", limit.as_secs()))),
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
        match tempfile::Builder::new().prefix("tamga-answer-").tempdir() {
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
        (Some(0), Some(file)) => std::fs::read(file).map_err(|e| e.to_string()),
        (Some(0), None) => Ok(ended.output),
        _ => Err(last_line(&ended.errors)),
    })
}

fn last_line(text: &str) -> String {
    text.lines()
        .rev()
        .find(|l| !l.trim().is_empty())
        .map(tamga_core::text::harmless)
        .unwrap_or_else(|| "without a word".into())
}

/// Runs a program to its end or its limit.
pub fn run(mut command: Command, input: &[u8], limit: Duration) -> std::io::Result<Ended> {
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn()?;
    let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
    let (code, output, errors) = std::thread::scope(|scope| {
        scope.spawn(move || {
            // A program that does not read its input is no failure of ours.
            let _ = stdin.map(|mut s| s.write_all(input));
        });
        let output = scope.spawn(move || drain(stdout));
        let errors = scope.spawn(move || drain(stderr));
        let code = wait(&mut child, limit);
        (code, output.join().unwrap_or_default(), errors.join().unwrap_or_default())
    });
    Ok(Ended { code: code?, output, errors: String::from_utf8_lossy(&errors).into_owned() })
}

fn drain(from: Option<impl Read>) -> Vec<u8> {
    let mut out = Vec::new();
    if let Some(from) = from {
        // Nobody whom we ask has more to say than this.
        let _ = from.take(64 << 20).read_to_end(&mut out);
    }
    out
}

/// Waits for a child; kills it at the limit (then None).
pub fn wait(child: &mut Child, limit: Duration) -> std::io::Result<Option<i32>> {
    let begun = Instant::now();
    let mut pause = Duration::from_millis(1);
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(Some(status.code().unwrap_or(-1)));
        }
        if begun.elapsed() > limit {
            child.kill()?;
            child.wait()?;
            return Ok(None);
        }
        std::thread::sleep(pause);
        pause = (pause * 2).min(Duration::from_millis(20));
    }
}
