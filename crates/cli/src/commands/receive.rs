//! `tamga receive LABEL --certificate FILE`: the signed certificate back to its waiting key.

use super::request::waiting;
use crate::args::SecretArgs;
use crate::exit::{Done, Result};
use crate::session::{Change, Session, certificates, open, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{CERTIFICATE_FILE, KEY_FILE, ROOT_FILE, certificate_document};
use tamga_core::error::Error;
use tamga_core::form::private_key::Stored;
use tamga_core::receive;
use tamga_core::report::{Issued, Life};
use tamga_core::step::Publication;
use tamga_core::text::Shown;
use tamga_host::ledger::Record;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga receive archive.saltmarsh.test --certificate signed.pem --intermediate ca.pem")]
pub(crate) struct ReceiveArgs {
    /// Which
    label: String,
    /// What came back (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
    /// What is above it: intermediates, the root (repeatable)
    #[arg(long, value_name = "FILE")]
    intermediate: Vec<PathBuf>,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: &ReceiveArgs) -> Result<Done> {
    let found = certificates(&args.certificate)?;
    let more = certificates(&args.intermediate)?;
    if session.common.dry_run {
        let waiting = waiting(session.open_to_look()?.as_ref(), &args.label)?;
        let got = receive::receive(&args.label, &waiting.csr, &found, &more, &session.authorities()?, session.now)?;
        let text =
            format!("would take {} back to its key\n{}", got.chain[0].subject_words(), human::findings(&got.findings));
        return Ok(Done::good(text, json!({"certificates": [], "dry_run": true})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let waiting = waiting(Some(&ledger), &args.label)?;
    let known = ledger.authorities()?;
    let got = receive::receive(&args.label, &waiting.csr, &found, &more, &known, session.now)?;
    // The key itself, where it can be looked at without a passphrase.
    let stored = stored_key(&args.label, &waiting.folder.join(KEY_FILE))?;
    let asked = args.secrets.passphrase_file.is_some() || args.secrets.passphrase_env.is_some();
    if asked || matches!(stored, Stored::Open(_)) {
        let key = open(stored, &format!("the key of {}", args.label), &args.secrets)?;
        if *key.public() != waiting.csr.key {
            let path = waiting.folder.join(KEY_FILE);
            return Err(Error::KeyMismatch { label: args.label.clone(), path }.into());
        }
    }
    let mut documents: Vec<_> = got.root.iter().map(|root| certificate_document(ROOT_FILE, [root])).collect();
    documents.push(certificate_document(CERTIFICATE_FILE, &got.chain));
    let publication = Publication { folder: waiting.folder.clone(), folder_mode: 0o755, documents };
    let issued = Issued {
        label: args.label.clone(),
        certificate: got.chain[0].clone(),
        authority: got.authority.clone(),
        folder: waiting.folder.clone(),
        life: Life::Live,
        revoked: None,
    };
    session.publish(
        &ledger,
        &Change {
            what: "certificate",
            label: &args.label,
            sha256: issued.certificate.sha256(),
            publication: &publication,
            answers: true,
            record: Record::Certificate { issued: &issued, kind: "received", root: None },
        },
    )?;
    let mut files = vec![("certificate", CERTIFICATE_FILE), ("private_key", KEY_FILE)];
    files.extend(got.root.is_some().then_some(("root", ROOT_FILE)));
    let c = &issued.certificate;
    let mut text = format!(
        "{} {} for {}, signed by {}, until {}\nin       {}: certificate.pem ({} certificates), private-key.pem{}\nnext     give the first two files to the server, then: tamga check {}\n",
        human::good("received"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        c.issuer_words(),
        c.not_after.date(),
        issued.folder.shown(),
        got.chain.len(),
        if got.root.is_some() { ", root.pem" } else { "" },
        issued.label
    );
    text.push_str(&human::findings(&got.findings));
    let findings: Vec<_> = got.findings.iter().map(json::finding).collect();
    Ok(Done::good(text, json!({"certificates": [json::with_files(&issued, &files)], "findings": findings})))
}
