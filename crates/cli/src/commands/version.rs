//! `tamga --version --verbose`: what this program is, and where it keeps its state. For reports of faults.

use crate::args::{Common, Format};
use crate::exit::{Failed, Failure, Result};
use crate::session::Session;
use crate::words::{human, print_json, to_json};
use clap::Parser;
use schemars::JsonSchema;
use serde::Serialize;
use std::process::ExitCode;
use tamga_app::about;
use tamga_core::error::Diagnostic;
use tamga_core::vocabulary::text::Shown;

/// What it prints.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Version {
    version: &'static str,
    /// The commit that it was made of; null where that is not known.
    commit: Option<&'static str>,
    /// The system that it was made for.
    target: &'static str,
    /// True for a build with optimizations.
    optimized: bool,
    /// True if it can load the library of the browsers: a program that is linked statically cannot.
    browser_databases: bool,
    #[serde(flatten)]
    about: about::Report,
}

/// The words of `--version --verbose`; all others are left aside.
#[derive(Parser)]
#[command(disable_version_flag = true, ignore_errors = true)]
struct Words {
    #[command(flatten)]
    common: Common,
    #[arg(long, short = 'V')]
    version: bool,
}

/// Reports the version in full, if that was asked for.
pub(crate) fn in_full() -> Option<ExitCode> {
    let words = Words::try_parse().ok().filter(|w| w.version && w.common.verbose)?;
    let format = words.common.format;
    Some(match report(words.common) {
        Ok(()) => ExitCode::SUCCESS,
        Err(Failure(e)) => {
            match format {
                Format::Text => human::failure(e.as_ref()),
                _ => print_json("version", false, to_json(&Failed::from(e.as_ref() as &dyn Diagnostic))),
            }
            ExitCode::from(crate::exit::code(e.kind()))
        }
    })
}

fn report(common: Common) -> Result<()> {
    let format = common.format;
    let version = Version {
        version: env!("CARGO_PKG_VERSION"),
        commit: Some(env!("TAMGA_COMMIT")).filter(|c| !c.is_empty()),
        target: env!("TAMGA_TARGET"),
        optimized: !cfg!(debug_assertions),
        browser_databases: tamga_host::nss::can_load(),
        about: about::about(&Session::new(common)?.env),
    };
    match format {
        Format::Text => human::out(&render(&version)),
        Format::Json | Format::Lines => print_json("version", true, to_json(&version)),
    }
    Ok(())
}

fn render(v: &Version) -> String {
    let build = if v.optimized { "" } else { ", not optimized" };
    let databases = match v.browser_databases {
        true => "Chromium's and Firefox' databases",
        false => "not Chromium's and Firefox' databases: this build is linked statically",
    };
    let ledger = match (&v.about.ledger.layout, v.about.ledger.readable) {
        (None, true) => "none yet".to_owned(),
        (None, false) => v.about.ledger.fault.clone().unwrap_or_default(),
        (Some(layout), true) => format!("{}, layout {layout}", v.about.ledger.path.shown()),
        (Some(layout), false) => format!("{}, layout {layout}: made by a later version", v.about.ledger.path.shown()),
    };
    let rows = [
        ["commit", v.commit.unwrap_or("not known")].map(str::to_owned),
        ["build".to_owned(), format!("{}{build}", v.target)],
        ["reaches", databases].map(str::to_owned),
        ["data".to_owned(), v.about.data_folder.shown()],
        ["ledger".to_owned(), ledger],
    ];
    let rows: Vec<Vec<String>> = rows.into_iter().map(|[word, what]| vec![human::dim(&word), what]).collect();
    format!("tamga {}\n{}", v.version, human::table(&rows))
}
