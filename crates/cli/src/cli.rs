//! The words of the command line. What they mean is in `commands/`.

use crate::args::Common;
use crate::commands::Command;
use clap::Parser;

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
