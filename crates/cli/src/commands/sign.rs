//! `tamga sign CSR [NAME…]`: a request that was made elsewhere; what it asks for is shown, and what of it is honored.

use super::parse;
use crate::args::{SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::certificate::sign::{self, Proposal};
use tamga_app::report::Answer;
use tamga_core::finding::Code;
use tamga_core::pki::cert::profile::Links;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::purpose::usage_words;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;
use tamga_core::vocabulary::timestamp::Timestamp;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga sign gauge-7.csr --dry-run     (only shows what it would sign)")]
pub(crate) struct SignArgs {
    /// The request's file
    #[arg(value_name = "CSR")]
    csr: PathBuf,
    /// Names that count instead of the request's
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<Label>,
    /// The directory for the certificate [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// What it may be used for [default: what the request asks for]
    #[arg(long, value_name = "LIST", value_delimiter = ',', value_parser = values::word::<Purpose>())]
    purpose: Vec<Purpose>,
    /// How long it lives: m h d w y [default: 397d]
    #[arg(long, value_name = "SPAN", conflicts_with = "not_after")]
    valid_for: Option<Span>,
    /// First moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_before: Option<Timestamp>,
    /// Last moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_after: Option<Timestamp>,
    /// Where clients find the authority's revocation list
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients find the authority's certificate
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    /// Lift exactly this objection (repeatable)
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: SignArgs) -> Result<Done> {
    let request = sign::Request {
        csr: args.csr,
        names: parse::names(&args.names)?,
        issuer: args.issuer,
        label: args.label,
        into: args.into,
        purposes: parse::distinct(args.purpose),
        valid_for: args.valid_for,
        not_before: args.not_before,
        not_after: args.not_after,
        subject: args.subject.into(),
        links: Links { crl: args.crl_url, issuer: args.issuer_url, ocsp: None },
        accepted: args.accept,
        secret: args.secrets.into(),
    };
    let report = sign::sign(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => {
            format!("{}{}nothing was signed\n", render_proposal(&p.proposal), human::findings(&p.findings))
        }
        Answer::Done(done) => render(done),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &sign::Done) -> String {
    let [certificate] = &done.certificates;
    let (issued, issuer) = (&certificate.issued, &done.proposal.issuer);
    let mut text = render_proposal(&done.proposal);
    let (files, next) = match done.is_ours {
        true => (
            "certificate.pem beside its private-key.pem, root.pem",
            format!("give the first two files to the server, or: tamga serve {}", issued.label),
        ),
        false => (
            "certificate.pem, root.pem (the private key is where the request was made)",
            "send certificate.pem to the owner of the key".to_owned(),
        ),
    };
    text.push_str(&format!(
        "{} {} for {}, under {}, until {}\nin     {}: {files}\nnext   {next}; clients need the root: tamga trust add {}\n",
        human::good("signed"),
        human::strong(&issued.label),
        issued.certificate.name_words().join(", "),
        issuer.label,
        issued.certificate.not_after.date(),
        issued.folder.shown(),
        issuer.root_label
    ));
    text.push_str(&human::findings(&done.findings));
    text
}

fn render_proposal(p: &Proposal) -> String {
    let asked = p.csr.name_words();
    let purposes: Vec<String> = p.csr.wishes.purposes.iter().flatten().map(usage_words).collect();
    human::table(&[
        vec![human::dim("request of"), p.csr.subject_words()],
        vec![human::dim("key"), format!("{}; its signature is good", p.csr.key.strength())],
        vec![human::dim("asks for"), if asked.is_empty() { "no names".into() } else { asked.join(", ") }],
        vec![human::dim("purposes"), if purposes.is_empty() { "none named".into() } else { purposes.join(", ") }],
        vec![
            human::dim("will be"),
            format!(
                "{} for {} under {}",
                p.names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
                p.purposes.iter().map(|p| p.word()).collect::<Vec<_>>().join(", "),
                p.issuer.label
            ),
        ],
    ])
}
