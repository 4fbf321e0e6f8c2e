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

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "tests")]

    use super::*;
    use tamga_core::deploy::recipe::{self, Setting, System};
    use tamga_core::sample::leaf;

    #[test]
    fn every_command_of_ours_that_a_recipe_prints_is_understood() {
        let (certificate, _) = leaf(&["charts.saltmarsh.test"]).unwrap();
        let mut seen = 0;
        let on = |asked| recipe::ALL.iter().filter_map(move |r| r.on(Some(asked)).ok());
        for (recipe, system) in on(System::Linux).chain(on(System::Windows)) {
            for clients in [false, true] {
                let crew = || ("crew".parse().unwrap(), "/home/operator/root.pem".into());
                let setting = Setting {
                    system,
                    label: "charts".parse().unwrap(),
                    names: vec!["charts.saltmarsh.test".parse().unwrap()],
                    key: certificate.key.clone(),
                    sha256: certificate.sha256(),
                    life: recipe.life(None).unwrap(),
                    folder: "/home/operator/charts".into(),
                    locked: false,
                    into: None,
                    address: None,
                    port: None,
                    redirect: Some(80),
                    only_13: false,
                    clients: clients.then(crew),
                    owner: None,
                    raise: false,
                };
                let Ok(written) = recipe::write(recipe, &setting) else { continue };
                let steps = written.files.iter().chain(&written.steps).flat_map(|w| &w.lines);
                for line in steps.chain(&written.renewal).filter(|l| l.starts_with("tamga ")) {
                    // What is for a person to fill in.
                    let words = recipe::program(&line.replace("LABEL", "crew").replace("NAME", "a.test")).unwrap();
                    assert!(Cli::try_parse_from(words).is_ok(), "{}: {line}", recipe.id);
                    seen += 1;
                }
            }
        }
        assert!(seen > 100, "{seen}");
    }
}
