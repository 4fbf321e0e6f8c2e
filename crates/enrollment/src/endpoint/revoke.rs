//! Revocation by the account, by the certificate's own key, or by an account that has proved all its names (RFC 8555 section 7.6).

use super::missing;
use crate::answer::{Answer, Asked};
use crate::event::{Event, What};
use crate::service::{FromAccount, Result, Service, refuse};
use serde_json::{Map, Value};
use tamga_core::ca::renew::names_of;
use tamga_core::ca::report::Issued;
use tamga_core::enrollment::from_base64url;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::Signer;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::reason::Reason;

/// What may be said from outside (RFC 5280 section 5.3.1): the others are for the authority to say.
const REASONS: [Reason; 5] = [
    Reason::Unspecified,
    Reason::KeyCompromise,
    Reason::AffiliationChanged,
    Reason::Superseded,
    Reason::CessationOfOperation,
];

pub(super) fn revoke(service: &Service, asked: &Asked<'_>) -> Result<Answer> {
    let request = service.parsed(asked)?;
    // The signature is looked at before anything that is said is believed.
    let (account, key, request) = match request.signer.clone() {
        Signer::Account(_) => {
            let FromAccount { account, request } = service.checked_account(request)?;
            (Some(account), None, request)
        }
        Signer::Key(key) => {
            request.verify(&key).map_err(Box::new)?;
            service.fresh(&request)?;
            (None, Some(key), request)
        }
    };
    let said = request.object().map_err(Box::new)?;
    let issued = meant(service, &said)?;
    let c = &issued.certificate;
    let may = match (&account, &key) {
        (_, Some(key)) => Jwk::of_spki(c.key.spki()).is_some_and(|own| own == *key),
        (Some(account), None) => {
            let ledger = service.ledger();
            let whose = ledger.enrolled(&c.sha256()).map_err(|e| service.failed(&e))?;
            let names: Vec<Identifier> = names_of(c).iter().filter_map(Identifier::of).collect();
            whose.is_some_and(|w| w.account == account.id)
                || ledger.has_proved(account.id, &names, service.now()).map_err(|e| service.failed(&e))?
        }
        (None, None) => false,
    };
    if !may {
        return refuse(
            ProblemType::Unauthorized,
            "only the account that got the certificate, its own key, or an account that has proved all its names may revoke it",
        );
    }
    let reason = reason(&said)?;
    if issued.revoked.is_some() {
        return refuse(ProblemType::AlreadyRevoked, "the certificate is revoked already");
    }
    let Some(authority) = &issued.authority else { return Err(missing()) };
    let now = service.now();
    let done = service.ledger().revoke(&issued.label, authority, &[&c.serial], reason, now);
    done.map_err(|e| service.failed(&e))?;
    service.tell_revoked();
    let by = account.as_ref().map_or("its own key".to_owned(), |a| format!("account {}", a.id));
    service.tell(&Event {
        at: now,
        event: What::Revoked,
        account: account.map(|a| a.id),
        peer: Some(asked.peer),
        names: c.name_words(),
        detail: format!("{} (serial {}) by {by}: {}", issued.label, c.serial, reason.word()),
    });
    Ok(Answer::empty(200))
}

/// The certificate that is meant: one of this service.
fn meant(service: &Service, said: &Map<String, Value>) -> Result<Issued> {
    let Some(text) = said.get("certificate").and_then(Value::as_str) else {
        return Err(Box::new(Problem::malformed("certificate is missing: DER as base64url")));
    };
    let read = from_base64url(text).and_then(|der| Certificate::read(&der, "it").ok());
    let read = read.ok_or_else(|| Box::new(Problem::malformed("certificate is no certificate")))?;
    let found = service.ledger().by_fingerprint(&read.sha256()).map_err(|e| service.failed(&e))?;
    let ours = &service.signing().authority.label;
    let found = found.filter(|i| i.authority.as_ref() == Some(ours) || i.is_enrolled());
    let unknown = || Problem::malformed("the certificate was not issued by this service").with_status(404);
    found.ok_or_else(|| Box::new(unknown()))
}

fn reason(said: &Map<String, Value>) -> Result<Reason> {
    let wrong = || {
        Box::new(Problem::new(
            ProblemType::BadRevocationReason,
            "the reason is one of 0, 1, 3, 4 and 5 (RFC 5280 section 5.3.1)",
        ))
    };
    match said.get("reason") {
        None | Some(Value::Null) => Ok(Reason::Unspecified),
        Some(value) => {
            let number = value.as_u64().ok_or_else(wrong)?;
            REASONS.into_iter().find(|r| u64::from(r.number()) == number).ok_or_else(wrong)
        }
    }
}
