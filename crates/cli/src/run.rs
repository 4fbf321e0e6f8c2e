//! Runs a parsed command and words its end.

use crate::args::{Color, Format};
use crate::cli::Cli;
use crate::exit::{self, Failed, Failure};
use crate::words::{human, to_json};
use crate::{commands, session::Session};
use clap::CommandFactory;
use serde::Serialize;
use serde_json::Value;
use std::process::ExitCode;
use tamga_core::error::{Diagnostic, Kind};

/// Runs; never panics on input.
pub(crate) fn run(cli: Cli) -> ExitCode {
    let common = cli.common.clone();
    match common.color {
        Color::Auto => {}
        Color::Always => anstream::ColorChoice::write_global(anstream::ColorChoice::AlwaysAnsi),
        Color::Never => anstream::ColorChoice::write_global(anstream::ColorChoice::Never),
    }
    let json = common.format == Format::Json;
    let name = cli.command.name();
    if common.format == Format::Lines && !matches!(name, "check" | "serve") {
        let told = Usage { what: format!("{name} gives one answer, not lines: use --format json") };
        human::failure(&told);
        return ExitCode::from(exit::code(told.kind()));
    }
    let done = Session::new(cli.common).and_then(|session| commands::run(&session, cli.command, Cli::command));
    match done {
        Ok(done) => {
            if json {
                print_json(name, done.code == exit::GOOD, done.json);
            } else if matches!(name, "completions" | "recipe" | "schedule") {
                human::as_it_is(&done.text);
            } else if !common.quiet && common.format == Format::Text {
                human::out(&done.text);
            }
            ExitCode::from(done.code)
        }
        Err(Failure(told)) => {
            if common.format != Format::Text {
                print_json(name, false, to_json(&Failed::from(told.as_ref() as &dyn Diagnostic)));
            } else {
                human::failure(told.as_ref());
            }
            ExitCode::from(exit::code(told.kind()))
        }
    }
}

/// The object around every answer (see the interface).
#[derive(Serialize)]
struct Whole<'a> {
    tamga: u8,
    command: &'a str,
    ok: bool,
    #[serde(flatten)]
    members: Value,
}

fn print_json(command: &str, ok: bool, members: Value) {
    human::json_line(&to_json(&Whole { tamga: 1, command, ok, members }));
}

/// What clap says of words that make no command; with `--format json` as an object too.
pub(crate) fn usage(e: &clap::Error) -> ExitCode {
    let args: Vec<String> = std::env::args_os().map(|a| a.to_string_lossy().into_owned()).collect();
    let wants_json =
        args.windows(2).any(|w| w[0] == "--format" && w[1] == "json") || args.iter().any(|a| a == "--format=json");
    if e.use_stderr() && wants_json {
        let what = e.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned();
        let told = Usage { what };
        print_json(args.get(1).map_or("", String::as_str), false, to_json(&Failed::from(&told as &dyn Diagnostic)));
        return ExitCode::from(exit::code(Kind::Usage));
    }
    let _ = e.print();
    if e.use_stderr() { ExitCode::from(2) } else { ExitCode::SUCCESS }
}

#[derive(Debug)]
struct Usage {
    what: String,
}

impl std::fmt::Display for Usage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.what)
    }
}

impl std::error::Error for Usage {}

impl Diagnostic for Usage {
    fn kind(&self) -> Kind {
        Kind::Usage
    }
    fn code(&self) -> &'static str {
        "usage"
    }
    fn what(&self) -> String {
        self.what.clone()
    }
    fn why(&self) -> String {
        "the words do not make a command".into()
    }
    fn remedy(&self) -> String {
        "see: tamga --help".into()
    }
}
