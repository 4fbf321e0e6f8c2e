//! Authorizations and their challenges (RFC 8555 sections 7.1.4, 7.5, 8).

use super::{missing, show};
use crate::answer::{Answer, Asked};
use crate::service::{FromAccount, Result, Service, refuse};
use serde_json::Value;
use tamga_core::enrollment::object::Authorization;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::enrollment::state::{AuthorizationState, ChallengeState};

/// Looks at an authorization, or gives it up.
pub(super) fn at(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    let found = service.ledger().authorization(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    own(&found, account.id)?;
    if !request.payload.is_empty() && request.payload != b"{}" {
        let wishes = request.object().map_err(Box::new)?;
        let wanted = wishes.get("status").and_then(Value::as_str);
        if wanted != Some(AuthorizationState::Deactivated.word()) {
            return Err(Box::new(Problem::malformed("an authorization can be read, or deactivated")));
        }
        service.ledger().deactivate(id).map_err(|e| service.failed(&e))?;
    }
    let now = service.ledger().authorization(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    Ok(Answer::json(200, &show::authorization(service, &now)))
}

fn own(found: &Authorization, account: i64) -> Result<()> {
    match found.account == account {
        true => Ok(()),
        false => refuse(ProblemType::Unauthorized, "this authorization belongs to another account"),
    }
}

/// Looks at a challenge, or says that its answer is in place: then it is looked at.
pub(super) fn challenge(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    let (found, of) = service.ledger().challenge(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    own(&of, account.id)?;
    if !request.payload.is_empty() {
        // Its members are ignored: older clients write the key authorization there.
        request.object().map_err(Box::new)?;
        let state = of.state.at(of.expires, service.now());
        match (state, found.state) {
            (AuthorizationState::Pending, ChallengeState::Pending) => {
                let others = of.challenges.iter().any(|c| c.state == ChallengeState::Processing);
                if others {
                    return Err(Box::new(Problem::malformed("another challenge of this name is being looked at")));
                }
                let begun = service.ledger().begin_challenge(id).map_err(|e| service.failed(&e))?;
                if begun {
                    service.look_at(id);
                }
            }
            // Said twice, or decided: it is shown as it is.
            (_, ChallengeState::Processing | ChallengeState::Valid | ChallengeState::Invalid) => {}
            (state, ChallengeState::Pending) => {
                return Err(Box::new(Problem::malformed(format!("the authorization is {state}: order again"))));
            }
        }
    }
    let (now, _) = service.ledger().challenge(id).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    let up = service.url(&format!("/authorization/{}", of.id));
    Ok(Answer::json(200, &show::challenge(service, &now)).with("link", format!("<{up}>;rel=\"up\"")))
}
