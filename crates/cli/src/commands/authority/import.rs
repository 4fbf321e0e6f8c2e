//! `tamga authority import LABEL`: a CA made elsewhere, checked before it is taken in.

use crate::args::{NewSecretArgs, SecretArgs};
use crate::commands::issue::{accepted, purposes};
use crate::exit::{Done, Result};
use crate::session::{Change, Session, certificates, own, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{self, import, limits};
use tamga_core::cert::profile::Links;
use tamga_core::label::Label;
use tamga_core::report::Authority;
use tamga_core::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::Record;

#[derive(clap::Args)]
#[command(after_help = "Example: tamga authority import harbour --certificate ca.pem --key-file ca.key")]
pub(crate) struct ImportArgs {
    /// What to call it here
    label: String,
    /// Its certificate, and what is above it (repeatable)
    #[arg(long, value_name = "FILE", required = true)]
    certificate: Vec<PathBuf>,
    /// Its private key: PKCS#8, SEC1 or PKCS#1, PEM or DER, encrypted or not
    #[arg(long, value_name = "FILE")]
    key_file: PathBuf,
    /// What it may issue for [default: what its certificate says, else server,client]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    purpose: Vec<String>,
    /// Where clients find its revocation list: written into what it issues
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients find its certificate: written into what it issues
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    /// Lift exactly this objection
    #[arg(long, value_name = "CODE")]
    accept: Vec<String>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(super) fn run(session: &Session, args: &ImportArgs) -> Result<Done> {
    let label = Label::parse(&args.label)?;
    let found = certificates(&args.certificate)?;
    let stored = stored_key(&args.label, &args.key_file)?;
    let of = args.key_file.shown();
    let old = if stored.is_locked() { Some(args.secrets.needed(&of)?) } else { None };
    let key = stored.open(old.as_ref())?;
    // The certificate of this key, wherever in the file it stands; the first says best what is wrong if there is none.
    let certificate = found.iter().find(|c| c.key == *key.public()).unwrap_or(&found[0]).clone();
    let parent_folder = args.key_file.parent().unwrap_or(std::path::Path::new(".")).to_owned();
    let key = own(key, &certificate, &args.label, &parent_folder)?;
    let above = import::above(&certificate, &found);
    let findings = import::examine(&certificate, &above, session.now, &accepted(&args.accept)?)?;
    let mut a = Authority {
        above,
        links: Links { crl: args.crl_url.clone(), issuer: args.issuer_url.clone() },
        ..Authority::root(label.as_str(), certificate, session.authority_folder(label.as_str()))
    };
    a.purposes = if args.purpose.is_empty() { import::purposes(&a) } else { purposes(&args.purpose)? };
    if session.common.dry_run {
        let text = format!(
            "would take in {}, limited to {}\n",
            a.certificate.subject_words(),
            limits::briefly(&a.certificate)
        );
        return Ok(Done::good(text + &human::findings(&findings), json!({"authorities": [], "dry_run": true})));
    }
    // Encrypted it stays encrypted, with the same passphrase unless a new one is given.
    let of_new = format!("the key of {label}");
    let wanted = args.new_secrets.wanted(&of_new)?.map(|p| crate::ask::strong(p, &of_new, &args.accept)).transpose()?;
    let protect = match wanted {
        Some(new) => Some(new),
        None => old,
    };
    let (_lock, ledger) = session.open_for_change()?;
    let taken = ledger.waiting_place(label.as_str())?;
    let known = ledger.authorities()?;
    authority::free(&label, &known, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    if let Some(twin) = known.iter().find(|k| k.certificate == a.certificate) {
        return Err(tamga_core::error::Error::LabelTaken {
            label: label.to_string(),
            by: format!("the same CA under the label {}", twin.label),
            instead: format!("use it: --issuer {}", twin.label),
        }
        .into());
    }
    let (a, publication) = import::make(a, &key, protect.as_ref(), &entropy::System)?;
    session.publish(
        &ledger,
        &Change {
            what: "authority",
            label: label.as_str(),
            sha256: a.certificate.sha256(),
            publication: &publication,
            answers: false,
            record: Record::Authority(&a),
        },
    )?;
    let mut text = format!(
        "{} {} as {}: it may certify {}\nin     {}; the files that it came from are left as they are\nnext   tamga issue NAME --issuer {}\n",
        human::good("taken in"),
        a.certificate.subject_words(),
        human::strong(&a.label),
        limits::briefly(&a.certificate),
        a.folder.shown(),
        a.label
    );
    text.push_str(&human::findings(&findings));
    let findings: Vec<_> = findings.iter().map(json::finding).collect();
    Ok(Done::good(text, json!({"authorities": [json::authority(&a)], "findings": findings})))
}
