//! `tamga receive LABEL --certificate FILE`: the signed certificate back to its waiting key.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::receive;
use tamga_app::report::Answer;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga receive archive.saltmarsh.test --certificate signed.pem --intermediate ca.pem")]
pub(crate) struct ReceiveArgs {
    /// Which
    label: Label,
    /// What came back (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
    /// What is above it: intermediates, the root (repeatable)
    #[arg(long, value_name = "FILE")]
    intermediate: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: ReceiveArgs) -> Result<Done> {
    let request = receive::Request {
        label: args.label,
        certificates: args.certificate,
        intermediates: args.intermediate,
        secret: args.secrets.into(),
    };
    let report = receive::receive(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            format!("would take {} back to its key\n{}", p.subject, human::findings(&p.findings))
        }
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &receive::Done) -> String {
    let [certificate] = &done.certificates;
    let issued = &certificate.issued;
    if done.already {
        return format!("{} already has this certificate, in {}: nothing to do\n", issued.label, issued.folder.shown());
    }
    let c = &issued.certificate;
    let mut text = format!(
        "{} {} for {}, signed by {}, until {}\nin       {}: certificate.pem ({} certificates), private-key.pem{}\nnext     give the first two files to the server, then: tamga check {}\n",
        human::good("received"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        c.issuer_words(),
        c.not_after.date(),
        issued.folder.shown(),
        done.chain,
        if done.has_root { ", root.pem" } else { "" },
        issued.label
    );
    text.push_str(&human::findings(&done.findings));
    text
}
