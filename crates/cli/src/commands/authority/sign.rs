//! `tamga authority sign CSR`: an intermediate that another machine asked for; shown before it is signed.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::PathBuf;
use tamga_app::authority::sign::{self, Proposal};
use tamga_app::report::Answer;
use tamga_core::ca::authority::limits;
use tamga_core::finding::Code;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority sign web-request.pem --dry-run     (only shows what it would sign)")]
pub(crate) struct SignArgs {
    /// The request's file
    #[arg(value_name = "CSR")]
    csr: PathBuf,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<Label>,
    /// What to call it here [default: from its subject]
    #[arg(long, value_name = "TEXT")]
    label: Option<Label>,
    /// The directory for the signed certificate [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// How many intermediates may follow below it
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// How long it lives: m h d w y [default: 1825d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: SignArgs) -> Result<Done> {
    let request = sign::Request {
        csr: args.csr,
        issuer: args.issuer,
        label: args.label,
        into: args.into,
        path_length: args.path_length,
        valid_for: args.valid_for,
        accepted: args.accept,
        secret: args.secrets.into(),
    };
    let mut was_shown = false;
    let quiet = session.common.quiet;
    let report = sign::sign(session, &request, |proposal| {
        was_shown = true;
        if !quiet {
            human::out(&render_proposal(proposal));
        }
    })?;
    let text = match &report {
        Answer::Planned(p) => format!("{}nothing was signed\n", render_proposal(&p.proposal)),
        Answer::Done(done) => render(done, was_shown),
    };
    Ok(Done::report(text, &report))
}

fn render(done: &sign::Done, was_shown: bool) -> String {
    let Some((signed, file)) = &done.signed else { return "nothing was signed\n".into() };
    let mut text = if was_shown { String::new() } else { render_proposal(&done.proposal) };
    text.push_str(&format!(
        "{} {} under {} until {}\nin     {}: the certificate and everything above it\nnext   carry that file back: tamga authority receive LABEL --certificate FILE\n",
        human::good("signed"),
        human::strong(&signed.label),
        done.proposal.issuer.label,
        signed.certificate.not_after.date(),
        file.shown()
    ));
    text
}

fn render_proposal(p: &Proposal) -> String {
    let (csr, issuer, judged) = (&p.csr, &p.issuer, &p.judged);
    let may = match (p.is_unconstrained, judged.wanted.permit.is_empty()) {
        (true, _) => "every name that what is above it may (no constraints of its own)".to_owned(),
        (false, true) => format!("what {} may: {}", issuer.label, limits::briefly(&issuer.certificate)),
        (false, false) => judged.wanted.permit.join(", "),
    };
    let depth = match judged.path_length {
        None => "any number of intermediates may follow".to_owned(),
        Some(0) => "0: no intermediate may follow".to_owned(),
        Some(n) => format!("{n}: so many intermediates may follow"),
    };
    let mut rows = vec![
        vec![human::dim("request of"), human::strong(&csr.subject_words())],
        vec![human::dim("key"), format!("{}, SHA-256 {}", csr.key.strength(), csr.key.fingerprint())],
        vec![human::dim("under"), issuer.label.to_string()],
        vec![human::dim("may certify"), may],
        vec![human::dim("path length"), depth],
        vec![human::dim("until"), judged.until.date()],
    ];
    if judged.shortened {
        rows.push(vec![human::dim("note"), format!("shortened: {} ends then", issuer.label)]);
    }
    human::table(&rows)
}
