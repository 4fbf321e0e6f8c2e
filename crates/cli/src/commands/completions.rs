//! `tamga completions SHELL`.

use crate::complete::VARIABLE;
use crate::exit::{Done, Result};
use clap_complete::env::Shells;
use schemars::JsonSchema;
use serde::Serialize;

#[derive(clap::Args)]
#[command(after_help = "Example, in ~/.bashrc: source <(tamga completions bash)")]
pub(crate) struct CompletionsArgs {
    /// For which shell
    shell: clap_complete::Shell,
}

#[derive(Serialize, JsonSchema)]
pub(crate) struct Completions {
    shell: String,
    script: String,
}

pub(crate) fn run(args: &CompletionsArgs) -> Result<Done> {
    let shell = args.shell.to_string();
    let mut bytes = Vec::new();
    if let Some(completer) = Shells::builtins().completer(&shell) {
        // The program is found on the PATH: it may have moved since the script was written.
        completer
            .write_registration(VARIABLE, "tamga", "tamga", "tamga", &mut bytes)
            .map_err(tamga_host::error::Error::file("writing", std::path::Path::new("the script")))?;
    }
    let script = String::from_utf8_lossy(&bytes).into_owned();
    let report = Completions { shell, script: script.clone() };
    Ok(Done::report(script, &report))
}
