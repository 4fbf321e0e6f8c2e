//! `tamga export WHAT --as FORM`: a certificate, a root or a foreign file in the form that a server or a device wants.

use crate::args::{Format, NewSecretArgs, SecretArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use tamga_app::certificate::export::{self, Output, Place, Report};
use tamga_core::deploy::export::Form;
use tamga_core::error::Error;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga export charts.saltmarsh.test --as pkcs12 --encrypt-key\n          tamga export saltmarsh --as mobileconfig\n          tamga export foreign.p12 --as pem --passphrase-file secret --output chain.pem"
)]
pub(crate) struct ExportArgs {
    /// A label, or a file or directory of any form
    what: String,
    /// The form to write
    #[arg(long = "as", value_name = "FORM", value_parser = values::word::<Form>())]
    form: Form,
    /// The file to write; - is standard output [default: ./LABEL with the form's ending]
    #[arg(long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Its alias inside a key store [default: the label]
    #[arg(long, value_name = "TEXT")]
    alias: Option<String>,
    /// pkcs12 for programs that know only triple DES and SHA-1: weaker
    #[arg(long)]
    legacy: bool,
    /// The private key, if it is in another file
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: ExportArgs) -> Result<Done> {
    let request = export::Request {
        what: PathBuf::from(args.what),
        form: args.form,
        output: match args.output {
            None => Output::Default,
            Some(o) if o == Path::new("-") => Output::Report,
            Some(path) => Output::File { path, replace: false },
        },
        alias: args.alias,
        legacy: args.legacy,
        key_file: args.key_file,
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
    };
    let report = export::export(session, &request)?;
    let text = match &report.place {
        Place::Planned(file) => {
            format!("would write {} ({} octets) into {}\n", report.form.word(), report.made.bytes.len(), file.shown())
        }
        Place::Report => printed(session, &report)?,
        Place::File(_) => render_file(&report),
    };
    Ok(Done::report(text, &report))
}

/// To standard output: never a key to a terminal. What is no line is written as it is.
fn printed(session: &Session, report: &Report) -> Result<String> {
    let (form, made) = (report.form, &report.made);
    if session.common.format == Format::Json && !form.is_a_line() {
        return Err(Error::Contradiction {
            what: format!("{} and JSON cannot both go to standard output", form.word()),
            why: "they would be mixed".into(),
            instead: "name a file: --output FILE".into(),
        }
        .into());
    }
    if made.has_key && std::io::stdout().is_terminal() {
        return Err(Error::Contradiction {
            what: "a private key is never shown on a terminal".into(),
            why: "it would stay in the scrollback and in recordings".into(),
            instead: "name a file: --output FILE".into(),
        }
        .into());
    }
    if form.is_a_line() {
        let cells =
            made.spellings.iter().map(|s| vec![human::strong(s.what), human::dim(s.wanted_by), s.value.clone()]);
        let rows: Vec<Vec<String>> = cells.collect();
        let text = String::from_utf8_lossy(&made.bytes).into_owned();
        return Ok(if rows.is_empty() {
            text
        } else {
            human::table_with(&rows, human::Fit { expendable: &[1], cut: None })
        });
    }
    let mut out = std::io::stdout().lock();
    // A reader that went away is no failure.
    let _ = out.write_all(&made.bytes).and_then(|()| out.flush());
    Ok(String::new())
}

/// A file that was written.
pub(crate) fn render_file(report: &Report) -> String {
    let Place::File(file) = &report.place else { return String::new() };
    let what = report.form.title();
    let mode = if report.made.has_key { " (readable by you alone)" } else { "" };
    let mut text = format!(
        "{} {} as {}: {what}\nin      {}{mode}\n",
        human::good("written"),
        human::strong(&report.alias),
        report.form.word(),
        file.shown()
    );
    if let Some(passphrase) = &report.passphrase_file {
        text.push_str(&format!("opens   with the passphrase in {} (readable by you alone)\n", passphrase.shown()));
    }
    for remark in &report.notes {
        text.push_str(&format!("{}    {remark}\n", human::dim("note")));
    }
    if let Some(line) = &report.version_control {
        text.push_str(&format!("{}    {line}\n", human::care("note")));
    }
    text
}
