//! Values as typed: what several commands read in the same way.

use crate::args::{ScopeArg, StoreArgs};
use crate::exit::Result;
use std::path::PathBuf;
use tamga_app::trust::stores::{Choice, InScope};
use tamga_core::deploy::recipe::{self, Recipe};
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};

/// Names that go into certificates.
pub(crate) fn names(typed: &[String]) -> Result<Vec<Name>> {
    Ok(typed.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<_>>()?)
}

/// A label, if one was typed.
pub(crate) fn label(typed: Option<&str>) -> Result<Option<Label>> {
    Ok(typed.map(Label::parse).transpose()?)
}

/// A length of time, if one was typed.
pub(crate) fn span(typed: Option<&str>) -> Result<Option<Span>> {
    Ok(typed.map(Span::parse).transpose()?)
}

/// A time, if one was typed.
pub(crate) fn moment(typed: Option<&str>) -> Result<Option<Timestamp>> {
    Ok(typed.map(Timestamp::parse).transpose()?)
}

/// A kind of key, if one was typed.
pub(crate) fn key_algorithm(typed: Option<&str>) -> Result<Option<KeyAlgorithm>> {
    Ok(typed.map(KeyAlgorithm::parse).transpose()?)
}

/// The server that is named with `--for`.
pub(crate) fn server(typed: Option<&str>) -> Result<Option<&'static Recipe>> {
    Ok(typed.map(recipe::find).transpose()?)
}

/// The codes given with `--accept`.
pub(crate) fn accepted(typed: &[String]) -> Result<Vec<Code>> {
    let one = |word: &String| {
        Code::parse(word).ok_or_else(|| Error::Word {
            what: "finding",
            typed: word.clone(),
            accepted: "the code of an objection, as tamga explain lists them".into(),
        })
    };
    Ok(typed.iter().map(one).collect::<tamga_core::error::Result<_>>()?)
}

/// Purposes, each once.
pub(crate) fn purposes(typed: &[String]) -> Result<Vec<Purpose>> {
    let mut out = Vec::new();
    for word in typed {
        let p = Purpose::parse(word).ok_or_else(|| Error::Word {
            what: "purpose",
            typed: word.clone(),
            accepted: Purpose::ALL.map(Purpose::word).join(", "),
        })?;
        if !out.contains(&p) {
            out.push(p);
        }
    }
    Ok(out)
}

/// Bundles, absolute: the ledger must find them again from anywhere.
pub(crate) fn absolute(bundles: &[PathBuf]) -> Vec<PathBuf> {
    bundles.iter().map(|b| std::path::absolute(b).unwrap_or_else(|_| b.clone())).collect()
}

/// The stores meant by the options; those of an image are the machine's, since nobody lives in it.
pub(crate) fn stores(args: StoreArgs, is_image: bool) -> Result<Choice> {
    Ok(Choice {
        scope: match args.scope {
            _ if is_image => InScope::Machine,
            ScopeArg::User => InScope::User,
            ScopeArg::Machine => InScope::Machine,
            ScopeArg::Both => InScope::Both,
        },
        named: Choice::named(&args.stores)?,
        bundles: absolute(&args.bundle),
    })
}
