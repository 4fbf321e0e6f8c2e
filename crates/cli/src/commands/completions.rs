//! `tamga completions SHELL`.

use crate::exit::Done;
use schemars::JsonSchema;
use serde::Serialize;

#[derive(clap::Args)]
pub(crate) struct CompletionsArgs {
    /// For which shell
    shell: clap_complete::Shell,
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct Completions {
    shell: String,
    script: String,
}

/// A command with every option shown.
pub(crate) fn shown(command: clap::Command) -> clap::Command {
    command.mut_args(|a| a.hide(false)).mut_subcommands(shown)
}

pub(crate) fn run(args: &CompletionsArgs, mut whole: clap::Command) -> Done {
    let mut bytes = Vec::new();
    // Hidden in each command's help, where one line stands for them: here they are offered.
    whole = shown(whole);
    clap_complete::generate(args.shell, &mut whole, "tamga", &mut bytes);
    let text = String::from_utf8_lossy(&bytes).into_owned();
    let report = Completions { shell: args.shell.to_string(), script: text.clone() };
    Done::report(text, &report)
}
