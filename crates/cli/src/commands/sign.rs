//! `tamga sign CSR [NAME…]`: a request that was made elsewhere; what it asks for is shown, and what of it is honoured.

use super::issue::{accepted, folder, purposes};
use crate::args::{SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::{Change, Session};
use crate::words::{human, json};
use serde_json::Value;
use std::path::PathBuf;
use tamga_core::authority::{self, CERTIFICATE_FILE, ROOT_FILE};
use tamga_core::cert::csr::{self, Csr};
use tamga_core::cert::profile::Links;
use tamga_core::issue::{self, Holder, LEAF_LIFE, Request, Signer};
use tamga_core::label::Label;
use tamga_core::moment::{Moment, Span};
use tamga_core::name::Name;
use tamga_core::purpose::usage_words;
use tamga_core::report::{Issued, Life};
use tamga_core::sign::{self, Plan};
use tamga_core::text::Shown;
use tamga_host::ledger::Record;
use tamga_host::{entropy, fs};

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
    issuer: Option<String>,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for the certificate [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// server client mail code [default: what the request asks for]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    purpose: Vec<String>,
    /// How long it lives: m h d w y [default: 397d]
    #[arg(long, value_name = "SPAN", conflicts_with = "not_after")]
    valid_for: Option<String>,
    /// First moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_before: Option<String>,
    /// Last moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_after: Option<String>,
    /// Where clients find the authority's revocation list
    #[arg(long, value_name = "URL")]
    crl_url: Option<String>,
    /// Where clients find the authority's certificate
    #[arg(long, value_name = "URL")]
    issuer_url: Option<String>,
    /// Lift exactly this objection (repeatable)
    #[arg(long, value_name = "CODE")]
    accept: Vec<String>,
    #[command(flatten)]
    subject: SubjectArgs,
    #[command(flatten)]
    secrets: SecretArgs,
}

pub(crate) fn run(session: &Session, args: SignArgs) -> Result<Done> {
    let bytes = fs::read_named(&args.csr)?;
    let csr = csr::find(&bytes, &args.csr.shown())?;
    let typed = args.names.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<Vec<_>>>()?;
    let accepted = accepted(&args.accept)?;
    let wanted = if args.purpose.is_empty() { None } else { Some(purposes(&args.purpose)?) };
    let all = session.authorities()?;
    let parent = authority::choose(args.issuer.as_deref(), &all, true)?.clone();
    let plan = sign::plan(&csr, &typed, wanted, &parent, &accepted)?;
    issue::purposes_together(&plan.purposes)?;
    issue::names_within(&plan.names, &parent)?;
    let label = match &args.label {
        Some(typed) => Label::parse(typed)?,
        None => plan.names[0].label()?,
    };
    let folder = folder(args.into.as_deref(), &label)?;
    let shown = shown(&csr, &plan, &parent.label);
    if session.common.dry_run {
        let text = format!("{shown}{}nothing was signed\n", human::findings(&plan.findings));
        let findings: Vec<_> = plan.findings.iter().map(json::finding).collect();
        return Ok(Done::good(
            text,
            json!({"certificates": [], "request": request_json(&csr), "findings": findings, "dry_run": true}),
        ));
    }
    let place = folder.join(CERTIFICATE_FILE);
    if place.symlink_metadata().is_ok() {
        return Err(tamga_host::error::Error::InTheWay { path: place }.into());
    }
    let request = Request {
        purposes: plan.purposes.clone(),
        from: args.not_before.as_deref().map(Moment::parse).transpose()?,
        valid_for: args.valid_for.as_deref().map_or(Ok(LEAF_LIFE), Span::parse)?,
        until: args.not_after.as_deref().map(Moment::parse).transpose()?,
        subject: issue::subject_of(&args.subject.into())?,
        links: Links { crl: args.crl_url, issuer: args.issuer_url },
        accepted,
        ..Request::server(plan.names.clone(), label.clone(), folder.clone())
    };
    let (_lock, ledger) = session.open_for_change()?;
    let taken = ledger.waiting_place(label.as_str())?;
    authority::free(&label, &ledger.authorities()?, ledger.current(label.as_str())?.as_ref(), taken.as_deref())?;
    let key = session.authority_key(&parent, &args.secrets)?;
    let signer = Signer::Authority(&parent, &key);
    let made = issue::make(&request, &Holder::Public(&csr.key), &signer, b"", session.now, &entropy::System)?;
    let issued = Issued {
        label: label.to_string(),
        certificate: made.certificate,
        authority: Some(parent.label.clone()),
        folder,
        life: Life::Live,
        revoked: None,
    };
    session.publish(
        &ledger,
        &Change {
            what: "certificate",
            label: &issued.label,
            sha256: issued.certificate.sha256(),
            publication: &made.publication,
            answers: false,
            record: Record::Certificate { issued: &issued, kind: "signed", root: None },
        },
    )?;
    let findings: Vec<_> = plan.findings.into_iter().chain(made.findings).collect();
    let mut text = shown;
    text.push_str(&format!(
        "{} {} for {}, under {}, until {}\nin     {}: certificate.pem, root.pem (the private key is where the request was made)\nnext   give certificate.pem to whoever asked; clients need the root: tamga trust add {}\n",
        human::good("signed"),
        human::strong(&issued.label),
        issued.certificate.name_words().join(", "),
        parent.label,
        issued.certificate.not_after.date(),
        issued.folder.shown(),
        parent.root_label
    ));
    text.push_str(&human::findings(&findings));
    let files: Vec<(&str, &str)> = match parent.top() {
        Some(_) => vec![("certificate", CERTIFICATE_FILE), ("root", ROOT_FILE)],
        None => vec![("certificate", CERTIFICATE_FILE)],
    };
    let findings: Vec<_> = findings.iter().map(json::finding).collect();
    Ok(Done::good(
        text,
        json!({"certificates": [json::with_files(&issued, &files)], "request": request_json(&csr), "findings": findings}),
    ))
}

fn shown(csr: &Csr, plan: &Plan, issuer: &str) -> String {
    let asked = csr.name_words();
    let purposes: Vec<String> = csr.wishes.purposes.iter().flatten().map(usage_words).collect();
    human::table(&[
        vec![human::dim("request of"), csr.subject_words()],
        vec![human::dim("key"), format!("{}; its signature is good", csr.key.strength())],
        vec![human::dim("asks for"), if asked.is_empty() { "no names".into() } else { asked.join(", ") }],
        vec![human::dim("purposes"), if purposes.is_empty() { "none named".into() } else { purposes.join(", ") }],
        vec![
            human::dim("will be"),
            format!(
                "{} for {} under {issuer}",
                plan.names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
                plan.purposes.iter().map(|p| p.word()).collect::<Vec<_>>().join(", ")
            ),
        ],
    ])
}

/// A request as `show` and `sign` tell it.
pub(crate) fn request_json(csr: &Csr) -> Value {
    json!({
        "subject": csr.subject_words(), "names": csr.name_words(), "sha256": csr.sha256(),
        "key": csr.key.strength().to_string(), "public_sha256": csr.key.fingerprint(),
        "purposes": csr.wishes.purposes.iter().flatten().map(usage_words).collect::<Vec<_>>(),
        "signature_ok": csr.proves_possession().is_ok(), "asks_to_be_authority": csr.wishes.basic.is_some_and(|b| b.ca),
    })
}
