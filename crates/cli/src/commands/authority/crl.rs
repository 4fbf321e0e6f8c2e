//! `tamga authority crl LABEL --output FILE`: the current revocation list, signed.

use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::Session;
use crate::values;
use crate::words::human;
use std::path::{Path, PathBuf};
use tamga_app::authority::crl::{self, Signed};
use tamga_app::report::Answer;
use tamga_core::finding::Code;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::Span;

#[derive(clap::Args)]
#[command(
    after_help = "Example: tamga authority crl saltmarsh --output saltmarsh.crl\nA FILE that ends in .crl or .der is DER, as RFC 5280 wants it behind a URL; any other is PEM."
)]
pub(crate) struct CrlArgs {
    /// Which
    label: Label,
    /// The file; - is standard output
    #[arg(long, value_name = "FILE")]
    output: PathBuf,
    /// When the next list is due: m h d w y [default: 30d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<Span>,
    /// The latest list that was published: what it revokes stays revoked
    #[arg(long, value_name = "FILE")]
    previous: Option<PathBuf>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE", value_parser = values::word::<Code>(), hide_possible_values = true)]
    accept: Vec<Code>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: CrlArgs) -> Result<Done> {
    let output = args.output.shown();
    let request = crl::Request {
        label: args.label,
        output: (args.output != Path::new("-")).then_some(args.output),
        valid_for: args.valid_for,
        previous: args.previous,
        accepted: args.accept,
        secret: args.secrets.into(),
    };
    let report = crl::crl(session, &request)?;
    let text = match &report {
        Answer::Planned(p) => format!("would sign a list with {} into {output}\n", count(p.entries)),
        Answer::Done(done) => render(&done.crl),
    };
    Ok(Done::report(text, &report))
}

fn render(signed: &Signed) -> String {
    match (&signed.text, &signed.file) {
        (None, Some(file)) => format!(
            "{} list {} of {} with {}, due again on {}\nin     {file}\nnext   give it to the servers and clients configured to check it; most never do: tamga explain revoked\n",
            human::good("signed"),
            signed.number,
            human::strong(&signed.authority),
            count(signed.entries),
            signed.next.date(),
        ),
        (pem, _) => pem.clone().unwrap_or_default(),
    }
}

/// So many entries, in words.
pub(super) fn count(entries: usize) -> String {
    if entries == 1 { "1 entry".into() } else { format!("{entries} entries") }
}
