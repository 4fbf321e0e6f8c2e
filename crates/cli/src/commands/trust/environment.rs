//! `tamga trust environment [SHELL]` and `tamga run -- PROGRAM…`: runtimes whose list of roots is compiled in.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::error::Error;
use tamga_core::ports::Look;
use tamga_core::report::KeyPlace;
use tamga_core::text::Shown;
use tamga_core::trust::environment::{ALL, Effect, Files, Shell, Variable, container};
use tamga_core::trust::{Root, system};
use tamga_host::fs;

#[derive(clap::Args)]
#[command(after_help = "Examples: eval \"$(tamga trust environment)\"\n          tamga trust environment container")]
pub(crate) struct EnvironmentArgs {
    /// sh bash zsh fish powershell cmd, or container for an image's build file [default: the shell you use]
    shell: Option<String>,
    /// Also the variables that stand instead of a runtime's own list: they name the system's bundle with the root added
    #[arg(long)]
    replacing: bool,
}

#[derive(clap::Args)]
#[command(after_help = "Example: tamga run -- node client.mjs")]
pub(crate) struct RunArgs {
    /// The program and its arguments
    #[arg(required = true, last = true, value_name = "PROGRAM")]
    program: Vec<std::ffi::OsString>,
}

/// The roots of this data folder that are in use.
fn roots(session: &Session) -> Result<Vec<Root>> {
    let all = session.authorities()?;
    let in_use = all.iter().filter(|a| a.is_root() && !a.retired && a.key != KeyPlace::Discarded);
    let roots: Vec<Root> =
        in_use.map(|a| Root { label: a.label.clone(), certificate: a.certificate.clone() }).collect();
    if roots.is_empty() {
        return Err(Error::LabelUnknown { label: "root".into(), sought: "authority", known: Vec::new() }.into());
    }
    Ok(roots)
}

/// Writes the two files that the variables name, if they are not so already.
fn written(session: &Session, roots: &[Root]) -> Result<Files> {
    let folder = session.machine.data().join("trust");
    let files_named = Files::in_folder(&folder);
    let ours: String = roots.iter().map(Root::pem).collect();
    let mut bundle = session.machine.read(&system::bundle(&session.machine)).unwrap_or_default();
    if !bundle.is_empty() && !bundle.ends_with(b"\n") {
        bundle.push(b'\n');
    }
    bundle.extend_from_slice(ours.as_bytes());
    for (path, bytes) in [(&files_named.roots, ours.as_bytes()), (&files_named.bundle, &bundle)] {
        if fs::read_regular(path).ok().as_deref().map(Vec::as_slice) != Some(bytes) {
            fs::make_directory(&folder, 0o755)?;
            fs::write_whole(path, bytes, 0o644)?;
        }
    }
    Ok(files_named)
}

fn chosen(replacing: bool) -> impl Iterator<Item = &'static Variable> {
    ALL.iter().filter(move |v| replacing || v.effect == Effect::Adds)
}

pub(crate) fn environment(session: &Session, args: &EnvironmentArgs) -> Result<Done> {
    let shell = match &args.shell {
        Some(typed) => Shell::parse(typed)?,
        None => session.machine.env("SHELL").and_then(|s| Shell::known(&s)).unwrap_or(Shell::Sh),
    };
    let roots = roots(session)?;
    if shell == Shell::Container {
        let text: String = roots.iter().map(|r| container(&r.mark())).collect();
        return Ok(Done::good(text.clone(), json!({"environment": [], "lines": text})));
    }
    let files = if session.common.dry_run {
        Files::in_folder(&session.machine.data().join("trust"))
    } else {
        written(session, &roots)?
    };
    let (mut text, mut members) = (String::new(), Vec::new());
    for v in chosen(args.replacing) {
        let value = files.of(v.effect).shown();
        text.push_str(&format!("{}\n", shell.line(v.name, &value)));
        let effect = if v.effect == Effect::Adds { "adds" } else { "replaces" };
        members.push(json!({"name": v.name, "value": value, "effect": effect, "read_by": v.read_by}));
        // What is set already is not overlooked: it may lead elsewhere.
        if let Some(before) = session.machine.env(v.name).filter(|b| *b != value) {
            human::aside(&session.common, &format!("{} is {before} now", v.name));
        }
    }
    Ok(Done::good(text, json!({"environment": members})))
}

/// Becomes the program; comes back only if that fails.
pub(crate) fn run(session: &Session, args: &RunArgs) -> Result<Done> {
    let files = written(session, &roots(session)?)?;
    let name = PathBuf::from(&args.program[0]);
    let mut command = std::process::Command::new(&name);
    command.args(&args.program[1..]);
    for v in chosen(true) {
        command.env(v.name, files.of(v.effect));
    }
    let failed = tamga_host::platform::turn_into(command);
    Err(tamga_host::error::Error::Program { program: name.shown(), said: failed.to_string() }.into())
}
