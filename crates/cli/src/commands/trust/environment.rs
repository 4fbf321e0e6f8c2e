//! `tamga trust environment [SHELL]` and `tamga run -- PROGRAM…`: runtimes whose list of roots is compiled in.

use crate::args::Format;
use crate::exit::{Done, Failed, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use tamga_app::trust::environment::{self, NoSuchProgram, Request};
use tamga_core::error::{Diagnostic, Error};
use tamga_core::stores::trust::environment::Shell;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Examples: eval \"$(tamga trust environment)\"\n          tamga trust environment container")]
pub(crate) struct EnvironmentArgs {
    /// The shell, or container for an image's build file [default: the shell you use]
    #[arg(value_parser = values::word::<Shell>())]
    shell: Option<Shell>,
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

pub(crate) fn environment(session: &Session, args: &EnvironmentArgs) -> Result<Done> {
    let report = environment::environment(session, &Request { shell: args.shell, replacing: args.replacing })?;
    let lines = report.environment.iter().map(|v| format!("{}\n", report.shell.line(v.name, &v.value)));
    let text = report.lines.clone().unwrap_or_else(|| lines.collect());
    Ok(Done::report(text, &report))
}

/// What a shell returns for a program that is not there (POSIX XCU 2.8.2).
const NO_SUCH_PROGRAM: u8 = 127;

/// Becomes the program; comes back only if that fails.
pub(crate) fn run(session: &Session, args: &RunArgs) -> Result<Done> {
    let NoSuchProgram = environment::run(session, &args.program)?;
    let error = Error::Objection {
        code: "no-such-program",
        what: format!("there is no program {}", args.program.first().map(Shown::shown).unwrap_or_default()),
        why: "no directory of PATH has it".into(),
        instead: "check its name, or give its path".into(),
    };
    if session.common.format == Format::Text {
        human::failure(&error);
    }
    let failed = Failed::from(&error as &dyn Diagnostic);
    Ok(Done::report(String::new(), &failed).with_code(NO_SUCH_PROGRAM))
}
