//! The command line: parse, run, exit.

mod args;
mod ask;
mod bug;
mod cli;
mod commands;
mod complete;
mod exit;
mod run;
#[cfg(test)]
mod schema;
mod session;
mod usage;
mod values;
mod variables;
mod words;

use std::process::ExitCode;

fn main() -> ExitCode {
    bug::report_panics();
    // Before the first secret, and for the child too. The tests' own tracer needs to read our memory, in builds for tests alone.
    if !(cfg!(debug_assertions) && std::env::var_os("TAMGA_TESTS_TRACE").is_some()) {
        tamga_host::platform::keep_memory_private();
    }
    // The child that reads browser databases: never typed by a person, and before anything else is set up.
    let first = std::env::args_os().nth(1);
    if first.as_ref().is_some_and(|a| a == tamga_host::nss::CHILD) {
        return bug::guarded(|| ExitCode::from(tamga_host::nss::answer()));
    }
    // The child that has a token's module in it, likewise.
    if first.as_ref().is_some_and(|a| a == tamga_host::token::CHILD) {
        return bug::guarded(|| ExitCode::from(tamga_host::token::answer()));
    }
    // What `run` starts takes our place, and gets what we were given.
    if first.is_none_or(|a| a != "run") {
        tamga_host::platform::close_on_exec();
    }
    variables::take();
    bug::guarded(|| match complete::answer() {
        Ok(true) => ExitCode::SUCCESS,
        Err(e) => usage::report(&e),
        Ok(false) => match cli::parse() {
            Ok(typed) => run::run(typed),
            Err(e) if e.kind() == clap::error::ErrorKind::DisplayVersion => {
                commands::version::in_full().unwrap_or_else(|| usage::report(&e))
            }
            Err(e) => usage::report(&e),
        },
    })
}
