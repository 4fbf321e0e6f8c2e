//! Commands as a person would type them: what the file asks for is done by the same code, with the same checks.

use crate::args::SecretArgs;
use crate::exit::Result;
use tamga_core::apply::file::Text;
use tamga_core::error::Error;
use tamga_core::text::Shown;

/// Words that are being put together.
pub(super) struct Words {
    pub(super) words: Vec<String>,
}

/// Begins with these.
pub(super) fn words(first: &[&str]) -> Words {
    Words { words: first.iter().map(|w| (*w).to_owned()).collect() }
}

impl Words {
    pub(super) fn option(self, name: &str, value: Option<&Text>) -> Words {
        self.option_word(name, value.map(|v| v.get_ref().clone()))
    }

    pub(super) fn option_word(mut self, name: &str, value: Option<String>) -> Words {
        // Joined: a value may begin with a dash.
        self.words.extend(value.map(|v| format!("{name}={v}")));
        self
    }

    pub(super) fn list(self, name: &str, values: &[Text]) -> Words {
        let values: Vec<&String> = values.iter().map(|v| v.get_ref()).collect();
        self.each(name, &values)
    }

    pub(super) fn each<T: ToString>(mut self, name: &str, values: &[T]) -> Words {
        self.words.extend(values.iter().map(|v| format!("{name}={}", v.to_string())));
        self
    }

    pub(super) fn with(mut self, more: Vec<String>) -> Words {
        self.words.extend(more);
        self
    }

    /// As the command's own arguments.
    ///
    /// Errors: what the command says of a word that it does not take.
    pub(super) fn parse<A: clap::Args>(&self) -> Result<A> {
        let wrong = |e: clap::Error| Error::Contradiction {
            what: "the file asks for something that the command does not take".into(),
            why: e.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ").to_owned(),
            instead: format!("look at: {}", self.words.join(" ")),
        };
        let command = A::augment_args(clap::Command::new("tamga").no_binary_name(true));
        let matches = command.try_get_matches_from(&self.words).map_err(wrong)?;
        Ok(A::from_arg_matches(&matches).map_err(wrong)?)
    }
}

/// The options that open a secret, as they were typed.
pub(super) fn secrets(args: &SecretArgs) -> Vec<String> {
    let file = args.passphrase_file.as_ref().map(|f| format!("--passphrase-file={}", f.shown()));
    let variable = args.passphrase_env.as_ref().map(|v| format!("--passphrase-env={v}"));
    file.into_iter().chain(variable).collect()
}
