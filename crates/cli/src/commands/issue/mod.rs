//! `tamga issue NAME…`.

mod batch;
mod single_use;
mod words;

use super::recipe;
use crate::args::{NewSecretArgs, SecretArgs, SubjectArgs};
use crate::exit::{Done, Result};
use crate::session::{Change, Session, open, stored_key};
use crate::words::json;
use std::path::{Path, PathBuf};
use tamga_core::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::cert::profile::Links;
use tamga_core::error::Error;
use tamga_core::finding::{Code, Finding};
use tamga_core::issue::{self, Holder, LEAF_LIFE, Request, Signer};
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::label::Label;
use tamga_core::moment::{Moment, Span};
use tamga_core::name::Name;
use tamga_core::purpose::Purpose;
use tamga_core::recipe::Recipe;
use tamga_core::renew;
use tamga_core::report::{Authority, Issued, Life};
use tamga_core::secret::Passphrase;
use tamga_core::text::Shown;
use tamga_host::ledger::{Ledger, Record};
use tamga_host::{entropy, fs};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga issue charts.saltmarsh.test 10.0.0.7 --into tls\n          tamga issue --list gauges.txt --into gauges"
)]
pub(crate) struct IssueArgs {
    /// DNS names, IP addresses, mailboxes or URIs: each is written as what it is
    #[arg(required_unless_present = "list", value_name = "NAME")]
    names: Vec<String>,
    /// Many certificates: a file with the names of one on each line (- is standard input)
    #[arg(long, value_name = "FILE", conflicts_with_all = ["names", "label", "key_file"])]
    list: Option<PathBuf>,
    /// Under which authority, where there are several
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// Without an authority: it vouches for itself, and each client must be told
    #[arg(long, conflicts_with = "issuer")]
    self_signed: bool,
    /// Under a root made for these certificates alone, whose key is never written anywhere
    #[arg(long, conflicts_with_all = ["issuer", "self_signed"])]
    single_use_root: bool,
    /// What to call it [default: the first name]
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// The folder for its files [default: ./LABEL]; with --list the folder above them
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
    /// Purposes, key kind, life, subject and issuer as this certificate has them
    #[arg(long, value_name = "LABEL")]
    like: Option<String>,
    /// Key kind, purposes and form as this server needs them (tamga recipe lists the servers)
    #[arg(long = "for", value_name = "SERVER", conflicts_with_all = ["list", "like"])]
    server: Option<String>,
    /// An existing private key instead of a new one
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// How long it lives: m h d w y [default: 397d]
    #[arg(long, value_name = "SPAN", conflicts_with = "not_after")]
    valid_for: Option<String>,
    /// First moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_before: Option<String>,
    /// Last moment, RFC 3339
    #[arg(long, value_name = "TIME")]
    not_after: Option<String>,
    /// p256 p384 p521 ed25519 rsa2048 rsa3072 rsa4096 [default: p256]
    #[arg(long, value_name = "KIND", conflicts_with = "key_file")]
    key_algorithm: Option<String>,
    /// server client mail code [default: server]
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    purpose: Vec<String>,
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
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

/// Who signs, with the key at hand.
pub(crate) enum Source {
    /// An authority of the ledger.
    Authority(Box<Authority>, PrivateKey),
    /// A root for this alone; it is recorded, its key is not kept.
    SingleUse(Box<Authority>, PrivateKey),
    /// Nobody.
    Itself,
}

/// What all certificates of one run share.
struct Terms {
    purposes: Vec<Purpose>,
    algorithm: KeyAlgorithm,
    valid_for: Span,
    from: Option<Moment>,
    until: Option<Moment>,
    subject: Option<Vec<u8>>,
    links: Links,
    accepted: Vec<Code>,
    issuer: Option<String>,
}

pub(crate) fn run(session: &Session, args: IssueArgs) -> Result<Done> {
    let server = recipe::wanted(args.server.as_deref())?;
    let terms = terms(session, &args, server)?;
    issue::purposes_together(&terms.purposes)?;
    if args.list.is_some() {
        return batch::run(session, &args, &terms);
    }
    let names = args.names.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<Vec<_>>>()?;
    let names = issue::distinct(names);
    let label = match &args.label {
        Some(typed) => Label::parse(typed)?,
        None => names[0].label()?,
    };
    let request = terms.request(names, label.clone(), folder(args.into.as_deref(), &label)?);
    unoccupied(&request.folder)?;
    if session.common.dry_run {
        return words::dry(session, &args, &terms, &request);
    }
    let given = given_key(&args)?;
    let protect = match &given {
        Some((_, Some(p))) if !args.new_secrets.encrypt_key => Some(p.clone()),
        _ => args.new_secrets.wanted(&format!("the key of {label}"))?,
    };
    // However long a key takes, nobody else waits for it.
    let key = match given {
        Some((key, _)) => key,
        None => PrivateKey::generate(terms.algorithm, &entropy::System)?,
    };
    let (_lock, ledger) = session.open_for_change()?;
    let (source, twin) = source(session, &ledger, &args, &terms, std::slice::from_ref(&request))?;
    let (issued, mut findings) = make(session, &ledger, &request, &key, protect.as_ref(), &source, "issued")?;
    findings.extend(twin);
    let mut text = words::made(&issued, &source, &findings, server.is_none());
    if let Source::SingleUse(root, _) = &source {
        text.push_str(&single_use::words(&root.label));
    }
    drop((_lock, ledger));
    text.push_str(&recipe::in_its_form(session, server, &issued, &args.secrets, &args.new_secrets)?);
    Ok(Done::good(
        text,
        json!({
            "certificates": [json::issued(&issued)],
            "findings": findings.iter().map(json::finding).collect::<Vec<_>>(),
        }),
    ))
}

fn terms(session: &Session, args: &IssueArgs, server: Option<&Recipe>) -> Result<Terms> {
    let model = match &args.like {
        Some(label) => Some(current(session, label)?),
        None => None,
    };
    let like = model.as_ref().map(|i| renew::again(i, &renew::Change::default())).transpose()?;
    let typed = issue::subject_of(&args.subject.clone().into())?;
    Ok(Terms {
        purposes: match (args.purpose.is_empty(), &like) {
            (true, Some(l)) => l.purposes.clone(),
            (true, None) => server.map_or_else(|| vec![Purpose::Server], |r| r.facts.purposes.to_vec()),
            (false, _) => purposes(&args.purpose)?,
        },
        algorithm: match (args.key_algorithm.as_deref().map(KeyAlgorithm::parse).transpose()?, &model, server) {
            (wished, _, Some(r)) => r.key(wished)?,
            (Some(wished), ..) => wished,
            (None, Some(m), _) => renew::algorithm_of(&m.certificate),
            (None, None, None) => KeyAlgorithm::P256,
        },
        valid_for: match (&args.valid_for, &like) {
            (Some(typed), _) => Span::parse(typed)?,
            (None, Some(l)) => l.valid_for,
            (None, None) => LEAF_LIFE,
        },
        from: args.not_before.as_deref().map(Moment::parse).transpose()?,
        until: args.not_after.as_deref().map(Moment::parse).transpose()?,
        subject: typed.or_else(|| like.as_ref().and_then(|l| l.subject.clone())),
        links: Links {
            crl: args.crl_url.clone().or_else(|| like.as_ref().and_then(|l| l.links.crl.clone())),
            issuer: args.issuer_url.clone().or_else(|| like.as_ref().and_then(|l| l.links.issuer.clone())),
        },
        accepted: accepted(&args.accept)?,
        issuer: args.issuer.clone().or_else(|| model.and_then(|m| m.authority)),
    })
}

impl Terms {
    fn request(&self, names: Vec<Name>, label: Label, folder: PathBuf) -> Request {
        Request {
            names,
            label,
            folder,
            purposes: self.purposes.clone(),
            from: self.from,
            valid_for: self.valid_for,
            until: self.until,
            subject: self.subject.clone(),
            links: self.links.clone(),
            accepted: self.accepted.clone(),
        }
    }
}

/// The current certificate of a label.
pub(crate) fn current(session: &Session, label: &str) -> Result<Issued> {
    let ledger = session.open_to_look()?;
    let found = match &ledger {
        Some(l) => l.current(label)?,
        None => None,
    };
    match found {
        Some(i) => Ok(i),
        None => Err(unknown(ledger.as_ref(), label)?.into()),
    }
}

/// That no certificate has a label.
pub(crate) fn unknown(ledger: Option<&Ledger>, label: &str) -> Result<Error> {
    let known = ledger.map_or_else(|| Ok(Vec::new()), |l| l.labels(20))?;
    Ok(Error::LabelUnknown { label: label.to_owned(), sought: "certificate", known })
}

/// The codes given with `--accept`.
pub(crate) fn accepted(typed: &[String]) -> Result<Vec<Code>> {
    let one = |word: &String| {
        Code::parse(word).ok_or_else(|| Error::Word {
            what: "finding",
            typed: word.clone(),
            accepted: "the code of an objection, as tamga explain lists them".into(),
        })
    };
    Ok(typed.iter().map(one).collect::<tamga_core::error::Result<_>>()?)
}

/// An existing key, and the passphrase that opened it.
fn given_key(args: &IssueArgs) -> Result<Option<(PrivateKey, Option<Passphrase>)>> {
    let Some(file) = &args.key_file else { return Ok(None) };
    let stored = stored_key("the file", file)?;
    if !stored.is_locked() {
        return Ok(Some((open(stored, "", &args.secrets)?, None)));
    }
    let passphrase = args.secrets.needed(&file.shown())?;
    Ok(Some((stored.open(Some(&passphrase))?, Some(passphrase))))
}

/// Who signs; and what should be said of a certificate that has the same names already.
fn source(
    session: &Session,
    ledger: &Ledger,
    args: &IssueArgs,
    terms: &Terms,
    requests: &[Request],
) -> Result<(Source, Option<Finding>)> {
    let authorities = ledger.authorities()?;
    for r in requests {
        let label = r.label.as_str();
        authority::free(
            &r.label,
            &authorities,
            ledger.current(label)?.as_ref(),
            ledger.waiting_place(label)?.as_deref(),
        )?;
    }
    let twin = match requests {
        [one] => twin_of(session, ledger, one)?,
        _ => None,
    };
    if args.single_use_root {
        return Ok((single_use::source(session, &authorities, requests)?, twin));
    }
    if args.self_signed {
        return Ok((Source::Itself, twin));
    }
    let a = authority::choose(terms.issuer.as_deref(), &authorities, true)?;
    for r in requests {
        issue::names_within(&r.names, a)?;
    }
    let key = session.authority_key(a, &args.secrets)?;
    Ok((Source::Authority(Box::new(a.clone()), key), twin))
}

/// A certificate in force for exactly the same names.
fn twin_of(session: &Session, ledger: &Ledger, request: &Request) -> Result<Option<Finding>> {
    let Some(first) = request.names.first() else { return Ok(None) };
    let mut wanted: Vec<String> = request.names.iter().map(ToString::to_string).collect();
    wanted.sort();
    let same = |i: &Issued| {
        let mut has = i.certificate.name_words();
        has.sort();
        has == wanted && i.is_in_force(session.now)
    };
    let found = ledger.naming(&first.to_string())?.into_iter().find(same);
    Ok(found.map(|i| {
        Finding::new(Code::LiveDuplicate, i.label.clone())
            .saying(format!("{} in {} has exactly these names and is in force", i.label, i.folder.shown()))
            .mended_by(format!("to replace it, use instead: tamga renew {}", i.label))
    }))
}

/// Makes a certificate, puts its files in place and records it. The ledger is locked.
pub(crate) fn make(
    session: &Session,
    ledger: &Ledger,
    request: &Request,
    key: &PrivateKey,
    protect: Option<&Passphrase>,
    source: &Source,
    kind: &str,
) -> Result<(Issued, Vec<Finding>)> {
    let signer = match source {
        Source::Authority(a, k) | Source::SingleUse(a, k) => Signer::Authority(a, k),
        Source::Itself => Signer::Itself(key),
    };
    let ignore = fs::read_to_replace(&request.folder.join(".gitignore")).unwrap_or_default();
    let made = issue::make(request, &Holder::Key(key, protect), &signer, &ignore, session.now, &entropy::System)?;
    let issued = recorded(request, made.certificate, source);
    let root = match source {
        Source::SingleUse(a, _) => Some(&**a),
        _ => None,
    };
    session.publish(
        ledger,
        &Change {
            what: "certificate",
            label: &issued.label,
            sha256: issued.certificate.sha256(),
            publication: &made.publication,
            answers: false,
            record: Record::Certificate { issued: &issued, kind, root },
        },
    )?;
    Ok((issued, made.findings))
}

fn recorded(request: &Request, certificate: tamga_core::cert::Certificate, source: &Source) -> Issued {
    Issued {
        label: request.label.to_string(),
        certificate,
        authority: match source {
            Source::Authority(a, _) | Source::SingleUse(a, _) => Some(a.label.clone()),
            Source::Itself => None,
        },
        folder: request.folder.clone(),
        life: Life::Live,
        revoked: None,
    }
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

/// Purposes as typed.
pub(crate) fn purposes(typed: &[String]) -> Result<Vec<Purpose>> {
    let mut out = Vec::new();
    for word in typed {
        let p = Purpose::parse(word).ok_or_else(|| Error::Word {
            what: "purpose",
            typed: word.clone(),
            accepted: Purpose::ALL.map(Purpose::word).join(", "),
        })?;
        if !out.contains(&p) {
            out.push(p);
        }
    }
    Ok(out)
}
