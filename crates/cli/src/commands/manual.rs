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

pub(crate) fn run(session: &Session, args: &ManualArgs, whole: Command) -> Result<Done> {
    let mut whole = crate::complete::shown(whole);
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

/// What every page ends with.
const ENDING: &str = r#".SH "EXIT STATUS"
.TP
0
done, nothing to do, a dry run, or the answer is good
.TP
1
the answer is bad: a client in scope would warn, a store lacks the root, something due remains
.TP
2
usage
.TP
3
input refused: a malformed file, a wrong passphrase, a name that may not be certified, a missing key
.TP
4
the surroundings: permission, disk, a port in use, every target unreachable, a needed program missing
.TP
5
done in part: each failed store or target is listed
.TP
6
a change failed half-way and could not be undone: what is left is listed
.TP
70
a bug in Tamga
.SH ENVIRONMENT
.TP
TAMGA_DATA_DIR
the data directory, if \-\-data\-dir is not given
.TP
NO_COLOR
if set, nothing is colored
.SH FILES
.TP
~/.local/share/tamga
the data directory on Linux: the ledger, and the authorities with their keys
.TP
\&./LABEL/
a certificate: certificate.pem, private\-key.pem (mode 0600), root.pem
.TP
tamga.toml
the lab that tamga apply makes
"#;

/// The examples of a command, each on a line; what starts with a dot would be an order to the formatter.
fn examples(command: &Command) -> Option<String> {
    let help = command.get_after_help()?.to_string();
    let lines = help.lines().take_while(|l| !l.starts_with("Every command"));
    let all: Vec<String> = lines
        .map(|l| l.trim_start_matches("Examples:").trim_start_matches("Example:").trim())
        .filter(|l| l.starts_with("tamga ") || l.starts_with("eval "))
        .map(|l| l.replace('\\', "\\\\").replace('-', "\\-"))
        .collect();
    (!all.is_empty()).then(|| all.join("\n"))
}

/// A command and everything below it, each in a page of its own, as roff.
fn rendered(command: &Command, name: &str, pages: &mut Vec<(String, Vec<u8>)>) -> Result<()> {
    let page = clap_mangen::Man::new(command.clone().name(name.to_owned())).title(name.to_uppercase()).section("1");
    let mut bytes = Vec::new();
    let file = format!("{name}.1");
    let mut draw = || -> std::io::Result<()> {
        page.render_title(&mut bytes)?;
        page.render_name_section(&mut bytes)?;
        page.render_synopsis_section(&mut bytes)?;
        page.render_description_section(&mut bytes)?;
        page.render_options_section(&mut bytes)?;
        if command.has_subcommands() {
            page.render_subcommands_section(&mut bytes)?;
        }
        bytes.extend_from_slice(ENDING.as_bytes());
        if let Some(examples) = examples(command) {
            bytes.extend_from_slice(format!(".SH EXAMPLES\n.nf\n{examples}\n.fi\n").as_bytes());
        }
        Ok(())
    };
    draw().map_err(tamga_host::error::Error::file("drawing", std::path::Path::new(&file)))?;
    pages.push((file, bytes));
    for below in command.get_subcommands().filter(|c| c.get_name() != "help" && !c.is_hide_set()) {
        rendered(below, &format!("{name}-{}", below.get_name()), pages)?;
    }
    Ok(())
}
