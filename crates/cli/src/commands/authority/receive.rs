//! `tamga authority receive LABEL --certificate FILE`: the signed intermediate back to its waiting key.

use crate::exit::{Done, Result};
use crate::session::{Change, Session, certificates};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{import, limits, request};
use tamga_core::error::Error;
use tamga_core::report::Authority;
use tamga_host::ledger::{Record, Waiting};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority receive web --certificate web/certificate.pem")]
pub(crate) struct ReceiveArgs {
    /// Which
    label: String,
    /// What came back: the certificate, and what is above it (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
}

pub(super) fn run(session: &Session, args: &ReceiveArgs) -> Result<Done> {
    let found = certificates(&args.certificate)?;
    if session.common.dry_run {
        let waiting = waiting(session.open_to_look()?.as_ref(), &args.label)?;
        let known = session.authorities()?;
        let (a, _) = request::receive(&args.label, waiting.folder.clone(), &waiting.csr, &found, &known)?;
        import::examine(&a.certificate, &a.above, session.now, &[])?;
        let text = format!("would take {} back to its key\n", a.certificate.subject_words());
        return Ok(Done::good(text, json!({"authorities": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let waiting = waiting(Some(&ledger), &args.label)?;
    let known = ledger.authorities()?;
    let (a, publication) = request::receive(&args.label, waiting.folder.clone(), &waiting.csr, &found, &known)?;
    let findings = import::examine(&a.certificate, &a.above, session.now, &[])?;
    let a = Authority { purposes: waiting.purposes.clone(), links: waiting.links.clone(), ..a };
    session.publish(
        &ledger,
        &Change {
            what: "authority",
            label: &args.label,
            sha256: a.certificate.sha256(),
            publication: &publication,
            answers: true,
            record: Record::Authority(&a),
        },
    )?;
    let root = a.top().map_or("a root that is not in the file".into(), tamga_core::cert::Certificate::subject_words);
    let mut text = format!(
        "{} the intermediate {} until {}: it may certify {}\nunder    {root}\nnext     tamga issue NAME --issuer {}; clients trust the root alone\n",
        human::good("received"),
        human::strong(&a.label),
        a.certificate.not_after.date(),
        limits::briefly(&a.certificate),
        a.label
    );
    text.push_str(&human::findings(&findings));
    let findings: Vec<_> = findings.iter().map(json::finding).collect();
    Ok(Done::good(text, json!({"authorities": [json::authority(&a)], "findings": findings})))
}

fn waiting(ledger: Option<&tamga_host::ledger::Ledger>, label: &str) -> Result<Waiting> {
    let (found, all) = match ledger {
        Some(l) => (l.waiting(label)?, l.all_waiting()?),
        None => Default::default(),
    };
    found.filter(|w| w.is_authority).ok_or_else(|| {
        Error::LabelUnknown {
            label: label.to_owned(),
            sought: "waiting authority",
            known: all.into_iter().filter(|w| w.is_authority).map(|w| w.label).collect(),
        }
        .into()
    })
}
