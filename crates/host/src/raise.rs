//! `--elevate`: single steps through the system's own program for raised rights, and nothing else raised.
//!
//! Bytes travel on standard input and every destination is fixed before: no file of the person's is read with raised rights, so
//! none can be swapped under it. A file is installed beside its place and renamed over it, whole or not at all.

use crate::error::{Error, Result};
use crate::places::Machine;
use crate::process;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::plan::step::{Invocation, Step};

/// In the order in which they are looked for.
pub const PROGRAMS: [&str; 3] = ["sudo", "doas", "pkexec"];
/// Where the system's own programs lie: never where a person's PATH leads.
const FOLDERS: [&str; 4] = ["/usr/bin", "/usr/sbin", "/bin", "/sbin"];
/// A directory that only root may change, for what a program wants as a file.
const OF_ROOT: &str = if cfg!(target_os = "macos") { "/var/root" } else { "/root" };

/// The first program for raised rights that is installed.
///
/// Errors: none is.
pub fn find(machine: &Machine) -> Result<PathBuf> {
    PROGRAMS.iter().find_map(|n| machine.system_program(n)).ok_or_else(|| Error::Program {
        program: PROGRAMS.join(", "),
        said: "none of them is installed, and nothing else raises rights for a single step".into(),
    })
}

/// Does one step through the raiser.
pub fn step(machine: &Machine, raiser: &Path, step: &Step) -> Result<()> {
    let run = |program: &str, words: &[&str], input: &[u8]| {
        let mut all = vec![text(&own(program)?)];
        all.extend(words.iter().map(|w| (*w).to_owned()));
        through(raiser, &all, input, 300)
    };
    match step {
        Step::Folder { path, mode } => {
            let real = machine.real(path);
            if real.is_dir() { Ok(()) } else { run("install", &["-d", "-m", &octal(*mode), &text(&real)], &[]) }
        }
        Step::Write { path, bytes, mode } => {
            let real = machine.real(path);
            let staged = format!("{}.tamga-new", text(&real));
            run("install", &["-m", &octal(*mode), "/dev/stdin", &staged], bytes)?;
            run("mv", &["-f", "-T", &staged, &text(&real)], &[]).inspect_err(|_| {
                // What did not get in place is not left beside it.
                let _ = run("rm", &["-f", "--", &staged], &[]);
            })
        }
        Step::Remove { path } => run("rm", &["-f", "--", &text(&machine.real(path))], &[]),
        Step::Run(i) => program(machine, raiser, i),
        // A person's own database needs no rights; Windows raises whole programs, not steps.
        Step::Database(_) | Step::Native(_) => Ok(()),
    }
}

fn program(machine: &Machine, raiser: &Path, i: &Invocation) -> Result<()> {
    let name = i.program.to_string_lossy();
    let missing = || Error::Program { program: name.clone().into_owned(), said: "it is not installed".into() };
    let mut all = vec![text(&machine.system_program(&name).ok_or_else(missing)?)];
    all.extend(i.arguments.iter().cloned());
    all.extend(machine.sysroot_arguments(&name));
    let Some(bytes) = &i.file else { return through(raiser, &all, &i.input, i.limit_seconds) };
    let file = format!("{OF_ROOT}/.tamga-{}.pem", std::process::id());
    let install = [text(&own("install")?), "-m".into(), "0600".into(), "/dev/stdin".into(), file.clone()];
    through(raiser, &install, bytes, 300)?;
    all.push(file.clone());
    let done = through(raiser, &all, &i.input, i.limit_seconds);
    through(raiser, &[text(&own("rm")?), "-f".into(), "--".into(), file], &[], 60)?;
    done
}

fn through(raiser: &Path, words: &[String], input: &[u8], seconds: u64) -> Result<()> {
    let mut command = Command::new(raiser);
    command.args(words);
    let shown = Path::new(&words[0]).file_name().unwrap_or_default().to_string_lossy().into_owned();
    process::finish(
        command,
        input,
        Duration::from_secs(seconds),
        &format!("{} {shown}", raiser.file_name().unwrap_or_default().to_string_lossy()),
    )
}

/// One of the system's own programs, by its whole path.
fn own(name: &str) -> Result<PathBuf> {
    let found = FOLDERS.iter().map(|f| Path::new(f).join(name)).find(|p| p.is_file());
    found.ok_or_else(|| Error::Program { program: name.to_owned(), said: "it is not installed".into() })
}

fn octal(mode: u32) -> String {
    format!("{mode:04o}")
}

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
