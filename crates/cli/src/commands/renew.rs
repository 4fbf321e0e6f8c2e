//! `tamga renew [LABEL…]`: the same names, purposes and files, with a new key; with other names if asked.

use super::parse;
use crate::args::{NewSecretArgs, SecretArgs};
use crate::exit::{self, Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::renew;
use tamga_app::report::Answer;
use tamga_core::ca::renew::Change;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga renew charts.saltmarsh.test --add archive.saltmarsh.test\n          tamga renew --due 30d"
)]
pub(crate) struct RenewArgs {
    /// Which; without any, those that are due
    #[arg(value_name = "LABEL")]
    labels: Vec<Label>,
    /// Those that end within this time [default without labels: a third of the life is left]
    #[arg(long, value_name = "SPAN", conflicts_with = "labels")]
    due: Option<Span>,
    /// A further name (repeatable)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    add: Vec<String>,
    /// A name to leave out (repeatable)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    drop: Vec<String>,
    /// The same private key again: for devices that pin it
    #[arg(long, conflicts_with = "key_file")]
    reuse_key: bool,
    /// Where the private key is now, if it was moved; it is used again
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// Another kind of key [default: as before]
    #[arg(long, value_name = "KIND", conflicts_with_all = ["reuse_key", "key_file"], value_parser = values::word::<KeyAlgorithm>())]
    key_algorithm: Option<KeyAlgorithm>,
    /// Under another authority [default: as before]
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// Another life: m h d w y [default: as before]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// Also write again what was exported from it, such as PKCS#12 and JKS files
    #[arg(long)]
    exports: bool,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: RenewArgs) -> Result<Done> {
    let keeps_key = args.reuse_key || args.key_file.is_some();
    let request = renew::Request {
        labels: args.labels,
        due: args.due,
        change: Change { add: parse::names(&args.add)?, drop: parse::names(&args.drop)?, valid_for: args.valid_for },
        reuse_key: args.reuse_key,
        key_file: args.key_file,
        key_algorithm: args.key_algorithm,
        issuer: args.issuer,
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
        exports: args.exports,
    };
    let report = renew::renew(session, &request)?;
    let (text, code) = match &report {
        Answer::Planned(p) => {
            let line =
                |i: &tamga_core::ca::report::Issued| format!("would renew {} in {}\n", i.label, i.folder.shown());
            (p.renewed.iter().map(line).collect(), exit::GOOD)
        }
        Answer::Done(done) => (render(done, keeps_key), code_of(done)),
    };
    let text = if text.is_empty() { "nothing is due\n".to_owned() } else { text };
    Ok(Done::report(text, &report).with_code(code))
}

/// Where nothing could be renewed, the worst of the failures says why.
fn code_of(done: &renew::Done) -> u8 {
    let failed = done.failed.iter().map(|f| exit::code(f.failure.0.kind()));
    done.outcome().map_or_else(|| failed.fold(exit::GOOD, exit::worst), exit::of)
}

fn render(done: &renew::Done, keeps_key: bool) -> String {
    let mut text = String::new();
    for certificate in &done.certificates {
        let i = &certificate.issued;
        text.push_str(&format!(
            "{} {} for {} until {}\nin      {}; the one before is superseded\n",
            human::good("renewed"),
            human::strong(&i.label),
            i.certificate.name_words().join(", "),
            i.certificate.not_after.date(),
            i.folder.shown()
        ));
    }
    text.push_str(&human::findings(&done.findings));
    if !done.certificates.is_empty() {
        let kept = if keeps_key { "the key is the same; " } else { "" };
        text.push_str(&format!(
            "next    {kept}reload the server, then: tamga check NAME shows whether it serves the new one\n"
        ));
    }
    for f in &done.exported {
        text.push_str(&format!("written {} as {} again\n", f.file, f.form));
    }
    for f in &done.outdated {
        text.push_str(&format!(
            "{}    {} still holds the earlier certificate; tamga renew {} --exports writes such files again\n",
            human::care("note"),
            f.file,
            f.label
        ));
    }
    for f in &done.failed {
        let e = &f.failure.0;
        text.push_str(&format!(
            "{} {}: {}: {}\n  {}  {}\n",
            human::bad("failed "),
            f.label,
            e.what(),
            e.why(),
            human::dim("do:"),
            e.remedy()
        ));
    }
    text
}
