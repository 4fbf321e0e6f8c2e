//! The command line: parse, run, exit.

mod ask;
mod cli;
mod commands;
mod exit;
mod run;
mod session;
mod words;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    // The child that reads browser databases: never typed by a person, and before anything else is set up.
    if std::env::args_os().nth(1).is_some_and(|a| a == tamga_host::nss::CHILD) {
        return ExitCode::from(tamga_host::nss::answer());
    }
    match cli::Cli::try_parse() {
        Ok(cli) => run::run(cli),
        Err(e) => run::usage(&e),
    }
}
