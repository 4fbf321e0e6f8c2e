//! Revocation: a certificate is revoked in the ledger; which clients will notice.

use super::lookup::unknown;
use crate::env::Env;
use crate::failure::Result;
use crate::report::Answer;
use schemars::JsonSchema;
use serde::Serialize;
use tamga_core::ca::report::{Issued, KeyPlace};
use tamga_core::check::client::Client;
use tamga_core::error::Error;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::reason::Reason;
use tamga_host::clients;
use tamga_host::ledger::Ledger;

/// Which certificates of a label.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Which {
    /// The current one.
    Current,
    /// That with this serial number: hexadecimal digits, however they are set apart.
    Serial(String),
    /// Every one in force.
    Every,
}

/// What to revoke.
#[derive(Clone, Debug)]
pub struct Request {
    /// The label.
    pub label: Label,
    /// Which of its certificates.
    pub which: Which,
    /// Why.
    pub reason: Reason,
    /// True if the caller has confirmed it already: it is not asked for.
    pub is_confirmed: bool,
}

/// What was revoked, or would be.
pub type Report = Answer<Done, Plan>;

/// Certificates that were revoked.
#[derive(Serialize, JsonSchema)]
pub struct Done {
    /// They, and those that were before.
    #[serde(serialize_with = "revoked")]
    #[schemars(with = "Vec<RevokedView<'static>>")]
    pub revoked: Vec<Revoked>,
    /// What each client that is installed here does.
    #[serde(serialize_with = "notice")]
    #[schemars(with = "Vec<NoticeView>")]
    pub notice: Vec<Client>,
    /// Earlier certificates of the label that are still in force.
    #[serde(skip)]
    pub others: Vec<Issued>,
    /// Where the key is that can sign a list; None if the authority is unknown.
    #[serde(skip)]
    pub key: Option<KeyPlace>,
    /// The reason.
    #[serde(skip)]
    pub reason: Reason,
}

/// A certificate that was revoked.
pub struct Revoked {
    /// The certificate, as it was before.
    pub issued: Issued,
    /// Its authority.
    pub authority: Label,
    /// The reason that counts: an earlier one stays.
    pub reason: Reason,
}

impl Revoked {
    /// True if it was not revoked before.
    pub fn is_new(&self) -> bool {
        self.issued.revoked.is_none()
    }
}

#[derive(Serialize, JsonSchema)]
struct RevokedView<'a> {
    label: &'a str,
    serial: &'a str,
    authority: &'a str,
    reason: &'static str,
    change: &'static str,
    published: bool,
}

fn revoked<S: serde::Serializer>(all: &[Revoked], s: S) -> std::result::Result<S::Ok, S::Error> {
    s.collect_seq(all.iter().map(|r| RevokedView {
        label: &r.issued.label,
        serial: &r.issued.certificate.serial,
        authority: &r.authority,
        reason: r.reason.word(),
        change: if r.is_new() { "revoked" } else { "none" },
        published: false,
    }))
}

#[derive(Serialize, JsonSchema)]
struct NoticeView {
    client: &'static str,
    notices: bool,
    how: &'static str,
}

fn notice<S: serde::Serializer>(all: &[Client], s: S) -> std::result::Result<S::Ok, S::Error> {
    // None of them looks for lists of a private authority unasked.
    s.collect_seq(all.iter().map(|c| NoticeView { client: c.word(), notices: false, how: c.lists() }))
}

/// Certificates that would be revoked.
#[derive(Serialize, JsonSchema)]
pub struct Plan {
    revoked: [(); 0],
    dry_run: bool,
    /// They.
    #[serde(skip)]
    pub planned: Vec<Issued>,
}

/// Revokes certificates of a label.
///
/// Errors: a label or serial number that there is not; nothing in force; a certificate that no authority of the ledger signed.
pub fn revoke(env: &Env, request: &Request) -> Result<Report> {
    if env.dry_run {
        let ledger = env.open_to_look()?;
        let (planned, _) = wanted(env, ledger.as_deref(), request)?;
        return Ok(Answer::Planned(Plan { revoked: [], dry_run: true, planned }));
    }
    if env.open_to_look()?.is_none() {
        return Err(unknown(None, &request.label)?.into());
    }
    if !request.is_confirmed {
        // Asked before the lock is taken: a person may think for long.
        let (planned, _) = wanted(env, env.open_to_look()?.as_deref(), request)?;
        let new = planned.iter().filter(|i| i.revoked.is_none() && i.authority.is_some()).count();
        if new > 0 {
            let of =
                if new == 1 { request.label.to_string() } else { format!("{new} certificates of {}", request.label) };
            env.confirm_irrevocable(
                &format!("revoking {of}"),
                &format!("revoke {of}, reason {}? it cannot be undone", request.reason),
            )?;
        }
    }
    let (_lock, ledger) = env.open_for_change()?;
    let (wanted, others) = wanted(env, Some(&*ledger), request)?;
    let Some(authority) = wanted.first().and_then(|i| i.authority.clone()) else {
        let i = &wanted[0];
        return Err(Error::Objection {
            code: "revocation-unknown",
            what: format!("{} cannot be revoked here", i.label),
            why: match i.certificate.is_self_signed() {
                true => "it is self-signed: no authority can revoke it".into(),
                false => format!("it was signed elsewhere, by {}", i.certificate.issuer_words()),
            },
            instead: "take it out of the stores that trust it, and issue another; or have its signer revoke it".into(),
        }
        .into());
    };
    let new = wanted.iter().filter(|i| i.revoked.is_none());
    let serials: Vec<&str> = new.map(|i| i.certificate.serial.as_str()).collect();
    if !serials.is_empty() {
        ledger.revoke(&request.label, &authority, &serials, request.reason, env.now)?;
    }
    let key = ledger.authorities()?.into_iter().find(|a| a.label == authority).map(|a| a.key);
    let revoked = wanted
        .into_iter()
        .map(|issued| Revoked {
            reason: issued.revoked.map_or(request.reason, |r| r.reason),
            authority: authority.clone(),
            issued,
        })
        .collect();
    let notice = Client::ALL.into_iter().filter(|c| clients::is_installed(*c, &env.machine)).collect();
    Ok(Answer::Done(Done { revoked, notice, others, key, reason: request.reason }))
}

/// Those that are meant, and the others of the label that are still in force.
fn wanted(env: &Env, ledger: Option<&dyn Ledger>, request: &Request) -> Result<(Vec<Issued>, Vec<Issued>)> {
    let label = &request.label;
    let all = match ledger {
        Some(l) => l.issued(label)?,
        None => Vec::new(),
    };
    let hex = match &request.which {
        Which::Serial(s) => Some(s.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_lowercase()),
        _ => None,
    };
    let chosen = |i: &Issued| match (&hex, &request.which) {
        (Some(serial), _) => i.certificate.serial == *serial,
        (None, Which::Every) => i.is_in_force(env.now),
        (None, _) => i.is_live(),
    };
    let (wanted, rest): (Vec<Issued>, Vec<Issued>) = all.into_iter().partition(|i| chosen(i));
    if wanted.is_empty() {
        return Err(match (hex, rest.is_empty()) {
            (_, true) => unknown(ledger, label)?,
            (Some(serial), _) => Error::LabelUnknown {
                label: serial,
                sought: "serial number of this label",
                known: rest.into_iter().map(|i| i.certificate.serial.clone()).collect(),
            },
            (None, _) => Error::Objection {
                code: "expired",
                what: format!("nothing of {label} is in force"),
                why: "every certificate of this label has expired or was revoked".into(),
                instead: "see: tamga show LABEL --history".into(),
            },
        }
        .into());
    }
    Ok((wanted, rest.into_iter().filter(|i| i.is_in_force(env.now)).collect()))
}
