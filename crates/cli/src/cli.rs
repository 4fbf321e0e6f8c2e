//! The words of the command line. What they mean is in `commands/`.

use crate::commands::{
    apply, authority, check, completions, demo, explain, export, hosts, identity, issue, leave, list, manual, pairs,
    receive, recipe, renew, repair, request, revoke, schedule, serve, setup, show, sign, status, trust,
};
use clap::{ArgMatches, Args, FromArgMatches, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Warning-free HTTPS for localhost and test hosts: made, trusted, proved in every client, undone with one command.
#[derive(Parser)]
#[command(name = "tamga", version, max_term_width = 100, propagate_version = true, disable_help_subcommand = true)]
#[command(
    after_help = "Everything in one step:   tamga setup charts.saltmarsh.test\nUndo everything:          tamga leave\nSee it on made-up data:   tamga demo"
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that mean the same everywhere.
#[derive(Args, Clone)]
pub(crate) struct Common {
    /// Where Tamga keeps its state [default: TAMGA_DATA_DIR, else the data home + tamga]
    #[arg(long, global = true, value_name = "DIR", help_heading = "Everywhere")]
    pub(crate) data_dir: Option<PathBuf>,
    /// For a person or for a program
    #[arg(long, global = true, value_enum, default_value_t = Format::Text, help_heading = "Everywhere")]
    pub(crate) format: Format,
    /// Say only what fails
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) quiet: bool,
    /// Say more
    #[arg(long, short, global = true, help_heading = "Everywhere")]
    pub(crate) verbose: bool,
    /// Colours (NO_COLOR is heeded)
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, help_heading = "Everywhere")]
    pub(crate) color: Color,
    /// Say what would be done, and do nothing
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) dry_run: bool,
    /// Answer yes to every question
    #[arg(long, global = true, help_heading = "Everywhere")]
    pub(crate) yes: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    Text,
    Json,
    // One JSON object a line, as it comes: check and serve.
    Lines,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

macro_rules! commands {
    ($($variant:ident $name:literal $kind:ident $args:ty: $about:literal,)*) => {
        /// The commands. The words of each are read only when it is the one that was typed: with all of them a short
        /// command would spend a third of its time on the words of others.
        pub(crate) enum Command { $(#[doc = $about] $variant($args),)* }

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
                cmd
            }

            fn augment_subcommands_for_update(cmd: clap::Command) -> clap::Command {
                Self::augment_subcommands(cmd)
            }

            fn has_subcommand(name: &str) -> bool {
                [$($name),*].contains(&name)
            }
        }

        impl FromArgMatches for Command {
            fn from_arg_matches(matches: &ArgMatches) -> Result<Command, clap::Error> {
                match matches.subcommand() {
                    $(Some(($name, inner)) => <$args>::from_arg_matches(inner).map(Command::$variant),)*
                    _ => Err(clap::Error::new(clap::error::ErrorKind::MissingSubcommand)),
                }
            }

            fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), clap::Error> {
                *self = Command::from_arg_matches(matches)?;
                Ok(())
            }
        }
    };
}

/// The command that was typed, where the first word is one: then the others are not even named to the parser, which would
/// hand every one of them its own copy of the options that mean the same everywhere.
fn typed() -> Option<String> {
    let first = std::env::args_os().nth(1)?.into_string().ok()?;
    (!first.starts_with('-') && !["help", "completions", "manual"].contains(&first.as_str())).then_some(first)
}

/// A command with arguments of its own. What it is for stays, whatever the groups of arguments say of themselves.
fn arguments<T: Args>(cmd: clap::Command) -> clap::Command {
    let about = cmd.get_about().cloned();
    T::augment_args(cmd).about(about.unwrap_or_default()).long_about(None)
}

/// A command with commands below it.
fn commands<T: Subcommand>(cmd: clap::Command) -> clap::Command {
    T::augment_subcommands(cmd).subcommand_required(true).arg_required_else_help(true)
}

commands! {
    Demo "demo" arguments demo::DemoArgs: "The whole job on made-up data in a throw-away folder: nothing on the machine changes",
    Setup "setup" arguments setup::SetupArgs: "Everything in one step: authority, certificate, trust, and the proof that nobody warns",
    Leave "leave" arguments leave::LeaveArgs: "Undo: roots out of every store, then (asked) the data folder; lists what remains",
    Authority "authority" commands authority::AuthorityCommand: "Certificate authorities",
    Issue "issue" arguments issue::IssueArgs: "Make a key and a certificate for these names",
    Request "request" arguments request::RequestArgs: "Make a key, and a request to be signed elsewhere",
    Sign "sign" arguments sign::SignArgs: "Sign a request that was made elsewhere",
    Receive "receive" arguments receive::ReceiveArgs: "Take a signed certificate back to its waiting key",
    Renew "renew" arguments renew::RenewArgs: "The same certificate again, in the same files",
    Revoke "revoke" arguments revoke::RevokeArgs: "Take a certificate back, and say who will notice",
    List "list" arguments list::ListArgs: "Every certificate that was issued",
    Show "show" arguments show::ShowArgs: "One thing in words (file, label, serial, fingerprint), or how two differ",
    Match "match" arguments pairs::MatchArgs: "Which private key belongs to which certificate and request",
    Export "export" arguments export::ExportArgs: "A label or a foreign file in another form",
    Recipe "recipe" arguments recipe::RecipeArgs: "A server's configuration for a certificate, and every step to the padlock",
    Hosts "hosts" commands hosts::HostsCommand: "Names in the hosts file, in a marked block",
    Trust "trust" commands trust::TrustCommand: "Roots into, out of, and seen in stores",
    Identity "identity" commands identity::IdentityCommand: "Certificates with their keys into, out of, and seen in browsers",
    Run "run" arguments trust::RunArgs: "A program with the variables set that tell it of the roots",
    Check "check" arguments check::CheckArgs: "Would any client warn, why, and what to do",
    Explain "explain" arguments explain::ExplainArgs: "A finding at length",
    Serve "serve" arguments serve::ServeArgs: "A small HTTPS site on loopback with that certificate",
    Apply "apply" arguments apply::ApplyArgs: "Everything as tamga.toml says; only what differs is done",
    Schedule "schedule" arguments schedule::ScheduleArgs: "A timer that renews what is due, once a day",
    Status "status" arguments status::StatusArgs: "The whole at a glance: what ends when, where, and what is open",
    Repair "repair" arguments repair::RepairArgs: "Put right what interrupted work left, or a damaged ledger",
    Completions "completions" arguments completions::CompletionsArgs: "Completions for a shell",
    Manual "manual" arguments manual::ManualArgs: "A manual page for each command",
}

/// The subject fields: all optional, none asked for.
#[derive(Args, Clone, Default)]
pub(crate) struct SubjectArgs {
    /// The name in its subject
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    common_name: Option<String>,
    /// The organisation that it belongs to
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    organization: Option<String>,
    /// The part of that organisation
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    unit: Option<String>,
    /// Two letters
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    country: Option<String>,
    /// State or province
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    state: Option<String>,
    /// Town
    #[arg(long, value_name = "TEXT", help_heading = "Subject")]
    locality: Option<String>,
}

impl From<SubjectArgs> for tamga_core::cert::subject::Subject {
    fn from(a: SubjectArgs) -> Self {
        Self {
            common_name: a.common_name,
            organization: a.organization,
            unit: a.unit,
            country: a.country,
            state: a.state,
            locality: a.locality,
        }
    }
}

/// Opens a secret that exists.
#[derive(Args, Clone, Default)]
pub(crate) struct SecretArgs {
    /// The passphrase of an encrypted key, from a file's first line
    #[arg(long, value_name = "PATH", conflicts_with = "passphrase_env", help_heading = "Secrets")]
    pub(crate) passphrase_file: Option<PathBuf>,
    /// The same from an environment variable
    #[arg(long, value_name = "VAR", help_heading = "Secrets")]
    pub(crate) passphrase_env: Option<String>,
}

/// Protects a new one.
#[derive(Args, Clone, Default)]
pub(crate) struct NewSecretArgs {
    /// Encrypt the new private key; asks for a passphrase twice
    #[arg(long, help_heading = "Secrets")]
    pub(crate) encrypt_key: bool,
    /// Encrypt it with the passphrase in this file's first line
    #[arg(long, value_name = "PATH", conflicts_with = "new_passphrase_env", help_heading = "Secrets")]
    pub(crate) new_passphrase_file: Option<PathBuf>,
    /// The same from an environment variable
    #[arg(long, value_name = "VAR", help_heading = "Secrets")]
    pub(crate) new_passphrase_env: Option<String>,
}

/// Protects what holds the key of an authority.
#[derive(Args, Clone, Default)]
pub(crate) struct AuthoritySecretArgs {
    #[command(flatten)]
    pub(crate) new: NewSecretArgs,
    /// Accept a passphrase of fewer than 12 characters
    #[arg(long = "accept", value_name = "CODE", value_parser = ["weak-passphrase"], help_heading = "Secrets")]
    pub(crate) accept: Vec<String>,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum ScopeArg {
    User,
    Machine,
    Both,
}

/// Which stores.
#[derive(Args, Clone)]
pub(crate) struct StoreArgs {
    /// Whose stores
    #[arg(long, value_enum, default_value_t = ScopeArg::User)]
    pub(crate) scope: ScopeArg,
    /// Exactly these stores, whoever's they are
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub(crate) stores: Vec<String>,
    /// A PEM bundle as a store of its own (repeatable)
    #[arg(long, value_name = "FILE")]
    pub(crate) bundle: Vec<PathBuf>,
    /// Do the steps that need root's rights through sudo, doas or pkexec, and only those
    #[arg(long)]
    pub(crate) elevate: bool,
}
