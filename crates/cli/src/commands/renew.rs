//! `tamga renew [LABEL…]`: the same names, purposes and files, with a new key; with other names if told so.

use super::issue::{Source, current, make};
use crate::args::{NewSecretArgs, SecretArgs};
use crate::exit::{self, Done, Failure, Result};
use crate::session::{Session, key_of, stored_key};
use crate::words::{human, json};
use std::path::PathBuf;
use tamga_core::authority::{self, KEY_FILE};
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::issue;
use tamga_core::key::{KeyAlgorithm, PrivateKey};
use tamga_core::moment::{Moment, Span};
use tamga_core::name::Name;
use tamga_core::renew::{self, Change};
use tamga_core::report::Issued;
use tamga_core::secret::Passphrase;
use tamga_core::text::Shown;
use tamga_host::entropy;
use tamga_host::ledger::{Filter, Ledger, Sort};

#[derive(clap::Args)]
#[command(
    after_help = "Examples: tamga renew charts.saltmarsh.test --add archive.saltmarsh.test\n          tamga renew --due 30d"
)]
pub(crate) struct RenewArgs {
    /// Which; without any, those that are due
    #[arg(value_name = "LABEL")]
    labels: Vec<String>,
    /// Those that end within this time [default without labels: a third of the life is left]
    #[arg(long, value_name = "SPAN", conflicts_with = "labels")]
    due: Option<String>,
    /// A further name (repeatable)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    add: Vec<String>,
    /// A name to leave out (repeatable)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    drop: Vec<String>,
    /// The same private key again: for devices that pin it
    #[arg(long, conflicts_with = "key_file")]
    reuse_key: bool,
    /// Where the private key is now, if it was moved; it is used again
    #[arg(long, value_name = "FILE")]
    key_file: Option<PathBuf>,
    /// Another kind of key [default: as before]
    #[arg(long, value_name = "KIND", conflicts_with_all = ["reuse_key", "key_file"])]
    key_algorithm: Option<String>,
    /// Under another authority [default: as before]
    #[arg(long, value_name = "LABEL")]
    issuer: Option<String>,
    /// Another life: m h d w y [default: as before]
    #[arg(long, value_name = "SPAN")]
    valid_for: Option<String>,
    #[command(flatten)]
    secrets: SecretArgs,
    #[command(flatten)]
    new_secrets: NewSecretArgs,
}

pub(crate) fn run(session: &Session, args: &RenewArgs) -> Result<Done> {
    let parse = |list: &[String]| list.iter().map(|n| Name::parse(n)).collect::<tamga_core::error::Result<Vec<_>>>();
    let change = Change {
        add: parse(&args.add)?,
        drop: parse(&args.drop)?,
        valid_for: args.valid_for.as_deref().map(Span::parse).transpose()?,
    };
    let due = args.due.as_deref().map(Span::parse).transpose()?;
    if session.common.dry_run {
        let meant = match session.open_to_look()? {
            Some(l) => meant(session, &l, args, due)?,
            None => args.labels.iter().map(|l| current(session, l)).collect::<Result<_>>()?,
        };
        let lines: String =
            meant.iter().map(|i| format!("would renew {} in {}\n", i.label, i.folder.shown())).collect();
        let text = if lines.is_empty() { "nothing is due\n".to_owned() } else { lines };
        return Ok(Done::good(text, json!({"certificates": [], "dry_run": true})));
    }
    if session.open_to_look()?.is_none() {
        // Looking makes nothing: without a ledger there is nothing to renew.
        args.labels.iter().try_for_each(|l| current(session, l).map(|_| ()))?;
        return Ok(Done::good("nothing is due\n".into(), json!({"certificates": []})));
    }
    let (_lock, ledger) = session.open_for_change()?;
    let meant = meant(session, &ledger, args, due)?;
    if meant.is_empty() {
        return Ok(Done::good("nothing is due\n".into(), json!({"certificates": []})));
    }
    let mut done: Vec<(Issued, Vec<Finding>)> = Vec::new();
    let mut failed: Vec<(String, Failure)> = Vec::new();
    let many = meant.len() > 1;
    for i in &meant {
        match again(session, &ledger, args, &change, i) {
            Ok(made) => done.push(made),
            // One that cannot be renewed does not hold up the others.
            Err(e) if many => failed.push((i.label.clone(), e)),
            Err(e) => return Err(e),
        }
    }
    Ok(report(&done, &failed, args))
}

fn meant(session: &Session, ledger: &Ledger, args: &RenewArgs, due: Option<Span>) -> Result<Vec<Issued>> {
    if !args.labels.is_empty() {
        let one = |label: &String| match ledger.current(label)? {
            Some(i) => Ok(i),
            None => Err(super::issue::unknown(Some(ledger), label)?.into()),
        };
        return args.labels.iter().map(one).collect();
    }
    let until = due.map_or(Moment::LAST, |d| session.now.plus(d.seconds()));
    let filter = Filter { ending: Some((Moment::from_unix(0), until)), ..Filter::default() };
    let (found, _) = ledger.page(&filter, Sort::Ends, None)?;
    Ok(found.into_iter().filter(|i| renew::is_due(&i.certificate, due, session.now)).collect())
}

/// Renews one. Errors leave everything as it was.
fn again(
    session: &Session,
    ledger: &Ledger,
    args: &RenewArgs,
    change: &Change,
    issued: &Issued,
) -> Result<(Issued, Vec<Finding>)> {
    let request = renew::again(issued, change)?;
    if issued.authority.is_none() && !issued.certificate.is_self_signed() {
        return Err(Error::Contradiction {
            what: format!("{} was signed elsewhere", issued.label),
            why: format!("its issuer {} is not an authority of this ledger", issued.certificate.issuer_words()),
            instead: format!("make a new request and have it signed there: tamga request {}", request.names[0]),
        }
        .into());
    }
    if !issued.folder.is_dir() {
        return Err(Error::Objection {
            code: "key-missing",
            what: format!("the folder of {} is not where it was", issued.label),
            why: format!("there is no {}", issued.folder.shown()),
            instead: "put it back; or issue anew under another label into the new place: tamga issue NAME --into DIR"
                .into(),
        }
        .into());
    }
    let (key, protect) = key(args, issued)?;
    let source = match (&args.issuer, &issued.authority) {
        (None, None) => Source::Itself,
        (named, before) => {
            let authorities = ledger.authorities()?;
            let a = authority::choose(named.as_deref().or(before.as_deref()), &authorities, true)?;
            issue::names_within(&request.names, a)?;
            Source::Authority(Box::new(a.clone()), session.authority_key(a, &args.secrets)?)
        }
    };
    make(session, ledger, &request, &key, protect.as_ref(), &source, "renewed")
}

/// The key: a new one of the same kind, encrypted as the old one was; or the old one.
fn key(args: &RenewArgs, issued: &Issued) -> Result<(PrivateKey, Option<Passphrase>)> {
    let of = format!("the key of {}", issued.label);
    let path = issued.folder.join(KEY_FILE);
    let new = args.new_secrets.wanted(&of)?;
    if let Some(file) = &args.key_file {
        let stored = stored_key(&issued.label, file)?;
        let old = if stored.is_locked() { Some(args.secrets.needed(&of)?) } else { None };
        let key = stored.open(old.as_ref())?;
        return Ok((key, new.or(old)));
    }
    if args.reuse_key {
        let moved = |e: Failure| match e.0.code() {
            "key-missing" => Failure::from(Error::Objection {
                code: "key-missing",
                what: format!("the private key of {} is not in its folder", issued.label),
                why: format!("there is no file {}", path.shown()),
                instead: "say where it is now: --key-file FILE; or leave --reuse-key away for a new key".into(),
            }),
            _ => e,
        };
        let locked = stored_key(&issued.label, &path).map_err(moved)?.is_locked();
        let old = if locked { Some(args.secrets.needed(&of)?) } else { None };
        let key = match &old {
            Some(p) => stored_key(&issued.label, &path)?.open(Some(p))?,
            None => key_of(&issued.label, &issued.folder, &issued.certificate, &args.secrets)?,
        };
        return Ok((crate::session::own(key, &issued.certificate, &issued.label, &issued.folder)?, new.or(old)));
    }
    let algorithm = match &args.key_algorithm {
        Some(typed) => KeyAlgorithm::parse(typed)?,
        None => renew::algorithm_of(&issued.certificate),
    };
    // An encrypted key is followed by an encrypted one: with the same passphrase, proved on the old key.
    let protect = match (new, stored_key(&issued.label, &path)) {
        (Some(new), _) => Some(new),
        (None, Ok(stored)) if stored.is_locked() => {
            let passphrase = args.secrets.needed(&of)?;
            stored.open(Some(&passphrase))?;
            Some(passphrase)
        }
        _ => None,
    };
    Ok((PrivateKey::generate(algorithm, &entropy::System)?, protect))
}

fn report(done: &[(Issued, Vec<Finding>)], failed: &[(String, Failure)], args: &RenewArgs) -> Done {
    let mut text = String::new();
    for (i, findings) in done {
        text.push_str(&format!(
            "{} {} for {} until {}\nin      {}; the one before is superseded\n",
            human::good("renewed"),
            human::strong(&i.label),
            i.certificate.name_words().join(", "),
            i.certificate.not_after.date(),
            i.folder.shown()
        ));
        text.push_str(&human::findings(findings));
    }
    if !done.is_empty() {
        let kept = if args.reuse_key || args.key_file.is_some() { "the key is the same; " } else { "" };
        text.push_str(&format!(
            "next    {kept}reload the server, then: tamga check NAME shows whether it serves the new one\n"
        ));
    }
    let mut code = exit::GOOD;
    let mut errors = Vec::new();
    for (label, Failure(e)) in failed {
        code = exit::worst(code, if done.is_empty() { exit::code(e.kind()) } else { exit::PARTLY });
        text.push_str(&format!(
            "{} {label}: {}: {}\n  {}  {}\n",
            human::bad("failed "),
            e.what(),
            e.why(),
            human::dim("do:"),
            e.remedy()
        ));
        errors.push(json!({"label": label, "code": e.code(), "what": e.what(), "why": e.why(), "remedy": e.remedy()}));
    }
    let certificates: Vec<_> = done.iter().map(|(i, _)| json::issued(i)).collect();
    let findings: Vec<_> = done.iter().flat_map(|(_, f)| f).map(json::finding).collect();
    Done { text, json: json!({"certificates": certificates, "findings": findings, "failed": errors}), code }
}
