//! Another key for an account (RFC 8555 section 7.3.5).

use super::{missing, show};
use crate::answer::{Answer, Asked};
use crate::event::{Event, What};
use crate::service::{FromAccount, Result, Service};
use serde_json::Value;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::jws::{Request, Signer};
use tamga_core::enrollment::problem::Problem;

pub(super) fn change(service: &Service, asked: &Asked<'_>) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    let wrong = |why: &str| Box::new(Problem::malformed(format!("the key is not changed: {why}")));
    let inner: Value =
        serde_json::from_slice(&request.payload).map_err(|_| wrong("the payload is no signed request"))?;
    let inner = Request::of(&inner).map_err(Box::new)?;
    let Signer::Key(new) = inner.signer.clone() else {
        return Err(wrong("the inner request is not signed by the new key (jwk)"));
    };
    inner.verify(&new).map_err(Box::new)?;
    if inner.url != request.url {
        return Err(wrong("the inner request is for another URL"));
    }
    if inner.nonce.is_some() {
        return Err(wrong("the inner request has a nonce of its own"));
    }
    let said = inner.object().map_err(Box::new)?;
    if said.get("account").and_then(Value::as_str) != Some(&service.url(&format!("/account/{}", account.id))) {
        return Err(wrong("the inner request names another account"));
    }
    if said.get("oldKey").and_then(|k| Jwk::parse(k).ok()).is_none_or(|k| k != account.key) {
        return Err(wrong("oldKey is not the present key of the account"));
    }
    let taken = service.ledger().set_account_key(account.id, &new, service.now()).map_err(|e| service.failed(&e))?;
    if let Some(other) = taken {
        let location = service.url(&format!("/account/{other}"));
        let problem = Problem::malformed("an account has this key already").with_status(409);
        return Ok(Answer::from(problem).with("location", location));
    }
    service.tell(&Event {
        at: service.now(),
        event: What::AccountChanged,
        account: Some(account.id),
        peer: Some(asked.peer),
        names: Vec::new(),
        detail: format!("{} has another key", account.id),
    });
    let now = service.ledger().account(account.id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    Ok(Answer::json(200, &show::account(service, &now)))
}
