//! Orders: taken if every name may be certified here, and shown (RFC 8555 sections 7.1.3 and 7.4).

use super::{missing, show};
use crate::answer::{Answer, Asked};
use crate::event::{Event, What};
use crate::service::{FromAccount, Result, Service, refuse};
use serde_json::{Map, Value};
use std::str::FromStr;
use tamga_core::ca::issue;
use tamga_core::enrollment::base64url;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::{Account, Invitation, NewOrder, Order};
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::enrollment::renewal;
use tamga_core::enrollment::state::OrderState;
use tamga_core::error::Diagnostic as _;
use tamga_core::pki::cert::extensions::serial_hex;
use tamga_core::plan::ports::Entropy as _;
use tamga_core::vocabulary::text::harmless;
use tamga_core::vocabulary::timestamp::Timestamp;
use tamga_host::entropy;

/// Upper bound on the names of an order.
const MOST_NAMES: usize = 100;
/// Upper bound on the open orders of an account.
const MOST_OPEN: u64 = 300;
/// So many certificates for the same names an account gets in [`STORM`] seconds: a client that renews in a circle is stopped.
const MOST_ALIKE: u64 = 5;
/// See [`MOST_ALIKE`].
const STORM: i64 = 3600;

pub(super) fn make(service: &Service, asked: &Asked<'_>) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    let wishes = request.object().map_err(Box::new)?;
    let identifiers = identifiers(&wishes)?;
    let profile = profile(service, &wishes)?;
    permitted(service, &account, &identifiers)?;
    let now = service.now();
    let life = service.settings.life_of(profile.as_deref()).unwrap_or(service.settings.life);
    let (not_before, not_after) = moments(&wishes, now, now.plus(life.seconds()))?;
    let (replaces, is_time) = match replaces(service, &wishes, &account, &identifiers)? {
        Some((id, is_time)) => (Some(id), is_time),
        None => (None, false),
    };
    let open = service.ledger().open_orders(account.id, now).map_err(|e| service.failed(&e))?;
    if open >= MOST_OPEN {
        let detail = format!("the account has {open} open orders: finish or wait; an order ends after a day");
        return Err(Box::new(Problem::new(ProblemType::RateLimited, detail).retry_after(3600)));
    }
    if !is_time {
        not_a_storm(service, &account, &identifiers, now)?;
    }
    let token = |_: &Identifier| {
        let mut octets = [0; 32];
        entropy::System.fill(&mut octets);
        base64url(&octets)
    };
    let tokens = identifiers.iter().map(token).collect();
    let new = NewOrder { account: account.id, identifiers, profile, not_before, not_after, replaces, tokens };
    let order = service.ledger().make_order(&new, now).map_err(|e| service.failed(&e))?;
    let names: Vec<String> = order.identifiers.iter().map(ToString::to_string).collect();
    service.tell(&Event {
        at: now,
        event: What::Ordered,
        account: Some(account.id),
        peer: Some(asked.peer),
        detail: format!("{} by account {}", names.join(", "), account.id),
        names,
    });
    Ok(located(service, 201, &order))
}

/// An order with its address.
pub(super) fn located(service: &Service, status: u16, order: &Order) -> Answer {
    Answer::json(status, &show::order(service, order)).with("location", service.url(&format!("/order/{}", order.id)))
}

/// The order of this number, if it is the account's.
pub(super) fn own(service: &Service, account: &Account, id: i64) -> Result<Order> {
    let order = service.ledger().order(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    match order.account == account.id {
        true => Ok(order),
        false => refuse(ProblemType::Unauthorized, "this order belongs to another account"),
    }
}

pub(super) fn at(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    reads_only(&request.payload)?;
    Ok(located(service, 200, &own(service, &account, id)?))
}

/// Refuses what would change something that cannot be changed. An empty object says nothing, and is taken for nothing.
pub(super) fn reads_only(payload: &[u8]) -> Result<()> {
    match payload {
        b"" | b"{}" => Ok(()),
        _ => Err(Box::new(Problem::malformed("this can only be read: the payload is empty (RFC 8555 section 6.3)"))),
    }
}

fn identifiers(wishes: &Map<String, Value>) -> Result<Vec<Identifier>> {
    let Some(all) = wishes.get("identifiers").and_then(Value::as_array).filter(|a| !a.is_empty()) else {
        return Err(Box::new(Problem::malformed("an order names at least one identifier")));
    };
    if all.len() > MOST_NAMES {
        return Err(Box::new(Problem::malformed(format!("an order names at most {MOST_NAMES} identifiers"))));
    }
    let (mut out, mut wrong) = (Vec::new(), Vec::new());
    for one in all {
        match Identifier::parse(one) {
            Ok(name) if out.contains(&name) => {}
            Ok(name) => out.push(name),
            Err(e) => wrong.push(Problem::from(e)),
        }
    }
    Problem::of_all(wrong).map_or(Ok(out), |p| Err(Box::new(p)))
}

fn profile(service: &Service, wishes: &Map<String, Value>) -> Result<Option<String>> {
    match wishes.get("profile") {
        None | Some(Value::Null) => Ok(None),
        Some(Value::String(text)) if text.is_empty() => Ok(None),
        Some(Value::String(text)) if service.settings.life_of(Some(text)).is_some() => Ok(Some(text.clone())),
        Some(other) => {
            let typed = other.as_str().map_or_else(|| other.to_string(), str::to_owned);
            let detail = format!("there is no profile {}: see meta.profiles in the directory", harmless(&typed));
            refuse(ProblemType::InvalidProfile, detail)
        }
    }
}

/// Every name must be one that the authority may certify, that the service is for, and that the account was invited for. Nothing is connected
/// to before that.
fn permitted(service: &Service, account: &Account, names: &[Identifier]) -> Result<()> {
    let invitation: Option<Invitation> = match &account.invitation {
        Some(key_id) => service.ledger().invitation(key_id).map_err(|e| service.failed(&e))?,
        None => None,
    };
    let signing = service.signing();
    let mut wrong = Vec::new();
    for identifier in names {
        let name = identifier.name();
        let allowed = service.settings.allow.as_ref().is_none_or(|a| a.allows(&name));
        let why = match issue::names_within(std::slice::from_ref(&name), &signing.authority) {
            Err(e) => Some(format!("{identifier} is not certified here: {}", e.why())),
            Ok(()) if !allowed => {
                Some(format!("{identifier} is not certified here: the service is set up for other names (--allow)"))
            }
            Ok(()) if invitation.as_ref().is_some_and(|i| !i.allows(&name)) => {
                Some(format!("{identifier} is not certified for this account: its invitation is for other names"))
            }
            Ok(()) => None,
        };
        wrong.extend(why.map(|w| Problem::new(ProblemType::RejectedIdentifier, w).about(identifier.clone())));
    }
    Problem::of_all(wrong).map_or(Ok(()), |p| Err(Box::new(p)))
}

/// The moments that were asked for, if they can be had.
fn moments(
    wishes: &Map<String, Value>,
    now: Timestamp,
    latest: Timestamp,
) -> Result<(Option<Timestamp>, Option<Timestamp>)> {
    let read = |member: &str| -> Result<Option<Timestamp>> {
        match wishes.get(member) {
            None | Some(Value::Null) => Ok(None),
            Some(Value::String(text)) if text.is_empty() => Ok(None),
            Some(Value::String(text)) => match Timestamp::from_str(text) {
                Ok(at) => Ok(Some(at)),
                Err(_) => Err(Box::new(Problem::malformed(format!("{member} is no time (RFC 3339)")))),
            },
            Some(_) => Err(Box::new(Problem::malformed(format!("{member} is no time (RFC 3339)")))),
        }
    };
    let (from, until) = (read("notBefore")?, read("notAfter")?);
    let refused = |why: String| Err(Box::new(Problem::malformed(why)));
    if from.is_some_and(|f| f < now.plus(-86_400) || f > latest) {
        return refused(format!("notBefore lies between yesterday and {latest} here: leave it away"));
    }
    if until.is_some_and(|u| u > latest || u <= from.unwrap_or(now)) {
        return refused(format!("notAfter is at most {latest} here, and later than notBefore: leave it away"));
    }
    Ok((from, until))
}

/// RFC 9773 section 5: the certificate is the account's, shares a name, and is not replaced yet. Also whether it is time to replace it.
fn replaces(
    service: &Service,
    wishes: &Map<String, Value>,
    account: &Account,
    names: &[Identifier],
) -> Result<Option<(String, bool)>> {
    let id = match wishes.get("replaces") {
        None | Some(Value::Null) => return Ok(None),
        Some(Value::String(text)) if text.is_empty() => return Ok(None),
        Some(Value::String(text)) => text,
        Some(_) => return Err(Box::new(Problem::malformed("replaces is a text (RFC 9773 section 5)"))),
    };
    let unknown = || Box::new(Problem::malformed("replaces names no certificate of this service"));
    let (issuer, serial) = renewal::read_id(id).ok_or_else(unknown)?;
    let ledger = service.ledger();
    let found = ledger.by_number(&serial_hex(&serial)).map_err(|e| service.failed(&e))?;
    let is_meant = |c: &tamga_core::ca::report::Issued| c.certificate.issuer_key_identifier.as_ref() == Some(&issuer);
    let before = found.into_iter().find(is_meant).ok_or_else(unknown)?;
    let whose = ledger.enrolled(&before.certificate.sha256()).map_err(|e| service.failed(&e))?;
    if whose.is_none_or(|w| w.account != account.id) {
        return refuse(ProblemType::Unauthorized, "replaces names a certificate of another account");
    }
    let words = before.certificate.name_words();
    if !names.iter().any(|n| words.contains(&n.to_string())) {
        return Err(Box::new(Problem::malformed("replaces names a certificate for other names")));
    }
    if let Some(other) = ledger.replaced_by(id).map_err(|e| service.failed(&e))? {
        // An order that came to nothing replaces nothing.
        let other = ledger.order(other).map_err(|e| service.failed(&e))?;
        if other.is_some_and(|o| o.state(service.now()) != OrderState::Invalid) {
            return refuse(ProblemType::AlreadyReplaced, "that certificate is replaced by another order already");
        }
    }
    let (from, _) = renewal::window(&before.certificate, before.revoked.is_some(), service.now());
    Ok(Some((id.clone(), service.now() >= from)))
}

fn not_a_storm(service: &Service, account: &Account, names: &[Identifier], now: Timestamp) -> Result<()> {
    let (count, first) =
        service.ledger().issued_since(account.id, names, now.plus(-STORM)).map_err(|e| service.failed(&e))?;
    if count < MOST_ALIKE {
        return Ok(());
    }
    let wait = first.map_or(STORM, |f| (f.unix() + STORM - now.unix()).clamp(1, STORM));
    let detail = format!(
        "this account got {count} certificates for the same names within an hour: its client renews in a circle, or its renewal time is longer than the certificate's life"
    );
    Err(Box::new(Problem::new(ProblemType::RateLimited, detail).retry_after(wait.unsigned_abs())))
}
