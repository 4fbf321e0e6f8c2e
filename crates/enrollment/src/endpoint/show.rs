//! The protocol's objects as JSON (RFC 8555 section 7.1).

use crate::service::Service;
use serde_json::{Map, Value, json};
use tamga_core::enrollment::object::{Account, Authorization, Challenge, Order};
use tamga_core::enrollment::state::{AuthorizationState, ChallengeState, OrderState};

pub(super) fn account(service: &Service, a: &Account) -> Value {
    let mut out = Map::new();
    out.insert("status".into(), a.state.word().into());
    if !a.contact.is_empty() {
        out.insert("contact".into(), a.contact.clone().into());
    }
    out.insert("orders".into(), service.url(&format!("/account/{}/orders", a.id)).into());
    Value::Object(out)
}

pub(super) fn order(service: &Service, o: &Order) -> Value {
    let state = o.state(service.now());
    let of = |path: &str, id: i64| service.url(&format!("/{path}/{id}"));
    let mut out = Map::new();
    out.insert("status".into(), state.word().into());
    out.insert("expires".into(), o.expires.to_string().into());
    out.insert("identifiers".into(), json!(o.identifiers));
    let authorizations: Vec<String> = o.authorizations.iter().map(|a| of("authorization", a.id)).collect();
    out.insert("authorizations".into(), authorizations.into());
    out.insert("finalize".into(), format!("{}/finalize", of("order", o.id)).into());
    if state == OrderState::Valid {
        out.insert("certificate".into(), of("certificate", o.id).into());
    }
    let texts = [
        ("notBefore", o.not_before.map(|t| t.to_string())),
        ("notAfter", o.not_after.map(|t| t.to_string())),
        ("profile", o.profile.clone()),
        ("replaces", o.replaces.clone()),
    ];
    for (member, text) in texts {
        out.extend(text.map(|t| (member.to_owned(), t.into())));
    }
    out.extend(o.error.clone().map(|e| ("error".to_owned(), e)));
    Value::Object(out)
}

pub(super) fn authorization(service: &Service, a: &Authorization) -> Value {
    let state = a.state.at(a.expires, service.now());
    // Of one that is decided the challenge that decided it (section 7.1.4).
    let decided = |c: &&Challenge| {
        !matches!(state, AuthorizationState::Valid | AuthorizationState::Invalid) || c.state != ChallengeState::Pending
    };
    let challenges: Vec<Value> = a.challenges.iter().filter(decided).map(|c| challenge(service, c)).collect();
    let mut out = Map::new();
    out.insert("status".into(), state.word().into());
    out.insert("expires".into(), a.expires.to_string().into());
    out.insert("identifier".into(), json!(a.identifier.base()));
    if a.identifier.is_wildcard() {
        out.insert("wildcard".into(), true.into());
    }
    out.insert("challenges".into(), challenges.into());
    Value::Object(out)
}

pub(super) fn challenge(service: &Service, c: &Challenge) -> Value {
    let mut out = Map::new();
    out.insert("type".into(), c.kind.word().into());
    out.insert("url".into(), service.url(&format!("/challenge/{}", c.id)).into());
    out.insert("status".into(), c.state.word().into());
    out.insert("token".into(), c.token.clone().into());
    out.extend(c.validated.map(|t| ("validated".to_owned(), t.to_string().into())));
    out.extend(c.error.clone().map(|e| ("error".to_owned(), e)));
    Value::Object(out)
}
