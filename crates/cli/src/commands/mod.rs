//! The commands: one file each, with its arguments and the function that runs it.

pub(crate) mod apply;
pub(crate) mod authority;
pub(crate) mod check;
pub(crate) mod completions;
pub(crate) mod demo;
pub(crate) mod enrollment;
pub(crate) mod explain;
pub(crate) mod export;
pub(crate) mod hosts;
pub(crate) mod identity;
mod install_text;
pub(crate) mod issue;
pub(crate) mod issue_from;
pub(crate) mod leave;
pub(crate) mod ledger;
pub(crate) mod list;
pub(crate) mod manual;
pub(crate) mod pairs;
pub(crate) mod parse;
pub(crate) mod receive;
pub(crate) mod recipe;
pub(crate) mod relocate;
pub(crate) mod renew;
pub(crate) mod repair;
pub(crate) mod request;
pub(crate) mod revoke;
pub(crate) mod schedule;
pub(crate) mod serve;
pub(crate) mod setup;
pub(crate) mod show;
pub(crate) mod sign;
pub(crate) mod status;
pub(crate) mod status_page;
pub(crate) mod trust;
pub(crate) mod version;

use crate::exit::{Done, Result};
use crate::session::Session;
use clap::{ArgMatches, Args, FromArgMatches, Subcommand};

macro_rules! commands {
    ($($variant:ident $name:literal $kind:ident $args:ty: $about:literal,)*) => {
        /// The commands' names.
        pub(crate) const NAMES: &[&str] = &[$($name),*];

        /// The commands. The words of each are read only when it is the one that was typed: with all of them a short
        /// command would spend a third of its time on the words of others.
        pub(crate) enum Command { $(#[doc = $about] $variant($args),)* }

        /// What each command does, in one line.
        const ABOUT: &[(&str, &str)] = &[$(($name, $about)),*];

        impl Command {
            /// The command's name in JSON.
            pub(crate) fn name(&self) -> &'static str {
                match self { $(Command::$variant(_) => $name,)* }
            }
        }

        impl Subcommand for Command {
            fn augment_subcommands(cmd: clap::Command) -> clap::Command {
                let typed = typed();
                let wanted = |name: &str| typed.as_deref().is_none_or(|t| t == name);
                let known = [$($name),*].iter().any(|n| wanted(n));
                $(let cmd = if wanted($name) || !known {
                    cmd.subcommand(clap::Command::new($name).about($about).defer($kind::<$args>))
                } else {
                    cmd
                };)*
                // As it is spelled elsewhere.
                match cmd.find_subcommand("enrollment") {
                    Some(_) => cmd.mut_subcommand("enrollment", |c| c.alias("enrolment")),
                    None => cmd,
                }
            }

            fn augment_subcommands_for_update(cmd: clap::Command) -> clap::Command {
                Self::augment_subcommands(cmd)
            }

            fn has_subcommand(name: &str) -> bool {
                [$($name),*].contains(&name)
            }
        }

        impl FromArgMatches for Command {
            fn from_arg_matches(matches: &ArgMatches) -> std::result::Result<Command, clap::Error> {
                match matches.subcommand() {
                    $(Some(($name, inner)) => <$args>::from_arg_matches(inner).map(Command::$variant),)*
                    _ => Err(clap::Error::new(clap::error::ErrorKind::MissingSubcommand)),
                }
            }

            fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> std::result::Result<(), clap::Error> {
                *self = Command::from_arg_matches(matches)?;
                Ok(())
            }
        }
    };
}

/// The commands by what a person wants to do, as the help lists them.
const GROUPS: [(&str, &[&str]); 7] = [
    ("Start", &["setup", "leave", "demo", "status"]),
    ("Certificates", &["issue", "request", "sign", "receive", "renew", "revoke", "list", "show", "match", "move"]),
    ("Authorities", &["authority"]),
    ("Servers", &["recipe", "export", "hosts", "serve"]),
    ("Trust, proof", &["trust", "identity", "run", "check", "explain"]),
    ("Lab", &["apply", "schedule", "enrollment", "ledger"]),
    ("Other", &["repair", "completions", "manual"]),
];

/// Commands that change nothing: `--dry-run` and `--yes` would mean nothing there, and are refused.
const READ_ONLY: [&str; 22] = [
    "demo",
    "status",
    "list",
    "show",
    "match",
    "serve",
    "run",
    "check",
    "explain",
    "completions",
    "trust status",
    "trust share",
    "identity status",
    "hosts status",
    "authority list",
    "authority show",
    "enrollment serve",
    "enrollment accounts",
    "enrollment accounts list",
    "enrollment accounts show",
    "ledger status",
    "ledger check",
];

/// True for a command that changes nothing, named with its words.
pub(crate) fn is_read_only(words: &str) -> bool {
    READ_ONLY.contains(&words)
}

/// The help of the program itself: one screen.
pub(crate) fn help() -> String {
    let mut text = String::from(
        "Tamga makes HTTPS work without a warning on localhost and test hosts\n\nUsage: tamga COMMAND [OPTIONS]\n\n",
    );
    for (group, names) in GROUPS {
        for (n, name) in names.iter().enumerate() {
            let about = ABOUT.iter().find(|(n, _)| n == name).map_or("", |(_, about)| about);
            let head = if n == 0 { group } else { "" };
            text.push_str(&format!("{head:<13} {name:<12} {about}\n"));
        }
    }
    text.push_str("\ntamga help COMMAND shows its options. Every command takes --data-dir DIR, --ledger URL,\n");
    text.push_str("--format text|json, --quiet, --verbose and --color auto|always|never; what changes something:\n");
    text.push_str("--dry-run and --yes.\n");
    text
}

/// What the help of a command says of the options that mean the same everywhere.
fn everywhere(words: &str) -> &'static str {
    match is_read_only(words) {
        true => "Every command: --data-dir --ledger --format --quiet --verbose --color (tamga help)",
        false => "Every command: --data-dir --ledger --format --quiet --verbose --color --dry-run --yes (tamga help)",
    }
}

fn with_common(cmd: clap::Command, words: &str) -> clap::Command {
    let example = cmd.get_after_help().map(ToString::to_string).unwrap_or_default();
    let joint = if example.is_empty() { "" } else { "\n" };
    cmd.after_help(format!("{example}{joint}{}", everywhere(words)))
}

/// The command that was typed, where the first word is one: then the others are not even named to the parser, which would
/// hand every one of them its own copy of the options that mean the same everywhere.
fn typed() -> Option<String> {
    let first = std::env::args_os().nth(1)?.into_string().ok()?;
    let first = if first == "enrolment" { "enrollment".to_owned() } else { first };
    (!first.starts_with('-') && !["help", "completions", "manual"].contains(&first.as_str())).then_some(first)
}

/// A command with arguments of its own. What it is for stays, whatever the groups of arguments say of themselves.
fn arguments<T: Args>(cmd: clap::Command) -> clap::Command {
    let about = cmd.get_about().cloned();
    let name = cmd.get_name().to_owned();
    with_common(T::augment_args(cmd).about(about.unwrap_or_default()).long_about(None), &name)
}

/// A command with commands below it.
fn commands<T: Subcommand>(cmd: clap::Command) -> clap::Command {
    let name = cmd.get_name().to_owned();
    let below = |c: clap::Command| {
        let words = format!("{name} {}", c.get_name());
        with_common(c, &words)
    };
    T::augment_subcommands(cmd).subcommand_required(true).arg_required_else_help(true).mut_subcommands(below)
}

commands! {
    Demo "demo" arguments demo::DemoArgs: "Run the whole job on made-up data, in a throw-away directory",
    Setup "setup" arguments setup::SetupArgs: "Set up authority, certificate and trust in one step, and prove it",
    Leave "leave" arguments leave::LeaveArgs: "Undo everything, and list what remains",
    Authority "authority" commands authority::AuthorityCommand: "Manage certificate authorities",
    Issue "issue" arguments issue::IssueArgs: "Issue a key and a certificate for these names",
    Request "request" arguments request::RequestArgs: "Make a key, and a request to be signed elsewhere",
    Sign "sign" arguments sign::SignArgs: "Sign a request that was made elsewhere",
    Receive "receive" arguments receive::ReceiveArgs: "Bring a signed certificate back to its waiting key",
    Renew "renew" arguments renew::RenewArgs: "Renew certificates in the same files",
    Revoke "revoke" arguments revoke::RevokeArgs: "Revoke a certificate and list which clients check",
    List "list" arguments list::ListArgs: "List issued certificates",
    Show "show" arguments show::ShowArgs: "Describe a file, label, serial, fingerprint or URL, or compare two",
    Match "match" arguments pairs::MatchArgs: "Find which private key matches which certificate and request",
    Move "move" arguments relocate::MoveArgs: "Move a certificate's directory, or record where its files are now",
    Export "export" arguments export::ExportArgs: "Write a label or a foreign file in another form",
    Recipe "recipe" arguments recipe::RecipeArgs: "Print a server's configuration for a certificate, step by step",
    Hosts "hosts" commands hosts::HostsCommand: "Add, remove or show names in the hosts file",
    Trust "trust" commands trust::TrustCommand: "Add, remove or list root certificates in trust stores",
    Identity "identity" commands identity::IdentityCommand: "Add, remove or list certificates with their keys in browsers",
    Run "run" arguments trust::RunArgs: "Run a program that trusts your roots",
    Check "check" arguments check::CheckArgs: "Check whether any client would warn, why, and how to fix it",
    Explain "explain" arguments explain::ExplainArgs: "Explain a finding or a line of a log",
    Serve "serve" arguments serve::ServeArgs: "Serve a small HTTPS site, or HTTPS in front of an application",
    Apply "apply" arguments apply::ApplyArgs: "Make the lab match tamga.toml",
    Schedule "schedule" arguments schedule::ScheduleArgs: "Renew what is due once a day, by a timer",
    Enrollment "enrollment" commands enrollment::EnrollmentCommand: "Let servers get and renew certificates by themselves",
    Ledger "ledger" commands ledger::LedgerCommand: "Show where the ledger is, move it to a server, or check it",
    Status "status" arguments status::StatusArgs: "Show expiry dates, trust state and open problems",
    Repair "repair" arguments repair::RepairArgs: "Repair what interrupted work left, or a damaged ledger",
    Completions "completions" arguments completions::CompletionsArgs: "Print completions for a shell",
    Manual "manual" arguments manual::ManualArgs: "Write a manual page for each command",
}

/// Runs a command. `whole` builds the parser of the whole command line, for completions and manual pages.
pub(crate) fn run(session: &Session, command: Command, whole: fn() -> clap::Command) -> Result<Done> {
    match command {
        Command::Demo(args) => demo::run(session, &args),
        Command::Setup(args) => setup::run(session, args),
        Command::Leave(args) => leave::run(session, &args),
        Command::Authority(command) => authority::run(session, command),
        Command::Issue(args) => issue::run(session, args),
        Command::Request(args) => request::run(session, args),
        Command::Sign(args) => sign::run(session, args),
        Command::Receive(args) => receive::run(session, args),
        Command::Renew(args) => renew::run(session, args),
        Command::Revoke(args) => revoke::run(session, args),
        Command::List(args) => list::run(session, &args),
        Command::Show(args) => show::run(session, args),
        Command::Match(args) => pairs::run(session, args),
        Command::Move(args) => relocate::run(session, args),
        Command::Export(args) => export::run(session, args),
        Command::Recipe(args) => recipe::run(session, args),
        Command::Hosts(command) => hosts::run(session, command),
        Command::Trust(command) => trust::run(session, command),
        Command::Identity(command) => identity::run(session, command),
        Command::Run(args) => trust::run_program(session, &args),
        Command::Check(args) => check::run(session, args),
        Command::Explain(args) => explain::run(session, &args),
        Command::Serve(args) => serve::run(session, args),
        Command::Apply(args) => apply::run(session, args),
        Command::Schedule(args) => schedule::run(session, &args),
        Command::Enrollment(command) => enrollment::run(session, command),
        Command::Ledger(command) => ledger::run(session, command),
        Command::Status(args) => status::run(session, &args),
        Command::Repair(args) => repair::run(session, &args),
        Command::Manual(args) => manual::run(session, &args, whole()),
        Command::Completions(args) => completions::run(&args),
    }
}
