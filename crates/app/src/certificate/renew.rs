//! Renewal: the same names, purposes and files, with a new key; with other names if asked.

use super::lookup::{current, unknown};
use super::make::{Signer, make};
use super::{export_again, exports};
use crate::enroll::{self, New};
use crate::env::Env;
use crate::failure::{Failure, Result};
use crate::interact::Task;
use crate::report::{self, Answer, Certificate, Outcome};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, KEY_FILE};
use tamga_core::ca::issue;
use tamga_core::ca::renew;
use tamga_core::ca::report::Issued;
use tamga_core::error::Error;
use tamga_core::finding::Finding;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::ledger::{Filter, Ledger, Origin, Sort};

/// What to renew, and how.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Which; empty for those that are due.
    pub labels: Vec<Label>,
    /// Without labels: those that expire within this time; None for a third of their validity.
    pub due: Option<Span>,
    /// What changes.
    pub change: renew::Change,
    /// Keep the private key.
    pub reuse_key: bool,
    /// Where the private key is now, if it was moved; it is used again.
    pub key_file: Option<PathBuf>,
    /// Another kind of key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// Another authority.
    pub issuer: Option<Label>,
    /// Opens the authority's key and the old one.
    pub secret: Secret,
    /// Protects the new key.
    pub new_secret: NewSecret,
    /// Write the files again that were exported from it.
    pub exports: bool,
}

/// What was renewed, or would be.
pub type Report = Answer<Done, Plan>;

/// Certificates that were renewed.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// The new ones.
    pub certificates: Vec<Certificate>,
    /// Remarks on them.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// Those that could not be renewed, and files that could not be written again.
    pub failed: Vec<Failed>,
    /// Files that were exported from it before and written again.
    pub exported: Vec<ExportedFile>,
    /// Files that were exported from it and still hold the earlier certificate.
    pub outdated: Vec<ExportedFile>,
}

/// A file that was exported from a certificate.
#[derive(Serialize, JsonSchema)]
pub struct ExportedFile {
    /// The certificate's label.
    pub label: Label,
    /// The form.
    pub form: &'static str,
    /// The file.
    pub file: String,
}

/// A certificate that could not be renewed while others were.
#[derive(Serialize, JsonSchema)]
pub struct Failed {
    /// Its label.
    pub label: Label,
    /// Why.
    #[serde(flatten, serialize_with = "report::failure")]
    #[schemars(with = "crate::report::FailureView")]
    pub failure: Failure,
}

impl Done {
    /// The outcome; None if nothing at all could be renewed: then it is that of the failures.
    pub fn outcome(&self) -> Option<Outcome> {
        match (self.failed.is_empty(), self.certificates.is_empty()) {
            (true, _) => Some(Outcome::Good),
            (false, false) => Some(Outcome::Partial),
            (false, true) => None,
        }
    }
}

/// Certificates that would be renewed.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// They.
    #[serde(skip)]
    pub renewed: Vec<Issued>,
}

/// Renews certificates; one of several that cannot be renewed does not hold up the others.
///
/// Errors: a label that there is not; one alone that cannot be renewed: everything is then as it was.
pub fn renew(env: &Env, request: &Request) -> Result<Report> {
    let nothing = Done {
        certificates: Vec::new(),
        findings: Vec::new(),
        failed: Vec::new(),
        exported: Vec::new(),
        outdated: Vec::new(),
    };
    if env.dry_run {
        let renewed = match env.open_to_look()? {
            Some(l) => wanted(env, &*l, request)?,
            None => request.labels.iter().map(|l| current(env, l)).collect::<Result<_>>()?,
        };
        return Ok(Answer::Planned(Plan { certificates: [], dry_run: true, renewed }));
    }
    if env.open_to_look()?.is_none() {
        // Looking makes nothing: without a ledger there is nothing to renew.
        request.labels.iter().try_for_each(|l| current(env, l).map(|_| ()))?;
        return Ok(Answer::Done(nothing));
    }
    let (_lock, ledger) = env.open_for_change()?;
    let wanted = wanted(env, &*ledger, request)?;
    let many = wanted.len() > 1;
    let mut done = nothing;
    let progress = many.then(|| env.caller.progress(Task::Many("renewing", wanted.len())));
    for i in &wanted {
        if let Some(p) = &progress {
            p.step();
        }
        match one(env, &*ledger, request, i) {
            Ok((issued, findings)) => {
                done.files_of(env, &*ledger, request, &issued)?;
                done.certificates.push(Certificate::with_all_files(issued));
                done.findings.extend(findings);
            }
            Err(failure) if many => done.failed.push(Failed { label: i.label.clone(), failure }),
            Err(e) => return Err(e),
        }
    }
    Ok(Answer::Done(done))
}

impl Done {
    /// Writes the files again that were exported, or lists them.
    fn files_of(&mut self, env: &Env, ledger: &dyn Ledger, request: &Request, issued: &Issued) -> Result<()> {
        let opens = match request.new_secret.is_wanted() {
            // The key was just encrypted with the new passphrase: it opens with the same.
            true => Secret { file: request.new_secret.file.clone(), variable: request.new_secret.variable.clone() },
            false => request.secret.clone(),
        };
        for e in exports::of(env, ledger, &issued.label)? {
            let file = ExportedFile { label: issued.label.clone(), form: e.form.word(), file: e.file.shown() };
            match request.exports {
                false => self.outdated.push(file),
                true => match export_again::write_again(env, issued, &e, &opens) {
                    Ok(_) => self.exported.push(file),
                    Err(failure) => self.failed.push(Failed { label: issued.label.clone(), failure }),
                },
            }
        }
        Ok(())
    }
}

fn wanted(env: &Env, ledger: &dyn Ledger, request: &Request) -> Result<Vec<Issued>> {
    if !request.labels.is_empty() {
        let one = |label: &Label| match ledger.current(label)? {
            Some(i) => Ok(i),
            None => Err(unknown(Some(ledger), label)?.into()),
        };
        return request.labels.iter().map(one).collect();
    }
    let until = request.due.map_or(Timestamp::LAST, |d| env.now.plus(d.seconds()));
    let filter = Filter { ending: Some((Timestamp::from_unix(0), until)), ..Filter::default() };
    let found = ledger.filtered(&filter, Sort::Ends)?;
    let origins = if request.due.is_none() { ledger.origins()? } else { Vec::new() };
    let is_due = |i: &Issued| match origins.iter().find(|(label, _)| *label == i.label) {
        Some((_, origin)) => enroll::is_due(env, origin, &i.certificate),
        None => renew::is_due(&i.certificate, request.due, env.now),
    };
    Ok(found.into_iter().filter(is_due).collect())
}

fn one(env: &Env, ledger: &dyn Ledger, wish: &Request, issued: &Issued) -> Result<(Issued, Vec<Finding>)> {
    if issued.host.is_some() {
        super::lookup::here(issued)?;
    }
    if issued.is_enrolled() {
        return Err(Error::Contradiction {
            what: format!("{} is not renewed from here", issued.label),
            why: "its key is on the machine that got it from the enrollment service".into(),
            instead: "its client renews it by itself; to take it back: tamga revoke LABEL".into(),
        }
        .into());
    }
    let request = renew::again(issued, &wish.change)?;
    if let Some(origin) = ledger.origin(&issued.label)? {
        return from_service(env, wish, issued, request, &origin);
    }
    if issued.authority.is_none() && !issued.certificate.is_self_signed() {
        return Err(Error::Contradiction {
            what: format!("{} was signed elsewhere", issued.label),
            why: format!("its issuer {} is not an authority of this ledger", issued.certificate.issuer_words()),
            instead: format!("make a new request and have it signed there: tamga request {}", request.names[0]),
        }
        .into());
    }
    if !env.disk().is_directory(&issued.folder) {
        return Err(Error::Objection {
            code: "key-missing",
            what: format!("the directory of {} is not where it was", issued.label),
            why: format!("there is no {}", issued.folder.shown()),
            instead:
                "put it back; or issue a new one under another label in the new directory: tamga issue NAME --into DIR"
                    .into(),
        }
        .into());
    }
    let (key, protect) = key(env, wish, issued)?;
    let signer = match (&wish.issuer, &issued.authority) {
        (None, None) => Signer::Itself,
        (named, before) => {
            let authorities = ledger.authorities()?;
            let a = authority::choose(named.as_deref().or(before.as_deref()), &authorities, true)?;
            issue::names_within(&request.names, a)?;
            Signer::Authority(Box::new(a.clone()), env.authority_key(a, &wish.secret)?)
        }
    };
    make(env, ledger, &request, (&key, protect.as_ref()), &signer, "renewed")
}

/// The same from the service that issued it.
fn from_service(
    env: &Env,
    wish: &Request,
    issued: &Issued,
    request: issue::Request,
    origin: &Origin,
) -> Result<(Issued, Vec<Finding>)> {
    if wish.issuer.is_some() {
        return Err(Error::Contradiction {
            what: format!("{} is not issued under an authority of this ledger", issued.label),
            why: format!("it comes from {}", tamga_core::vocabulary::text::harmless(&origin.from)),
            instead: "leave --issuer away; or issue another one here: tamga issue NAME --label LABEL".into(),
        }
        .into());
    }
    let (key, protect) = key(env, wish, issued)?;
    let new = New {
        label: request.label,
        names: request.names,
        folder: request.folder,
        algorithm: renew::algorithm_of(&issued.certificate),
        protect,
        secret: &wish.secret,
        invitation: None,
        before: Some(&issued.certificate),
        key: Some(key),
        kind: "renewed",
    };
    enroll::get(env, origin, new)
}

/// The key: a new one of the same kind, encrypted as the old one was; or the old one.
fn key(env: &Env, wish: &Request, issued: &Issued) -> Result<(PrivateKey, Option<Passphrase>)> {
    let of = format!("the key of {}", issued.label);
    let path = issued.folder.join(KEY_FILE);
    let new = wish.new_secret.wanted(env, &of)?;
    if let Some(file) = &wish.key_file {
        let stored = env.stored_key(&issued.label, file)?;
        let (key, old) = env.open_stored(stored, &of, &wish.secret)?;
        return Ok((key, new.or(old)));
    }
    if wish.reuse_key {
        let moved = |e: Failure| match e.0.code() {
            "key-missing" => Failure::from(Error::Objection {
                code: "key-missing",
                what: format!("the private key of {} is not in its directory", issued.label),
                why: format!("there is no file {}", path.shown()),
                instead: "say where it is now: --key-file FILE; or leave --reuse-key away for a new key".into(),
            }),
            _ => e,
        };
        let stored = env.stored_key(&issued.label, &path).map_err(moved)?;
        let (key, old) = env.open_stored(stored, &of, &wish.secret)?;
        let key = crate::keys::own(key, &issued.certificate, &issued.label, &issued.folder)?;
        return Ok((key, new.or(old)));
    }
    let algorithm = wish.key_algorithm.unwrap_or_else(|| renew::algorithm_of(&issued.certificate));
    // An encrypted key is followed by an encrypted one: with the same passphrase, proved on the old key.
    let protect = match (new, env.stored_key(&issued.label, &path)) {
        (Some(new), _) => Some(new),
        (None, Ok(stored)) if stored.is_locked() => env.open_stored(stored, &of, &wish.secret)?.1,
        _ => None,
    };
    Ok((env.generate(algorithm)?, protect))
}
