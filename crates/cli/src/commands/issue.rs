//! `tamga issue NAME…`.

use crate::cli::SubjectArgs;
use crate::exit::{Done, Result};
use crate::session::{Session, authority_key};
use crate::words::{human, json};
use serde_json::json;
use std::path::{Path, PathBuf};
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::issue::{self, LEAF_LIFE, Request, Signer};
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::moment::{Moment, Span};
use tamga_core::name::Name;
use tamga_core::purpose::Purpose;
use tamga_core::report::{Authority, Issued};
use tamga_host::entropy;
use tamga_host::ledger::{Ledger, Record};

#[derive(clap::Args)]
#[command(after_help = "Example: tamga issue charts.saltmarsh.test 10.0.0.7 --into tls")]
pub(crate) struct IssueArgs {
    /// DNS names, IP addresses, mailboxes or URIs: each is written as what it is
    #[arg(required = true, value_name = "NAME")]
    names: Vec<String>,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// Without an authority: it vouches for itself, and each client must be told
    #[arg(long, conflicts_with = "issuer")]
    self_signed: bool,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for its files [default: ./LABEL]
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// How long it lives: m h d w y
    #[arg(long, value_name = "SPAN", conflicts_with = "not_after")]
    valid_for: Option<String>,
    /// First moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_before: Option<String>,
    /// Last moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_after: Option<String>,
    /// p256 p384 p521 ed25519 rsa2048 rsa3072 rsa4096
    #[arg(long, value_name = "KIND", default_value = "p256")]
    key_algorithm: String,
    /// server client
    #[arg(long, value_name = "LIST", value_delimiter = ',', default_value = "server")]
    purpose: Vec<String>,
    #[command(flatten)]
    subject: SubjectArgs,
}

pub(crate) fn run(session: &Session, args: IssueArgs) -> Result<Done> {
    let names = args.names.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<Vec<_>>>()?;
    let names = issue::distinct(names);
    let label = match &args.label {
        Some(typed) => Label::parse(typed)?,
        None => names[0].label()?,
    };
    let folder = folder(args.into.as_deref(), &label)?;
    let request = Request {
        purposes: purposes(&args.purpose)?,
        from: args.not_before.as_deref().map(Moment::parse).transpose()?,
        valid_for: args.valid_for.as_deref().map_or(Ok(LEAF_LIFE), Span::parse)?,
        until: args.not_after.as_deref().map(Moment::parse).transpose()?,
        subject: args.subject.into(),
        names,
        label,
        folder,
    };
    let algorithm = KeyAlgorithm::parse(&args.key_algorithm)?;
    unoccupied(&request.folder)?;
    if session.common.dry_run {
        let authorities = session.authorities()?;
        let by = if args.self_signed {
            "itself".to_owned()
        } else {
            authority::choose(args.issuer.as_deref(), &authorities)?.label.clone()
        };
        let names: Vec<String> = request.names.iter().map(ToString::to_string).collect();
        let text = format!(
            "would issue {} for {} under {by} into {}\n",
            request.label,
            names.join(", "),
            request.folder.display()
        );
        return Ok(Done::good(text, json!({"certificates": [], "dry_run": true})));
    }
    // The key is made while the ledger is opened, and however long it takes, nobody else waits for it.
    let (issued, findings) = std::thread::scope(|scope| {
        let key = scope.spawn(|| PrivateKey::generate(algorithm, &entropy::System));
        let key = if matches!(algorithm, KeyAlgorithm::P256) { Err(key) } else { Ok(join(key)?) };
        let (_lock, ledger) = session.open_for_change()?;
        let authorities = ledger.authorities()?;
        authority::free(&request.label, &authorities, &ledger.issued(Some(request.label.as_str()))?)?;
        let issuer =
            if args.self_signed { None } else { Some(authority::choose(args.issuer.as_deref(), &authorities)?) };
        let key = key.or_else(join)?;
        make(session, &ledger, &request, &key, issuer)
    })?;
    Ok(Done::good(
        words(&issued, &findings),
        json!({
            "certificates": [json::issued(&issued.label, &issued.certificate, &issued.folder)],
            "findings": findings.iter().map(json::finding).collect::<Vec<_>>(),
        }),
    ))
}

fn join(key: std::thread::ScopedJoinHandle<'_, tamga_core::error::Result<PrivateKey>>) -> Result<PrivateKey> {
    Ok(key.join().unwrap_or(Err(Error::Crypto { doing: "making a key" }))?)
}

/// Makes a certificate, puts its files in place and records it. The ledger is locked.
pub(crate) fn make(
    session: &Session,
    ledger: &Ledger,
    request: &Request,
    key: &PrivateKey,
    issuer: Option<&Authority>,
) -> Result<(Issued, Vec<Finding>)> {
    let issuer_key;
    let signer = match issuer {
        Some(a) => {
            issuer_key = authority_key(a)?;
            Signer::Authority(a, &issuer_key)
        }
        None => Signer::Itself,
    };
    let ignore = std::fs::read(request.folder.join(".gitignore")).unwrap_or_default();
    let made = issue::make(request, key, &signer, &ignore, session.now, &entropy::System)?;
    let issued = Issued {
        label: request.label.to_string(),
        certificate: made.certificate,
        authority: issuer.map(|a| a.label.clone()),
        folder: request.folder.clone(),
        state: "live".into(),
    };
    session.publish(ledger, "certificate", &made.publication, &Record::Certificate(&issued))?;
    Ok((issued, made.findings))
}

/// The folder, absolute: the ledger must find it again from anywhere.
pub(crate) fn folder(into: Option<&Path>, label: &Label) -> Result<PathBuf> {
    let relative = into.map_or_else(|| PathBuf::from(label.as_str()), Path::to_path_buf);
    Ok(std::path::absolute(&relative).map_err(tamga_host::error::Error::file("finding", &relative))?)
}

/// Nothing is overwritten unasked.
pub(crate) fn unoccupied(folder: &Path) -> Result<()> {
    for name in [CERTIFICATE_FILE, KEY_FILE] {
        let path = folder.join(name);
        if path.symlink_metadata().is_ok() {
            return Err(tamga_host::error::Error::InTheWay { path }.into());
        }
    }
    Ok(())
}

fn purposes(typed: &[String]) -> Result<Vec<Purpose>> {
    let mut out = Vec::new();
    for word in typed {
        let p = Purpose::ALL.into_iter().find(|p| p.word() == word).ok_or_else(|| Error::Word {
            what: "purpose",
            typed: word.clone(),
            accepted: "server, client or both".into(),
        })?;
        if matches!(p, Purpose::Mail | Purpose::Code) {
            return Err(Error::Contradiction {
                what: format!("no certificate for {word} can be issued here"),
                why: format!("no authority was created for the purpose {word}"),
                instead: "issue for server, client or both".into(),
            }
            .into());
        }
        if !out.contains(&p) {
            out.push(p);
        }
    }
    Ok(out)
}

/// Three lines: what, where, what next.
fn words(issued: &Issued, findings: &[Finding]) -> String {
    let c = &issued.certificate;
    let by = issued.authority.as_ref().map_or("signed by itself".into(), |a| format!("under {a}"));
    let mut text = format!(
        "{} {} for {}, {by}, until {}\n",
        human::good("issued"),
        human::strong(&issued.label),
        c.name_words().join(", "),
        c.not_after.date()
    );
    text.push_str(&format!(
        "in     {}: certificate.pem, private-key.pem (readable by you alone), root.pem\n",
        issued.folder.display()
    ));
    let next = match &issued.authority {
        Some(a) => format!(
            "tamga trust add {a}, then give the first two files to the server, or: tamga serve {}",
            issued.label
        ),
        None => "put root.pem into each client's store, and give the first two files to the server".into(),
    };
    text.push_str(&format!("next   {next}\n"));
    text.push_str(&human::findings(findings));
    text
}
