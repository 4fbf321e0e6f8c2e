//! Values as typed: what several commands read in the same way.

use crate::args::StoreArgs;
use crate::exit::Result;
use std::path::PathBuf;
use std::str::FromStr;
use tamga_app::trust::stores::Choice;
use tamga_core::stores::InScope;
use tamga_core::vocabulary::name::Name;

/// Names that go into certificates.
pub(crate) fn names(typed: &[String]) -> Result<Vec<Name>> {
    Ok(typed.iter().map(|n| Name::from_str(n)).collect::<tamga_core::error::Result<_>>()?)
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
