//! `tamga authority sign CSR`: an intermediate that another machine asked for; shown before it is signed.

use crate::args::SecretArgs;
use crate::commands::issue::accepted;
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::create::INTERMEDIATE_LIFE;
use tamga_core::authority::{self, CERTIFICATE_FILE, limits, request};
use tamga_core::cert::csr::{self, Csr};
use tamga_core::cert::subject;
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::label::Label;
use tamga_core::moment::Span;
use tamga_core::report::Authority;
use tamga_core::text::Shown;
use tamga_host::ledger::Record;
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority sign web-request.pem --dry-run     (only shows what it would sign)")]
pub(crate) struct SignArgs {
    /// The request's file
    #[arg(value_name = "CSR")]
    csr: PathBuf,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// What to call it here [default: from its subject]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for the signed certificate [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// How many intermediates may follow below it
    #[arg(long, value_name = "N")]
    path_length: Option<u8>,
    /// How long it lives: m h d w y [default: 1825d]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE")]
    accept: Vec<String>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(super) fn run(session: &Session, args: &SignArgs) -> Result<Done> {
    let bytes = fs::read_named(&args.csr)?;
    let csr = csr::find(&bytes, &args.csr.shown())?;
    let label = match &args.label {
        Some(typed) => Label::parse(typed)?,
        None => label_of(&csr)?,
    };
    let folder = crate::commands::issue::folder(args.into.as_deref(), &label)?;
    let life = args.valid_for.as_deref().map_or(Ok(INTERMEDIATE_LIFE), Span::parse)?;
    let weak = accepted(&args.accept)?.contains(&Code::WeakKey);
    let all = session.authorities()?;
    let parent = authority::choose(args.issuer.as_deref(), &all, true)?.clone();
    let judged = request::judge(&csr, &parent, args.path_length, life, session.now, weak)?;
    let shown = shown(&csr, &parent, &judged)?;
    if session.common.dry_run {
        return Ok(Done::good(format!("{shown}nothing was signed\n"), json!({"authorities": [], "dry_run": true})));
    }
    if crate::ask::somebody() && !session.common.quiet {
        human::out(&shown);
        if crate::ask::confirm(session, "sign this?") == Some(false) {
            return Ok(Done::good("nothing was signed\n".into(), json!({"authorities": []})));
        }
    }
    crate::commands::issue::unoccupied(&folder)?;
    let (_lock, ledger) = session.open_for_change()?;
    let taken = ledger.waiting_place(label.as_str())?;
    authority::free(&label, &ledger.authorities()?, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    let key = session.authority_key(&parent, &args.secrets)?;
    let (signed, publication) =
        request::sign(&csr, &judged, label.as_str(), &parent, &key, folder.clone(), session.now, &entropy::System)?;
    session.publish(
        &ledger,
        &Change {
            what: "authority",
            label: label.as_str(),
            sha256: signed.certificate.sha256(),
            publication: &publication,
            answers: false,
            record: Record::Authority(&signed),
        },
    )?;
    let file = folder.join(CERTIFICATE_FILE);
    let mut text = if crate::ask::somebody() { String::new() } else { shown };
    text.push_str(&format!(
        "{} {} under {} until {}\nin     {}: the certificate and everything above it\nnext   carry that file back: tamga authority receive LABEL --certificate FILE\n",
        human::good("signed"),
        human::strong(label.as_str()),
        parent.label,
        signed.certificate.not_after.date(),
        file.shown()
    ));
    let mut member = json::authority(&signed);
    member["files"] = json!({"certificate": file});
    Ok(Done::good(text, json!({"authorities": [member]})))
}

/// A label from the common name: the first word of `web intermediate (Tamga, tests only)`, or all of another.
fn label_of(csr: &Csr) -> Result<Label> {
    let common = subject::common_name(&csr.subject).unwrap_or_default();
    let own = common.strip_suffix(" intermediate (Tamga, tests only)").unwrap_or(&common);
    Label::from_text(own).map_err(|_| {
        Error::Contradiction {
            what: format!("no label can be made from {}", csr.subject_words()),
            why: "its common name is empty or of other characters".into(),
            instead: "choose one: --label TEXT".into(),
        }
        .into()
    })
}

fn shown(csr: &Csr, parent: &Authority, judged: &request::Judged) -> Result<String> {
    let may = match limits::of_intermediate(&judged.wanted, parent)? {
        None => "every name that what is above it may (no constraints of its own)".to_owned(),
        Some(_) if judged.wanted.permit.is_empty() => {
            format!("what {} may: {}", parent.label, limits::briefly(&parent.certificate))
        }
        Some(_) => judged.wanted.permit.join(", "),
    };
    let depth = match judged.path_length {
        None => "any number of intermediates may follow".to_owned(),
        Some(0) => "0: no intermediate may follow".to_owned(),
        Some(n) => format!("{n}: so many intermediates may follow"),
    };
    let mut rows = vec![
        vec![human::dim("request of"), human::strong(&csr.subject_words())],
        vec![human::dim("key"), format!("{}, SHA-256 {}", csr.key.strength(), csr.key.fingerprint())],
        vec![human::dim("under"), parent.label.clone()],
        vec![human::dim("may certify"), may],
        vec![human::dim("path length"), depth],
        vec![human::dim("until"), judged.until.date()],
    ];
    if judged.shortened {
        rows.push(vec![human::dim("note"), format!("shortened: {} ends then", parent.label)]);
    }
    Ok(human::table(&rows))
}
