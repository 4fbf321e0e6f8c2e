//! `tamga request NAME…`: a key that waits here, and a request to be signed elsewhere.

use super::parse;
use crate::args::{NewSecretArgs, SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::request;
use tamga_app::report::Answer;
use tamga_core::deploy::recipe::Recipe;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::text::Shown;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga request archive.saltmarsh.test --organization 'Saltmarsh tide-gauge lab'")]
pub(crate) struct RequestArgs {
    /// DNS names, IP addresses, mailboxes or URIs: each is written as what it is
    #[arg(required = true, value_name = "NAME")]
    names: Vec<String>,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<Label>,
    /// The directory for key and request [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// An existing private key instead of a new one
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// The kind of the new key [default: p256]
    #[arg(long, value_name = "KIND", conflicts_with = "key_file", value_parser = values::word::<KeyAlgorithm>())]
    key_algorithm: Option<KeyAlgorithm>,
    /// What it may be used for [default: server]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>())]
    purpose: Vec<Purpose>,
    /// Key kind and purposes as this server needs them (tamga recipe lists the servers)
    #[arg(long = "for", value_name = "SERVER", value_parser = values::server(), hide_possible_values = true, ignore_case = true)]
    server: Option<&'static Recipe>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: RequestArgs) -> Result<Done> {
    let request = request::Request {
        names: parse::names(&args.names)?,
        label: args.label,
        into: args.into,
        key_file: args.key_file,
        key_algorithm: args.key_algorithm,
        purposes: parse::distinct(args.purpose),
        server: args.server,
        subject: args.subject.into(),
        secret: args.secrets.into(),
        new_secret: args.new_secrets.into(),
    };
    let report = request::request(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => format!("would make a key and a request for {} in {}\n", p.label, p.directory.shown()),
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &request::Done) -> String {
    let [request] = &done.certificates;
    let w = &request.waiting;
    format!(
        "{} a request for {}, label {}\nin     {}: request.pem, private-key.pem (readable by you alone)\nnext   have request.pem signed, then: tamga receive {} --certificate FILE\n{}",
        human::good("made  "),
        w.csr.name_words().join(", "),
        human::strong(&w.label),
        w.folder.shown(),
        w.label,
        human::findings(&done.findings)
    )
}
