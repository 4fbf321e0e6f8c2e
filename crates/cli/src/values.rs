//! Values that are typed as one word of a closed set, as the parser of the command line reads them.

use clap::builder::{PossibleValue, PossibleValuesParser, TypedValueParser};
use tamga_core::deploy::recipe::{self, Recipe};
use tamga_core::vocabulary::word::Word;

/// One word of a closed set: help, completion and the error come from the set itself.
pub(crate) fn word<T: Word>() -> impl TypedValueParser<Value = T> {
    let values = T::VALUES.iter().map(|v| PossibleValue::new(v.word()).aliases(v.also()));
    PossibleValuesParser::new(values).try_map(|typed| T::from_word(&typed))
}

/// A word of a set, or `any`: None.
pub(crate) fn word_or_any<T: Word>() -> impl TypedValueParser<Value = OrAny<T>> {
    let values = T::VALUES.iter().map(|v| v.word()).chain(["any"]);
    PossibleValuesParser::new(values).try_map(|typed| match typed.as_str() {
        "any" => Ok(OrAny(None)),
        typed => T::from_word(typed).map(|v| OrAny(Some(v))),
    })
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
pub(crate) fn server() -> impl TypedValueParser<Value = &'static Recipe> {
    let values = recipe::ALL.iter().map(|r| PossibleValue::new(r.id).aliases(r.also));
    PossibleValuesParser::new(values).try_map(|typed| recipe::find(&typed))
}
