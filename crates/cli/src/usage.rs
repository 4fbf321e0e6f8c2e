//! Words that make no command: what is wrong with them, in three lines like every other error.

use crate::cli::Cli;
use crate::commands;
use crate::exit::{self, Failed};
use crate::words::{human, print_json, to_json};
use clap::CommandFactory;
use clap::error::{ContextKind, ContextValue, ErrorKind};
use std::process::ExitCode;
use tamga_core::deploy::recipe::GENERAL;
use tamga_core::error::{Diagnostic, Kind, Stated};
use tamga_core::vocabulary::text::nearest;

/// What is wrong with a command line.
pub(crate) fn usage_error(what: impl Into<String>, why: impl Into<String>, remedy: impl Into<String>) -> Stated {
    Stated { kind: Kind::Usage, code: "usage", what: what.into(), why: why.into(), remedy: remedy.into() }
}

/// Reports words that make no command; with `--format json` as an object. Help and the version come here too.
pub(crate) fn report(e: &clap::Error) -> ExitCode {
    if !e.use_stderr() {
        let _ = e.print();
        return ExitCode::SUCCESS;
    }
    let args: Vec<String> = std::env::args_os().skip(1).map(|a| a.to_string_lossy().into_owned()).collect();
    let wants_json =
        args.windows(2).any(|w| w[0] == "--format" && w[1] == "json") || args.iter().any(|a| a == "--format=json");
    // Nothing was typed yet: that is a question, not an error.
    if e.kind() == ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand && !wants_json {
        let _ = e.print();
        return ExitCode::from(exit::code(Kind::Usage));
    }
    // A value that the core itself refuses says what is wrong with it better than the parser does.
    let refused = std::error::Error::source(e).and_then(|s| s.downcast_ref::<tamga_core::error::Error>());
    let typed = typed_command(&args);
    let usage = usage(e, &typed);
    let diagnostic = refused.map_or(&usage as &dyn Diagnostic, |r| r);
    if wants_json {
        let command = typed.split(' ').next().unwrap_or_default();
        print_json(command, false, to_json(&Failed::from(diagnostic)));
    } else {
        human::failure(diagnostic);
    }
    ExitCode::from(exit::code(diagnostic.kind()))
}

/// The command's words as they were typed, such as `trust add`; empty if the first is none.
fn typed_command(args: &[String]) -> String {
    let mut words: Vec<&str> = Vec::new();
    let mut whole = Cli::command();
    whole.build();
    let mut at = &whole;
    // Options that mean the same everywhere may stand before the command, with their values.
    for word in args.iter().skip_while(|a| !commands::NAMES.contains(&a.as_str())) {
        let Some(below) = at.find_subcommand(word) else { break };
        words.push(word);
        at = below;
    }
    words.join(" ")
}

fn usage(e: &clap::Error, command: &str) -> Stated {
    let text = |kind| match e.get(kind) {
        Some(ContextValue::String(s)) => Some(s.clone()),
        Some(ContextValue::Strings(all)) => Some(all.join(", ")),
        _ => None,
    };
    let program = if command.is_empty() { "tamga".to_owned() } else { format!("tamga {command}") };
    let lists = match command {
        "" => "tamga --help lists the commands".to_owned(),
        command => format!("tamga help {command} shows what it takes"),
    };
    let suggested = |kind| text(kind).map_or(lists.clone(), |s| format!("did you mean {s}?"));
    let argument = text(ContextKind::InvalidArg).map(|a| option_alone(&a));
    match (e.kind(), argument) {
        (ErrorKind::UnknownArgument, Some(typed)) if typed.starts_with('-') => usage_error(
            format!("unexpected option {typed}"),
            format!("{program} has no such option"),
            suggested(ContextKind::SuggestedArg),
        ),
        (ErrorKind::UnknownArgument, Some(typed)) => {
            usage_error(format!("unexpected word {typed:?}"), format!("{program} takes no further words"), lists)
        }
        (ErrorKind::InvalidSubcommand, _) => usage_error(
            format!("there is no command {:?}", text(ContextKind::InvalidSubcommand).unwrap_or_default()),
            format!("{program} has no command of this name"),
            suggested(ContextKind::SuggestedSubcommand),
        ),
        (ErrorKind::MissingRequiredArgument, Some(_)) => {
            let all = match e.get(ContextKind::InvalidArg) {
                Some(ContextValue::Strings(all)) => all.join(" and "),
                _ => String::new(),
            };
            let usage = e.get(ContextKind::Usage).map(ToString::to_string).unwrap_or_default();
            let usage = anstream::adapter::strip_str(&usage).to_string();
            let usage = usage.trim_start_matches("Usage:").split_whitespace().collect::<Vec<_>>().join(" ");
            usage_error(format!("{program} needs {all}"), format!("it is used like this: {usage}"), lists)
        }
        (ErrorKind::ArgumentConflict, Some(one)) => {
            let other = text(ContextKind::PriorArg).map(|a| option_alone(&a));
            match other.filter(|o| *o != one) {
                Some(other) => usage_error(
                    format!("{one} and {other} were both given"),
                    "one excludes the other",
                    "leave one of them out",
                ),
                None => usage_error(format!("{one} was given more than once"), "it takes one value", "give it once"),
            }
        }
        (ErrorKind::MissingSubcommand, _) => {
            usage_error(format!("{program} needs a command"), "it does nothing by itself", lists)
        }
        (ErrorKind::InvalidValue, _) => invalid_value(e).unwrap_or_else(|| other(e, lists)),
        _ => other(e, lists),
    }
}

/// `--into` of `--into <DIR>`.
fn option_alone(shown: &str) -> String {
    let alone = if shown.starts_with('-') { shown.split([' ', '=']).next().unwrap_or(shown) } else { shown };
    alone.trim_matches(['\'', '[', ']']).to_owned()
}

/// Any other error of the parser: its sentence, and the reason behind the colon.
fn other(e: &clap::Error, remedy: String) -> Stated {
    let text = e.to_string();
    let line = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
    let (what, why) = line.split_once(": ").unwrap_or((line, "the words do not make a command"));
    usage_error(what.to_owned(), why.to_owned(), remedy)
}

/// More accepted values than this are not listed.
const MOST_LISTED: usize = 30;

/// A value that an option does not take, where all that it takes are known: named, with what may have been meant.
fn invalid_value(e: &clap::Error) -> Option<Stated> {
    let text = |kind| match e.get(kind) {
        Some(ContextValue::String(s)) => Some(s.clone()),
        _ => None,
    };
    let Some(ContextValue::Strings(accepted)) = e.get(ContextKind::ValidValue) else { return None };
    let (option, typed) = (text(ContextKind::InvalidArg)?, text(ContextKind::InvalidValue)?);
    if accepted.is_empty() {
        return None;
    }
    let option = option.split(" <").next().unwrap_or_default().trim_matches(['[', ']']).trim_matches(['<', '>']);
    let what = match typed.is_empty() {
        true => format!("{option} has no value"),
        false => format!("invalid {option} value {typed:?}"),
    };
    let remedy = match nearest(&typed, accepted.iter().map(String::as_str)) {
        Some(near) => format!("did you mean {near}?"),
        None => "choose one of them; --help says what each option is for".into(),
    };
    // Only servers and the codes of findings are so many.
    let is_server = accepted.iter().any(|a| a == GENERAL.id);
    let why = match accepted.len() {
        0..=MOST_LISTED => format!("expected one of: {}", accepted.join(", ")),
        _ if is_server => "expected one of the servers that tamga recipe lists".into(),
        _ => "expected one of the codes that tamga explain lists".into(),
    };
    Some(usage_error(what, why, remedy))
}
