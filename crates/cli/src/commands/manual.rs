//! `tamga manual --into DIR`: a page for each command, from the same words as its help.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use clap::Command;
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::vocabulary::text::Shown;
use tamga_host::fs;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga manual --into ~/.local/share/man/man1")]
pub(crate) struct ManualArgs {
    /// The directory for the pages
    #[arg(long, value_name = "DIR")]
    into: PathBuf,
}

/// The pages that were written.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Pages<'a> {
    #[serde(skip_serializing_if = "Option::is_none")]
    folder: Option<String>,
    pages: Vec<&'a str>,
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    dry_run: bool,
}

pub(crate) fn run(session: &Session, args: &ManualArgs, mut whole: Command) -> Result<Done> {
    whole.build();
    let mut pages = Vec::new();
    rendered(&whole, "tamga", &mut pages)?;
    if session.common.dry_run {
        let text = format!("would write {} pages into {}\n", pages.len(), args.into.shown());
        return Ok(Done::report(text, &Pages { folder: None, pages: Vec::new(), dry_run: true }));
    }
    fs::make_directory(&args.into, 0o755)?;
    for (name, bytes) in &pages {
        fs::write_whole(&args.into.join(name), bytes, 0o644)?;
    }
    let names: Vec<&str> = pages.iter().map(|p| p.0.as_str()).collect();
    let text = format!(
        "{} {} pages in {}\n  {}  man -l {}\n",
        human::good("written"),
        pages.len(),
        args.into.shown(),
        human::dim("read:"),
        args.into.join("tamga.1").shown()
    );
    Ok(Done::report(text, &Pages { folder: Some(args.into.shown()), pages: names, dry_run: false }))
}

/// A command and everything below it, each in a page of its own, as roff.
fn rendered(command: &Command, name: &str, pages: &mut Vec<(String, Vec<u8>)>) -> Result<()> {
    let page = clap_mangen::Man::new(command.clone().name(name.to_owned())).title(name.to_uppercase()).section("1");
    let mut bytes = Vec::new();
    let file = format!("{name}.1");
    page.render(&mut bytes).map_err(tamga_host::error::Error::file("drawing", std::path::Path::new(&file)))?;
    pages.push((file, bytes));
    for below in command.get_subcommands().filter(|c| c.get_name() != "help" && !c.is_hide_set()) {
        rendered(below, &format!("{name}-{}", below.get_name()), pages)?;
    }
    Ok(())
}
