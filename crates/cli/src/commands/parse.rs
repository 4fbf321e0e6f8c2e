//! Values as typed: what several commands read in the same way.

use crate::args::StoreArgs;
use crate::exit::Result;
use crate::session::Session;
use crate::words::human;
use std::path::{Path, PathBuf};
use tamga_app::machines;
use tamga_app::trust::stores::Choice;
use tamga_core::deploy::lab::host::Host;
use tamga_core::stores::InScope;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::harmless;

/// Names that go into certificates.
pub(crate) fn names(typed: &[String]) -> Result<Vec<Name>> {
    let mut out = Vec::new();
    for text in typed {
        let (name, is_of_web_address) = Name::from_typed(text)?;
        if is_of_web_address {
            let (text, name) = (harmless(text), name.to_string());
            human::note(&format!("{text} is a web address; using its host {name} (for the URI itself: URI:{text})"));
        }
        out.push(name);
    }
    Ok(out)
}

/// Bundles, absolute: the ledger must find them again from anywhere.
pub(crate) fn absolute(bundles: &[PathBuf]) -> Vec<PathBuf> {
    bundles.iter().map(|b| std::path::absolute(b).unwrap_or_else(|_| b.clone())).collect()
}

/// The stores meant by the options; those of an image are the machine's, since nobody lives in it.
pub(crate) fn stores(args: StoreArgs, is_image: bool) -> Choice {
    Choice {
        scope: if is_image { InScope::Machine } else { args.scope },
        named: Choice::named(&args.stores),
        bundles: absolute(&args.bundle),
    }
}

/// The machines that were named, by `tamga.toml` where no other file is given.
pub(crate) fn machines(session: &Session, named: &[String], lab_file: Option<&Path>) -> Result<Vec<Host>> {
    machines::named(session, named, lab_file.unwrap_or(Path::new("tamga.toml")))
}

/// Each value once, in the order in which they were typed.
pub(crate) fn distinct<T: PartialEq>(typed: Vec<T>) -> Vec<T> {
    let mut out = Vec::new();
    for value in typed {
        if !out.contains(&value) {
            out.push(value);
        }
    }
    out
}
