//! `tamga request NAME…`: a key that waits here, and a request to be signed elsewhere.

use super::issue::{folder, purposes, unoccupied};
use super::recipe;
use crate::args::{NewSecretArgs, SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::{Change, Session, open, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{self, REQUEST_FILE};
use tamga_core::error::Error;
use tamga_core::issue;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::name::Name;
use tamga_core::purpose::Purpose;
use tamga_core::request::{self, Wanted};
use tamga_core::text::Shown;
use tamga_host::ledger::{Record, Waiting};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga request archive.saltmarsh.test --organization 'Saltmarsh tide-gauge lab'")]
pub(crate) struct RequestArgs {
    /// DNS names, IP addresses, mailboxes or URIs: each is written as what it is
    #[arg(required = true, value_name = "NAME")]
    names: Vec<String>,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for key and request [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// An existing private key instead of a new one
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// p256 p384 p521 ed25519 rsa2048 rsa3072 rsa4096 [default: p256]
    #[arg(long, value_name = "KIND", conflicts_with = "key_file")]
    key_algorithm: Option<String>,
    /// server client mail code [default: server]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    purpose: Vec<String>,
    /// Key kind and purposes as this server needs them (tamga recipe lists the servers)
    #[arg(long = "for", value_name = "SERVER")]
    server: Option<String>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: RequestArgs) -> Result<Done> {
    let names = args.names.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<Vec<_>>>()?;
    let names = issue::distinct(names);
    let label = match &args.label {
        Some(typed) => Label::parse(typed)?,
        None => names[0].label()?,
    };
    let server = recipe::wanted(args.server.as_deref())?;
    let wished = args.key_algorithm.as_deref().map(KeyAlgorithm::parse).transpose()?;
    let algorithm = match server {
        Some(r) => r.key(wished)?,
        None => wished.unwrap_or(KeyAlgorithm::P256),
    };
    let wanted = Wanted {
        purposes: match (args.purpose.is_empty(), server) {
            (false, _) => purposes(&args.purpose)?,
            (true, Some(r)) => r.facts.purposes.to_vec(),
            (true, None) => vec![Purpose::Server],
        },
        subject: issue::subject_of(&args.subject.into())?,
        folder: folder(args.into.as_deref(), &label)?,
        names,
    };
    unoccupied(&wanted.folder)?;
    let request_file = wanted.folder.join(REQUEST_FILE);
    if request_file.symlink_metadata().is_ok() {
        return Err(tamga_host::error::Error::InTheWay { path: request_file }.into());
    }
    if session.common.dry_run {
        let text = format!("would make a key and a request for {label} in {}\n", wanted.folder.shown());
        return Ok(Done::good(text, json!({"certificates": [], "dry_run": true})));
    }
    let protect = args.new_secrets.wanted(&format!("the key of {label}"))?;
    let key = match &args.key_file {
        Some(file) => open(stored_key("the file", file)?, &file.shown(), &args.secrets)?,
        None => PrivateKey::generate(algorithm, &entropy::System)?,
    };
    let (_lock, ledger) = session.open_for_change()?;
    let taken = ledger.waiting_place(label.as_str())?;
    authority::free(&label, &ledger.authorities()?, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    let ignore = fs::read_to_replace(&wanted.folder.join(".gitignore")).unwrap_or_default();
    let (csr, publication) = request::make(&wanted, &key, protect.as_ref(), &ignore, &entropy::System)?;
    let waiting = Waiting {
        label: label.to_string(),
        is_authority: false,
        csr,
        folder: wanted.folder.clone(),
        purposes: vec![Purpose::Server],
        links: Default::default(),
    };
    session.publish(
        &ledger,
        &Change {
            what: "request",
            label: label.as_str(),
            sha256: waiting.csr.sha256(),
            publication: &publication,
            answers: false,
            record: Record::Request(&waiting),
        },
    )?;
    let findings = issue::remarks(&wanted.names);
    let text = format!(
        "{} a request for {}, label {}\nin     {}: request.pem, private-key.pem (readable by you alone)\nnext   have request.pem signed, then: tamga receive {label} --certificate FILE\n{}",
        human::good("made  "),
        waiting.csr.name_words().join(", "),
        human::strong(label.as_str()),
        wanted.folder.shown(),
        human::findings(&findings)
    );
    let findings: Vec<_> = findings.iter().map(json::finding).collect();
    Ok(Done::good(text, json!({"certificates": [json::waiting(&waiting)], "findings": findings})))
}

/// The waiting key of a certificate.
pub(crate) fn waiting(ledger: Option<&tamga_host::ledger::Ledger>, label: &str) -> Result<Waiting> {
    let (found, all) = match ledger {
        Some(l) => (l.waiting(label)?, l.all_waiting()?),
        None => Default::default(),
    };
    found.filter(|w| !w.is_authority).ok_or_else(|| {
        Error::LabelUnknown {
            label: label.to_owned(),
            sought: "waiting request",
            known: all.into_iter().filter(|w| !w.is_authority).map(|w| w.label).collect(),
        }
        .into()
    })
}
