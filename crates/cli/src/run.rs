//! Runs a parsed command and words its end.

use crate::args::{Color, Common, Format};
use crate::cli::{Cli, Typed};
use crate::exit::{self, Failed, Failure};
use crate::words::{human, to_json};
use crate::{commands, session::Session};
use clap::CommandFactory;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use serde::Serialize;
use serde_json::Value;
use std::process::ExitCode;
use tamga_core::error::{Diagnostic, Kind};
use tamga_core::vocabulary::text::nearest;

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
    if common.format == Format::Lines && !matches!(name, "check" | "serve") {
        let diagnostic = Usage {
            what: "invalid --format value \"lines\"".into(),
            why: format!("{name} gives one answer, not one line a result"),
            remedy: "use --format json".into(),
        };
        return refused(&common, name, &diagnostic);
    }
    if let Some(ignored) = ignored(&common, &words) {
        return refused(&common, name, &ignored);
    }
    let done = Session::new(cli.common).and_then(|session| commands::run(&session, cli.command, Cli::command));
    match done {
        Ok(done) => {
            if json && done.json.is_null() {
            } else if json {
                print_json(name, done.code == exit::GOOD, done.json);
            } else if matches!(name, "completions" | "recipe" | "schedule") {
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

/// The object around every answer (see the interface).
/// An option that this command would ignore.
fn ignored(common: &Common, words: &str) -> Option<Usage> {
    let option = match (common.dry_run, common.yes) {
        (true, _) => "--dry-run",
        (_, true) => "--yes",
        _ => return None,
    };
    commands::is_read_only(words).then(|| Usage {
        what: format!("{option} means nothing with tamga {words}"),
        why: "this command changes nothing, and asks nothing".into(),
        remedy: format!("leave {option} out"),
    })
}

fn refused(common: &Common, name: &str, why: &Usage) -> ExitCode {
    match common.format {
        Format::Json => print_json(name, false, to_json(&Failed::from(why as &dyn Diagnostic))),
        _ => human::failure(why),
    }
    ExitCode::from(exit::code(why.kind()))
}

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
    if !e.use_stderr() {
        let _ = e.print();
        return ExitCode::SUCCESS;
    }
    let args: Vec<String> = std::env::args_os().map(|a| a.to_string_lossy().into_owned()).collect();
    let wants_json =
        args.windows(2).any(|w| w[0] == "--format" && w[1] == "json") || args.iter().any(|a| a == "--format=json");
    // A value that the core itself refuses says what is wrong with it better than clap does.
    let refused = std::error::Error::source(e).and_then(|s| s.downcast_ref::<tamga_core::error::Error>());
    let value = invalid_value(e);
    let known = refused.map(|r| r as &dyn Diagnostic).or(value.as_ref().map(|v| v as &dyn Diagnostic));
    let kind = known.map_or(Kind::Usage, Diagnostic::kind);
    match (wants_json, known) {
        (true, known) => {
            let other = Usage {
                what: e.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned(),
                why: "the words do not make a command".into(),
                remedy: "see: tamga --help".into(),
            };
            let command = args.iter().find(|a| commands::NAMES.contains(&a.as_str())).map_or("", String::as_str);
            print_json(command, false, to_json(&Failed::from(known.unwrap_or(&other))));
        }
        (false, Some(known)) => human::failure(known),
        (false, None) => drop(e.print()),
    }
    ExitCode::from(exit::code(kind))
}

/// More accepted values than this are not listed.
const MOST_LISTED: usize = 30;

/// A value that an option does not take, where all that it takes are known: named, with what may have been meant.
fn invalid_value(e: &clap::Error) -> Option<Usage> {
    let text = |kind| match e.get(kind) {
        Some(ContextValue::String(s)) => Some(s.clone()),
        _ => None,
    };
    let Some(ContextValue::Strings(accepted)) = e.get(ContextKind::ValidValue) else { return None };
    let (option, typed) = (text(ContextKind::InvalidArg)?, text(ContextKind::InvalidValue)?);
    if e.kind() != ErrorKind::InvalidValue || accepted.is_empty() {
        return None;
    }
    let option = option.split(" <").next().unwrap_or_default().trim_matches('[').trim_matches(']');
    let what = match typed.is_empty() {
        true => format!("{option} has no value"),
        false => format!("invalid {option} value {typed:?}"),
    };
    let remedy = match nearest(&typed, accepted.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => "choose one of them; --help says what each option is for".into(),
    };
    // Only the codes of findings are so many.
    let why = match accepted.len() {
        0..=MOST_LISTED => format!("expected one of: {}", accepted.join(", ")),
        _ => "expected one of the codes that tamga explain lists".into(),
    };
    Some(Usage { what, why, remedy })
}

#[derive(Debug)]
struct Usage {
    what: String,
    why: String,
    remedy: String,
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
        self.why.clone()
    }
    fn remedy(&self) -> String {
        self.remedy.clone()
    }
}
