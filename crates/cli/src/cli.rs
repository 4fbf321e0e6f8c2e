//! The words of the command line. What they mean is in `commands/`.

use crate::args::Common;
use crate::commands::{self, Command};
use clap::{ArgMatches, CommandFactory, FromArgMatches, Parser};

/// Make HTTPS work without a warning on localhost and test hosts.
#[derive(Parser)]
#[command(name = "tamga", version, max_term_width = 100, override_help = commands::help())]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// What was typed: parsed, and the words of its command, such as `trust status`.
pub(crate) struct Typed {
    pub(crate) cli: Cli,
    pub(crate) words: String,
}

/// Parses the command line.
pub(crate) fn parse() -> Result<Typed, clap::Error> {
    let matches = Cli::command().try_get_matches()?;
    let words = words(&matches);
    Ok(Typed { cli: Cli::from_arg_matches(&matches)?, words })
}

fn words(matches: &ArgMatches) -> String {
    let mut words = Vec::new();
    let mut at = matches;
    while let Some((name, below)) = at.subcommand() {
        words.push(name);
        at = below;
    }
    words.join(" ")
}
