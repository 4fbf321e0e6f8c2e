//! Shell completion. The shell asks the program itself, so that labels of the ledger are offered like every fixed word.

use crate::cli::Cli;
use clap::CommandFactory;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate, PathCompleter, ValueCompleter};
use clap_complete::env::CompleteEnv;
use std::ffi::OsStr;
use std::path::PathBuf;
use tamga_core::finding::Code;
use tamga_core::vocabulary::word::Word;
use tamga_host::places::Machine;

/// Names the shell that asks; the registration that `tamga completions` prints sets it.
pub(crate) const VARIABLE: &str = "TAMGA_COMPLETE";

/// More labels than these are of no use on a screen.
const MOST: usize = 1_000;

/// Answers a shell that asks what could follow, and returns true if one did.
pub(crate) fn answer() -> Result<bool, clap::Error> {
    if std::env::var_os(VARIABLE).is_none() {
        return Ok(false);
    }
    let here = std::env::current_dir().ok();
    CompleteEnv::with_factory(whole).var(VARIABLE).bin("tamga").try_complete(std::env::args_os(), here.as_deref())
}

/// All commands with every option shown; whatever names a label, a file or a directory says so.
fn whole() -> clap::Command {
    let mut whole = Cli::command();
    // A command's arguments are not there before this.
    whole.build();
    // In a command's help one line stands for the common options: here they are offered.
    completed(shown(whole))
}

/// A command with every option shown.
pub(crate) fn shown(command: clap::Command) -> clap::Command {
    command.mut_args(|a| a.hide(false)).mut_subcommands(shown)
}

fn completed(command: clap::Command) -> clap::Command {
    let with = |a: clap::Arg| {
        let name = a
            .get_value_names()
            .and_then(|n| n.first())
            .map_or_else(|| a.get_id().as_str().to_uppercase(), |n| n.to_uppercase());
        match name.as_str() {
            "LABEL" | "ISSUER" | "PARENT" | "AUTHORITY" => a.add(ArgValueCompleter::new(labels)),
            "WHAT" | "OTHER" | "TARGET" => a.add(ArgValueCompleter::new(labels_and_files)),
            "CODE OR TEXT" => a.add(ArgValueCompleter::new(codes)),
            "DIR" => a.add(ArgValueCompleter::new(PathCompleter::dir())),
            name if name.starts_with("FILE") || name == "PATH" || name == "CSR" => {
                a.add(ArgValueCompleter::new(PathCompleter::any()))
            }
            _ => a,
        }
    };
    command.mut_args(with).mut_subcommands(completed)
}

/// Labels of authorities and certificates that begin as typed. Whatever fails gives none: a shell has no place for an error.
fn labels(current: &OsStr) -> Vec<CompletionCandidate> {
    let begin = current.to_str().unwrap_or("\0");
    let Ok(machine) = Machine::from_environment(named_data_directory(), None) else { return Vec::new() };
    let Ok(Some(ledger)) = machine.ledgers().open_existing(machine.data()) else { return Vec::new() };
    let authorities = ledger.authorities().unwrap_or_default();
    let authorities = authorities.into_iter().map(|a| (a.label.to_string(), "authority"));
    let certificates = ledger.labels(MOST).unwrap_or_default().into_iter().map(|l| (l, "certificate"));
    authorities
        .chain(certificates)
        .filter(|(label, _)| label.starts_with(begin))
        .map(|(label, kind)| CompletionCandidate::new(label).help(Some(kind.into())))
        .collect()
}

fn codes(current: &OsStr) -> Vec<CompletionCandidate> {
    let begin = current.to_str().unwrap_or("\0");
    let codes = Code::VALUES.iter().filter(|c| c.word().starts_with(begin));
    codes.map(|c| CompletionCandidate::new(c.word())).collect()
}

fn labels_and_files(current: &OsStr) -> Vec<CompletionCandidate> {
    let mut all = labels(current);
    all.extend(PathCompleter::any().complete(current));
    all
}

/// `--data-dir` as typed in the line that is being completed.
fn named_data_directory() -> Option<PathBuf> {
    let mut words = std::env::args_os().skip_while(|w| w != "--");
    while let Some(word) = words.next() {
        if word == "--data-dir" {
            return words.next().map(PathBuf::from);
        }
        if let Some(directory) = word.to_str().and_then(|w| w.strip_prefix("--data-dir=")) {
            return Some(directory.into());
        }
    }
    None
}
