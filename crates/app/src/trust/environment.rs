//! Variables for runtimes whose list of roots is compiled in, and the files that these name.

use crate::env::Env;
use crate::failure::Result;
use schemars::JsonSchema;
use serde::Serialize;
use std::ffi::OsString;
use std::path::PathBuf;
use tamga_core::ca::report::KeyPlace;
use tamga_core::error::Error;
use tamga_core::plan::ports::Environment;
use tamga_core::plan::ports::Files;
use tamga_core::stores::trust::environment::{ALL, Effect, RootFiles, Shell, Variable, container};
use tamga_core::stores::trust::{Root, system};
use tamga_core::vocabulary::text::Shown;
use tamga_host::error::io_words;

/// For which shell.
#[derive(Clone, Copy, Debug)]
pub struct Request {
    /// The shell, or the build file of a container; None for the shell that the variable SHELL names.
    pub shell: Option<Shell>,
    /// Also the variables that stand instead of a runtime's own list.
    pub replacing: bool,
}

/// The variables.
#[derive(Serialize, JsonSchema)]
pub struct Report {
    /// They; none for a container.
    pub environment: Vec<Setting>,
    /// The lines of a container's build file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub lines: Option<String>,
    /// The shell.
    #[serde(skip)]
    pub shell: Shell,
}

/// A variable and its value.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Setting {
    /// Its name.
    pub name: &'static str,
    /// The file that it names.
    pub value: String,
    /// `adds` or `replaces`.
    pub effect: &'static str,
    /// The runtimes that read it.
    pub read_by: &'static str,
}

/// The variables that make runtimes trust the roots; the files that they name are written.
///
/// Errors: there is no root; the files cannot be written.
pub fn environment(env: &Env, request: &Request) -> Result<Report> {
    let known = || env.machine.env("SHELL").and_then(|s| Shell::known(&s));
    let shell = request.shell.or_else(known).unwrap_or(Shell::Sh);
    let roots = roots(env)?;
    if shell == Shell::Container {
        let lines = roots.iter().map(|r| container(&r.mark())).collect();
        return Ok(Report { environment: Vec::new(), lines: Some(lines), shell });
    }
    let files = if env.dry_run { RootFiles::in_folder(&directory(env)) } else { write(env, &roots)? };
    let mut environment = Vec::new();
    for v in chosen(request.replacing) {
        let value = files.of(v.effect).shown();
        // What is set already is not overlooked: it may lead elsewhere.
        if let Some(before) = env.machine.env(v.name).filter(|b| *b != value) {
            env.caller.note(&format!("{} is {before} now", v.name));
        }
        let effect = if v.effect == Effect::Adds { "adds" } else { "replaces" };
        environment.push(Setting { name: v.name, value, effect, read_by: v.read_by });
    }
    Ok(Report { environment, lines: None, shell })
}

/// Turns this process into a program that trusts the roots; returns only if that fails.
///
/// Errors: there is no root; the program is there and cannot be started.
pub fn run(env: &Env, program: &[OsString]) -> Result<NoSuchProgram> {
    let files = write(env, &roots(env)?)?;
    let (name, words) = program.split_first().ok_or_else(|| Error::NamesNeeded { what: "the program".into() })?;
    let mut command = std::process::Command::new(name);
    command.args(words);
    for v in chosen(true) {
        command.env(v.name, files.of(v.effect));
    }
    let failed = tamga_host::platform::turn_into(command);
    match failed.kind() {
        std::io::ErrorKind::NotFound => Ok(NoSuchProgram),
        _ => Err(tamga_host::error::Error::Program { program: name.shown(), said: io_words(&failed) }.into()),
    }
}

/// The program that was named does not exist.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoSuchProgram;

/// The roots of this data directory that are in use.
fn roots(env: &Env) -> Result<Vec<Root>> {
    let all = env.authorities()?;
    let in_use = all.iter().filter(|a| a.is_root() && !a.retired && a.key != KeyPlace::Discarded);
    let roots: Vec<Root> =
        in_use.map(|a| Root { label: a.label.clone(), certificate: a.certificate.clone() }).collect();
    if roots.is_empty() {
        return Err(Error::LabelUnknown { label: "root".into(), sought: "authority", known: Vec::new() }.into());
    }
    Ok(roots)
}

fn directory(env: &Env) -> PathBuf {
    env.machine.data().join("trust")
}

/// Writes the two files that the variables name, if they are not so already.
fn write(env: &Env, roots: &[Root]) -> Result<RootFiles> {
    let directory = directory(env);
    let files = RootFiles::in_folder(&directory);
    let ours: String = roots.iter().map(Root::pem).collect();
    let mut bundle = env.machine.read(&system::bundle(&env.machine)).unwrap_or_default();
    if !bundle.is_empty() && !bundle.ends_with(b"\n") {
        bundle.push(b'\n');
    }
    bundle.extend_from_slice(ours.as_bytes());
    for (path, bytes) in [(&files.roots, ours.as_bytes()), (&files.bundle, &bundle)] {
        if env.disk().read(path).ok().as_deref().map(Vec::as_slice) != Some(bytes) {
            env.disk().make_directory(&directory, 0o755)?;
            env.disk().write_whole(path, bytes, 0o644)?;
        }
    }
    Ok(files)
}

fn chosen(replacing: bool) -> impl Iterator<Item = &'static Variable> {
    ALL.iter().filter(move |v| replacing || v.effect == Effect::Adds)
}
