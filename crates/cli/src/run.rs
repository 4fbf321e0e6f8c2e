//! Runs a parsed command and words its end.

use crate::args::{Color, Common, Format};
use crate::cli::{Cli, Typed};
use crate::exit::{self, Failed, Failure};
use crate::usage::usage_error;
use crate::words::{human, print_json, to_json};
use crate::{commands, session::Session};
use clap::CommandFactory;
use std::process::ExitCode;
use tamga_core::error::{Diagnostic, Stated};

/// Runs; never panics on input.
pub(crate) fn run(Typed { cli, words }: Typed) -> ExitCode {
    let common = cli.common.clone();
    match common.color {
        Color::Auto => {}
        Color::Always => anstream::ColorChoice::write_global(anstream::ColorChoice::AlwaysAnsi),
        Color::Never => anstream::ColorChoice::write_global(anstream::ColorChoice::Never),
    }
    let json = common.format == Format::Json;
    let name = cli.command.name();
    let words = words.as_str();
    if common.format == Format::Lines && !(matches!(name, "check" | "serve") || words == "enrollment serve") {
        let diagnostic = usage_error(
            "invalid --format value \"lines\"",
            format!("{name} gives one answer, not one line a result"),
            "use --format json",
        );
        return refused(&common, name, &diagnostic);
    }
    if let Some(ignored) = ignored(&common, words) {
        return refused(&common, name, &ignored);
    }
    let done = Session::new(cli.common).and_then(|session| commands::run(&session, cli.command, Cli::command));
    tamga_host::fs::forget_stdin();
    match done {
        Ok(done) => {
            if json && done.json.is_null() {
            } else if json {
                print_json(name, done.code == exit::GOOD, done.json);
            } else if matches!(name, "completions" | "recipe" | "schedule") || words == "enrollment unit" {
                human::as_it_is(&done.text);
            } else if !common.quiet && common.format == Format::Text {
                human::out(&done.text);
            } else if let Some(brief) = done.brief.filter(|_| common.format == Format::Text && done.code != exit::GOOD)
            {
                human::out(&brief);
            }
            ExitCode::from(done.code)
        }
        Err(Failure(diagnostic)) => {
            if common.format != Format::Text {
                print_json(name, false, to_json(&Failed::from(diagnostic.as_ref() as &dyn Diagnostic)));
            } else {
                human::failure(diagnostic.as_ref());
            }
            ExitCode::from(exit::code(diagnostic.kind()))
        }
    }
}

/// An option that this command would ignore.
fn ignored(common: &Common, words: &str) -> Option<Stated> {
    let option = match (common.dry_run, common.yes) {
        (true, _) => "--dry-run",
        (_, true) => "--yes",
        _ => return None,
    };
    commands::is_read_only(words).then(|| {
        usage_error(
            format!("{option} means nothing with tamga {words}"),
            "this command changes nothing, and asks nothing",
            format!("leave {option} out"),
        )
    })
}

fn refused(common: &Common, name: &str, why: &Stated) -> ExitCode {
    match common.format {
        Format::Json => print_json(name, false, to_json(&Failed::from(why as &dyn Diagnostic))),
        _ => human::failure(why),
    }
    ExitCode::from(exit::code(why.kind()))
}
