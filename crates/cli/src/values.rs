//! Values that are typed as one word of a closed set, as the parser of the command line reads them.

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use clap::error::ErrorKind;
use tamga_core::deploy::recipe::{self, Recipe};
use tamga_core::vocabulary::word::Word;

/// Words of a closed set. What they are is asked for only where they are shown: a command with all of its lists made at once would spend a
/// tenth of a millisecond on words that nobody reads.
#[derive(Clone)]
pub(crate) struct Words<T> {
    all: fn() -> Vec<PossibleValue>,
    read: fn(&str) -> Option<T>,
}

impl<T: Clone + Send + Sync + 'static> TypedValueParser for Words<T> {
    type Value = T;

    fn parse_ref(
        &self,
        command: &clap::Command,
        arg: Option<&clap::Arg>,
        typed: &std::ffi::OsStr,
    ) -> Result<T, clap::Error> {
        if let Some(value) = typed.to_str().and_then(self.read) {
            return Ok(value);
        }
        // For its error: it lists the words, and names the one that may have been meant.
        let refused = PossibleValuesParser::new((self.all)()).parse_ref(command, arg, typed);
        Err(refused.err().unwrap_or_else(|| clap::Error::new(ErrorKind::InvalidValue).with_cmd(command)))
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new((self.all)().into_iter()))
    }
}

/// One word of a closed set: help, completion and the error come from the set itself.
pub(crate) fn word<T: Word>() -> Words<T> {
    Words {
        all: || T::VALUES.iter().map(|v| PossibleValue::new(v.word()).aliases(v.also())).collect(),
        read: |typed| T::from_word(typed).ok(),
    }
}

/// A word of a set, or `any`: None.
pub(crate) fn word_or_any<T: Word>() -> Words<OrAny<T>> {
    Words {
        all: || T::VALUES.iter().map(|v| v.word()).chain(["any"]).map(PossibleValue::new).collect(),
        read: |typed| match typed {
            "any" => Some(OrAny(None)),
            typed => T::from_word(typed).ok().map(|v| OrAny(Some(v))),
        },
    }
}

/// What [`word_or_any`] reads. A type of its own, since the parser takes an `Option` for an option that may be left out.
#[derive(Clone, Copy)]
pub(crate) struct OrAny<T>(pub(crate) Option<T>);

/// A server, or the general recipe for a word that is none.
#[derive(Clone)]
pub(crate) struct AnyServer {
    pub(crate) recipe: &'static Recipe,
    /// The word that was typed, where no recipe has it.
    pub(crate) unknown: Option<String>,
}

/// Takes every word: for one that is no server's there is the general recipe.
#[derive(Clone)]
pub(crate) struct AnyServerParser;

impl TypedValueParser for AnyServerParser {
    type Value = AnyServer;

    fn parse_ref(
        &self,
        command: &clap::Command,
        arg: Option<&clap::Arg>,
        typed: &std::ffi::OsStr,
    ) -> Result<AnyServer, clap::Error> {
        let typed = clap::builder::StringValueParser::new().parse_ref(command, arg, typed)?;
        Ok(match recipe::find(&typed) {
            Ok(recipe) => AnyServer { recipe, unknown: None },
            Err(_) => AnyServer { recipe: recipe::GENERAL, unknown: Some(typed) },
        })
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new(recipe::ALL.iter().map(|r| PossibleValue::new(r.id))))
    }
}

/// A server for which there is a recipe.
pub(crate) fn server() -> Words<&'static Recipe> {
    Words {
        all: || recipe::ALL.iter().map(|r| PossibleValue::new(r.id).aliases(r.also)).collect(),
        read: |typed| recipe::ALL.iter().find(|r| r.id == typed || r.also.contains(&typed)).copied(),
    }
}

/// A name with its address, as `--resolve` takes it.
pub(crate) fn name_and_address(
    typed: &str,
) -> std::result::Result<(String, std::net::IpAddr), tamga_core::error::Error> {
    typed
        .split_once('=')
        .and_then(|(n, a)| Some((n.to_lowercase(), a.trim_matches(['[', ']']).parse().ok()?)))
        .ok_or_else(|| tamga_core::error::Error::Word {
            what: "name with its address",
            typed: typed.into(),
            accepted: "charts.saltmarsh.test=127.0.0.1".into(),
        })
}
