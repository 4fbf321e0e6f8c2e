//! Accounts: made, looked up, changed, given up (RFC 8555 section 7.3).

use super::{missing, show};
use crate::answer::{Answer, Asked};
use crate::event::{Event, What};
use crate::service::{FromAccount, Result, Service, ended, refuse};
use serde_json::{Value, json};
use tamga_core::enrollment::binding::Binding;
use tamga_core::enrollment::jwk::Jwk;
use tamga_core::enrollment::object::Account;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::enrollment::state::AccountState;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::text::harmless;
use tamga_host::ledger::NewAccount;

/// Upper bound on the contacts of an account.
const MOST_CONTACTS: usize = 8;
/// A page of an account's orders.
const ORDERS: u64 = 50;

/// A new account, or the one that the key has already.
pub(super) fn make(service: &Service, asked: &Asked<'_>) -> Result<Answer> {
    let (key, request) = service.by_key(asked)?;
    let wishes = request.object().map_err(Box::new)?;
    let known = service.ledger().account_of_key(&key.thumbprint()).map_err(|e| service.failed(&e))?;
    if let Some(account) = known {
        if account.state != AccountState::Valid {
            return Err(Box::new(ended(&account).with_status(403)));
        }
        return Ok(located(service, 200, &account));
    }
    if wishes.get("onlyReturnExisting") == Some(&Value::Bool(true)) {
        return refuse(ProblemType::AccountDoesNotExist, "no account has this key");
    }
    let contact = contacts(wishes.get("contact"))?.unwrap_or_default();
    let invitation = match wishes.get("externalAccountBinding").filter(|b| !b.is_null()) {
        Some(binding) => Some(invited(service, binding, &key)?),
        None if service.settings.by_invitation => {
            return refuse(
                ProblemType::ExternalAccountRequired,
                "this service takes invited accounts: its administrator makes an invitation with tamga enrollment invite",
            );
        }
        None => None,
    };
    let new = NewAccount { key: &key, contact: &contact, invitation: invitation.as_deref() };
    let made = service.ledger().make_account(&new, service.now());
    let Some((account, is_new)) = made.map_err(|e| service.failed(&e))? else {
        return Err(used_up());
    };
    if is_new {
        let by = invitation.map(|i| format!(" by the invitation {}", harmless(&i))).unwrap_or_default();
        service.tell(&Event {
            at: service.now(),
            event: What::AccountMade,
            account: Some(account.id),
            peer: Some(asked.peer),
            names: Vec::new(),
            detail: format!("{} was made{by}", account.id),
        });
    }
    Ok(located(service, if is_new { 201 } else { 200 }, &account))
}

fn located(service: &Service, status: u16, account: &Account) -> Answer {
    Answer::json(status, &show::account(service, account))
        .with("location", service.url(&format!("/account/{}", account.id)))
}

fn used_up() -> Box<Problem> {
    Box::new(Problem::new(
        ProblemType::Unauthorized,
        "the invitation is used up or over: ask the administrator of this service for another",
    ))
}

/// The key id of the invitation that a binding was made with.
fn invited(service: &Service, binding: &Value, key: &Jwk) -> Result<String> {
    let binding = Binding::parse(binding, &service.url("/new-account"), key).map_err(Box::new)?;
    let unknown = || {
        Box::new(Problem::new(
            ProblemType::Unauthorized,
            "there is no such invitation here: see the key id in the file that the administrator gave out",
        ))
    };
    let found = service.ledger().invitation(&binding.kid).map_err(|e| service.failed(&e))?.ok_or_else(unknown)?;
    let secret = service.secret.open(&found.key_id, &found.sealed).ok_or_else(unknown)?;
    binding.verify(&secret).map_err(Box::new)?;
    if found.ends <= service.now() || found.uses_left == Some(0) {
        return Err(used_up());
    }
    Ok(found.key_id)
}

/// The contacts of a request: None if it says nothing of them.
fn contacts(value: Option<&Value>) -> Result<Option<Vec<String>>> {
    let Some(value) = value.filter(|v| !v.is_null()) else { return Ok(None) };
    let wrong = |detail: String| refuse(ProblemType::InvalidContact, detail);
    let Some(all) = value.as_array() else { return wrong("contact is a list of mailto: URLs".into()) };
    if all.len() > MOST_CONTACTS {
        return wrong(format!("an account has at most {MOST_CONTACTS} contacts here"));
    }
    let mut out = Vec::new();
    for one in all {
        let Some(text) = one.as_str() else { return wrong("a contact is a text".into()) };
        let Some(mailbox) = text.strip_prefix("mailto:") else {
            let detail = format!("contacts are mailto: URLs here, and {} is none", harmless(text));
            return refuse(ProblemType::UnsupportedContact, detail);
        };
        // RFC 8555 section 7.3: no header fields, one address only.
        if mailbox.contains(['?', ',', '%']) || text.len() > 320 || !matches!(mailbox.parse(), Ok(Name::Mail(_))) {
            return wrong(format!("{} is not one mailbox", harmless(text)));
        }
        out.push(text.to_owned());
    }
    Ok(Some(out))
}

/// Looks at an account, or changes it.
pub(super) fn at(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    own(&account, id)?;
    if !request.payload.is_empty() {
        let wishes = request.object().map_err(Box::new)?;
        // Members that the service owns are ignored (section 7.3.2); some clients send them empty.
        if let Some(contact) = contacts(wishes.get("contact"))?
            && contact != account.contact
        {
            service.ledger().set_contact(id, &contact).map_err(|e| service.failed(&e))?;
        }
        if wishes.get("status").and_then(Value::as_str) == Some(AccountState::Deactivated.word()) {
            let state = AccountState::Deactivated;
            service.ledger().set_account_state(id, state, service.now()).map_err(|e| service.failed(&e))?;
            service.tell(&Event {
                at: service.now(),
                event: What::AccountChanged,
                account: Some(id),
                peer: Some(asked.peer),
                names: Vec::new(),
                detail: format!("{id} was given up by its owner"),
            });
        }
    }
    let now = service.ledger().account(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    Ok(located(service, 200, &now))
}

/// Refuses what belongs to another account.
fn own(account: &Account, id: i64) -> Result<()> {
    if account.id == id { Ok(()) } else { refuse(ProblemType::Unauthorized, "this belongs to another account") }
}

/// An account's orders, a page at a time (section 7.1.2.1).
pub(super) fn orders(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, .. } = service.by_account(asked)?;
    own(&account, id)?;
    let skipped: u64 =
        asked.path.split_once("?after=").and_then(|(_, n)| n.parse().ok()).filter(|n| *n < 1 << 32).unwrap_or(0);
    let mut ids = service.ledger().orders_of(id, skipped, ORDERS + 1, service.now()).map_err(|e| service.failed(&e))?;
    let more = ids.len() as u64 > ORDERS;
    ids.truncate(ORDERS as usize);
    let urls: Vec<String> = ids.iter().map(|o| service.url(&format!("/order/{o}"))).collect();
    let answer = Answer::json(200, &json!({ "orders": urls }));
    Ok(match more {
        true => {
            let next = service.url(&format!("/account/{id}/orders?after={}", skipped + ORDERS));
            answer.with("link", format!("<{next}>;rel=\"next\""))
        }
        false => answer,
    })
}
