//! Issuing a certificate with a new key, or with one that exists.

use super::make::{Signer, make};
use super::{lookup, single_use};
use crate::env::Env;
use crate::failure::Result;
use crate::output::{directory, unoccupied};
use crate::recipe::form;
use crate::report::{self, Answer, Certificate};
use crate::secret::{NewSecret, Secret};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;
use tamga_core::ca::authority::{self, CERTIFICATE_FILE, KEY_FILE};
use tamga_core::ca::issue::{self, LEAF_LIFE};
use tamga_core::ca::renew;
use tamga_core::ca::report::Issued;
use tamga_core::deploy::recipe::Recipe;
use tamga_core::finding::{Code, Finding};
use tamga_core::pki::cert::profile::Links;
use tamga_core::pki::cert::subject::Subject;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::Shown;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use tamga_host::ledger::Ledger;

/// Who is to sign.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Issuer {
    /// The only authority, or that of the model.
    #[default]
    Default,
    /// The authority of this label.
    Named(Label),
    /// The certificate itself.
    Itself,
    /// A root made for this alone, whose key is never written.
    SingleUseRoot,
}

/// What all certificates of one run share.
#[derive(Clone, Debug, Default)]
pub struct Terms {
    /// Who signs.
    pub issuer: Issuer,
    /// A label whose purposes, key kind, validity, subject and issuer are taken where nothing else is asked for.
    pub like: Option<String>,
    /// The server for which the certificate is.
    pub server: Option<&'static Recipe>,
    /// What it may be used for; empty for the model's, the server's or a server certificate's.
    pub purposes: Vec<Purpose>,
    /// The kind of its key.
    pub key_algorithm: Option<KeyAlgorithm>,
    /// How long it is valid.
    pub valid_for: Option<Span>,
    /// Its first moment; None for now.
    pub not_before: Option<Timestamp>,
    /// Its last moment, instead of a length of time.
    pub not_after: Option<Timestamp>,
    /// The fields of its subject.
    pub subject: Subject,
    /// Where its authority's list and certificate are found.
    pub links: Links,
    /// Objections that are lifted.
    pub accepted: Vec<Code>,
}

/// One certificate.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// Its names; at least one.
    pub names: Vec<Name>,
    /// Its label; None for its first name.
    pub label: Option<Label>,
    /// The directory for its files; None for one named as its label, below the current one.
    pub into: Option<PathBuf>,
    /// A file with an existing private key.
    pub key_file: Option<PathBuf>,
    /// Everything else.
    pub terms: Terms,
    /// Opens the authority's key, and the existing one.
    pub secret: Secret,
    /// Protects the new key.
    pub new_secret: NewSecret,
}

/// What was issued, or would be.
pub type Report = Answer<Done, Plan>;

/// A certificate that was issued.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// It alone.
    pub certificates: [Certificate; 1],
    /// Remarks on it.
    #[serde(serialize_with = "report::findings")]
    #[schemars(with = "Vec<crate::report::FindingView<'static>>")]
    pub findings: Vec<Finding>,
    /// Who signed.
    #[serde(skip)]
    pub signer: Signer,
    /// The file in the server's own form, where it wants one.
    #[serde(skip)]
    pub form: Option<form::Report>,
}

/// A certificate that would be issued.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    certificates: [(); 0],
    dry_run: bool,
    /// Its label.
    #[serde(skip)]
    pub label: Label,
    /// Its names.
    #[serde(skip)]
    pub names: Vec<Name>,
    /// Its directory.
    #[serde(skip)]
    pub directory: PathBuf,
    /// The authority that would sign; None where none of the ledger would.
    #[serde(skip)]
    pub authority: Option<Label>,
    /// Who signs, as asked.
    #[serde(skip)]
    pub issuer: Issuer,
}

/// Issues one certificate.
///
/// Errors: a name, label or directory that is taken or not allowed; a key that cannot be read or opened; an authority that cannot
/// sign; files that cannot be written.
pub fn issue(env: &Env, request: &Request) -> Result<Report> {
    let terms = request.terms.settled(env)?;
    let names = issue::distinct(request.names.clone());
    let label = match (&request.label, names.first()) {
        (Some(label), _) => label.clone(),
        (None, Some(first)) => first.label()?,
        (None, None) => {
            return Err(tamga_core::error::Error::NamesNeeded { what: "the certificate".into() }.into());
        }
    };
    let wanted = terms.request(names, label.clone(), directory(request.into.as_deref(), &label)?);
    unoccupied(env, &wanted.folder, &[CERTIFICATE_FILE, KEY_FILE])?;
    if env.dry_run {
        return plan(env, &terms, wanted);
    }
    let given = given_key(env, request)?;
    let protect = match &given {
        Some((_, Some(p))) if !request.new_secret.encrypt => Some(p.clone()),
        _ => request.new_secret.wanted(env, &format!("the key of {label}"))?,
    };
    // However long a key takes, nobody else waits for it.
    let key = match given {
        Some((key, _)) => key,
        None => env.generate(terms.algorithm)?,
    };
    let (lock, ledger) = env.open_for_change()?;
    let signer = terms.signer(env, &*ledger, std::slice::from_ref(&wanted), &request.secret)?;
    let twin = twin_of(env, &*ledger, &wanted)?;
    let (issued, mut findings) = make(env, &*ledger, &wanted, (&key, protect.as_ref()), &signer, "issued")?;
    findings.extend(twin);
    drop((lock, ledger));
    let form = match request.terms.server {
        Some(server) => form::write(env, server, &issued, &request.secret, &request.new_secret)?,
        None => None,
    };
    Ok(Answer::Done(Done { certificates: [Certificate::with_all_files(issued)], findings, signer, form }))
}

fn plan(env: &Env, terms: &Settled, wanted: issue::Request) -> Result<Report> {
    let authority = match terms.issuer {
        Issuer::Itself | Issuer::SingleUseRoot => None,
        _ => {
            let all = env.authorities()?;
            let a = authority::choose(terms.issuer.named(), &all, true)?;
            issue::names_within(&wanted.names, a)?;
            Some(a.label.clone())
        }
    };
    Ok(Answer::Planned(Plan {
        certificates: [],
        dry_run: true,
        label: wanted.label,
        names: wanted.names,
        directory: wanted.folder,
        authority,
        issuer: terms.issuer.clone(),
    }))
}

impl Issuer {
    fn named(&self) -> Option<&str> {
        match self {
            Issuer::Named(label) => Some(label),
            _ => None,
        }
    }
}

/// Terms with every default filled in.
pub(super) struct Settled {
    pub(super) issuer: Issuer,
    purposes: Vec<Purpose>,
    pub(super) algorithm: KeyAlgorithm,
    valid_for: Span,
    from: Option<Timestamp>,
    until: Option<Timestamp>,
    subject: Option<Vec<u8>>,
    links: Links,
    accepted: Vec<Code>,
}

impl Terms {
    /// Fills the defaults in: the model's, else the server's, else the usual ones.
    pub(super) fn settled(&self, env: &Env) -> Result<Settled> {
        let model = self.like.as_deref().map(|label| lookup::recorded(env, label)).transpose()?;
        let like = model.as_ref().map(|i| renew::again(i, &renew::Change::default())).transpose()?;
        let typed = issue::subject_of(&self.subject)?;
        let settled = Settled {
            purposes: match (self.purposes.is_empty(), &like) {
                (true, Some(l)) => l.purposes.clone(),
                (true, None) => self.server.map_or_else(|| vec![Purpose::Server], |r| r.facts.purposes.to_vec()),
                (false, _) => self.purposes.clone(),
            },
            algorithm: match (self.key_algorithm, &model, self.server) {
                (wished, _, Some(r)) => r.key(wished)?,
                (Some(wished), ..) => wished,
                (None, Some(m), _) => renew::algorithm_of(&m.certificate),
                (None, None, None) => KeyAlgorithm::P256,
            },
            valid_for: match (self.valid_for.or(like.as_ref().map(|l| l.valid_for)), self.server) {
                (wished, Some(r)) => r.life(wished)?,
                (wished, None) => wished.unwrap_or(LEAF_LIFE),
            },
            from: self.not_before,
            until: self.not_after,
            subject: typed.or_else(|| like.as_ref().and_then(|l| l.subject.clone())),
            links: Links {
                crl: self.links.crl.clone().or_else(|| like.as_ref().and_then(|l| l.links.crl.clone())),
                issuer: self.links.issuer.clone().or_else(|| like.as_ref().and_then(|l| l.links.issuer.clone())),
                ocsp: like.as_ref().and_then(|l| l.links.ocsp.clone()),
            },
            accepted: self.accepted.clone(),
            issuer: match (&self.issuer, model.and_then(|m| m.authority)) {
                (Issuer::Default, Some(before)) => Issuer::Named(before.clone()),
                (asked, _) => asked.clone(),
            },
        };
        issue::purposes_together(&settled.purposes)?;
        Ok(settled)
    }
}

impl Settled {
    pub(super) fn request(&self, names: Vec<Name>, label: Label, folder: PathBuf) -> issue::Request {
        issue::Request {
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

    /// Who signs these, if their labels are free and their names allowed.
    pub(super) fn signer(
        &self,
        env: &Env,
        ledger: &dyn Ledger,
        requests: &[issue::Request],
        secret: &Secret,
    ) -> Result<Signer> {
        let authorities = ledger.authorities()?;
        for r in requests {
            let label = r.label.as_str();
            let (issued, waiting) = (ledger.current(label)?, ledger.waiting_place(label)?);
            authority::free(&r.label, &authorities, issued.as_ref(), waiting.as_deref())?;
        }
        match &self.issuer {
            Issuer::SingleUseRoot => single_use::signer(env, &authorities, requests),
            Issuer::Itself => Ok(Signer::Itself),
            named => {
                let a = authority::choose(named.named(), &authorities, true)?;
                for r in requests {
                    issue::names_within(&r.names, a)?;
                }
                Ok(Signer::Authority(Box::new(a.clone()), env.authority_key(a, secret)?))
            }
        }
    }
}

/// An existing key, and the passphrase that opened it.
fn given_key(env: &Env, request: &Request) -> Result<Option<(PrivateKey, Option<Passphrase>)>> {
    let Some(file) = &request.key_file else { return Ok(None) };
    let stored = env.stored_key("the file", file)?;
    env.open_stored(stored, &file.shown(), &request.secret).map(Some)
}

/// A remark on another certificate in force for exactly the same names.
fn twin_of(env: &Env, ledger: &dyn Ledger, request: &issue::Request) -> Result<Option<Finding>> {
    let Some(first) = request.names.first() else { return Ok(None) };
    let mut wanted: Vec<String> = request.names.iter().map(ToString::to_string).collect();
    wanted.sort();
    let same = |i: &Issued| {
        let mut has = i.certificate.name_words();
        has.sort();
        has == wanted && i.is_in_force(env.now)
    };
    let found = ledger.naming(&first.to_string())?.into_iter().find(same);
    Ok(found.map(|i| {
        Finding::new(Code::LiveDuplicate, i.label.clone())
            .with_summary(format!("{} in {} has exactly these names and is in force", i.label, i.folder.shown()))
            .with_remedy(format!("to replace it, use instead: tamga renew {}", i.label))
    }))
}
