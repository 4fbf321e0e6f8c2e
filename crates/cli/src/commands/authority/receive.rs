//! `tamga authority receive LABEL --certificate FILE`: the signed intermediate back to its waiting key.

use crate::exit::{Done, Result};
use crate::session::Session;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::receive;
use tamga_app::report::Answer;
use tamga_core::ca::authority::limits;
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::label::Label;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority receive web --certificate web/certificate.pem")]
pub(crate) struct ReceiveArgs {
    /// Which
    label: Label,
    /// What came back: the certificate, and what is above it (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
}

pub(super) fn run(session: &Session, args: ReceiveArgs) -> Result<Done> {
    let request = receive::Request { label: args.label, certificates: args.certificate };
    let report = receive::receive(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => format!("would take {} back to its key\n", p.subject),
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &receive::Done) -> String {
    let a = &done.authority;
    let root = a.top().map_or("a root that is not in the file".into(), Certificate::subject_words);
    let mut text = format!(
        "{} the intermediate {} until {}: it may certify {}\nunder    {root}\nnext     tamga issue NAME --issuer {}; clients trust the root alone\n",
        human::good("received"),
        human::strong(&a.label),
        a.certificate.not_after.date(),
        limits::briefly(&a.certificate),
        a.label
    );
    text.push_str(&human::findings(&done.findings));
    text
}
