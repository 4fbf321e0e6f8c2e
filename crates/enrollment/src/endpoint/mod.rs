//! One file for each thing that can be asked.

mod account;
mod authorization;
mod finalize;
mod key_change;
mod order;
mod renewal;
mod revoke;
mod show;

use crate::answer::{Answer, Asked};
use crate::event::{Event, What};
use crate::nonce;
use crate::service::{Result, Service, number};
use crate::settings;
use serde_json::json;
use tamga_core::enrollment::problem::{Problem, ProblemType};

impl Service {
    /// Answers a request.
    pub fn answer(&self, asked: &Asked<'_>) -> Answer {
        let path = asked.path.split('?').next().unwrap_or_default();
        let answer = match found(self, asked, path) {
            Ok(answer) => answer,
            Err(problem) => {
                self.metrics.refused(problem.kind);
                // A nonce that was used, and the question whether there is an account, are how the protocol works.
                let is_usual = matches!(problem.kind, ProblemType::BadNonce | ProblemType::AccountDoesNotExist);
                if asked.method == "POST" && !is_usual {
                    self.tell(&Event {
                        at: self.now(),
                        event: What::Refused,
                        account: None,
                        peer: Some(asked.peer),
                        names: problem.identifier.iter().map(ToString::to_string).collect(),
                        detail: format!("{path}: {}: {}", problem.kind, problem.detail),
                    });
                }
                Answer::from(*problem)
            }
        };
        self.metrics.answered(answer.status);
        let answer = answer
            .with("link", format!("<{}>;rel=\"index\"", self.url("/directory")))
            .with("cache-control", "no-store")
            .with("x-content-type-options", "nosniff");
        match asked.method == "POST" || path == "/new-nonce" {
            true => answer.with("replay-nonce", nonce::make(&self.secret, self.now())),
            false => answer,
        }
    }
}

/// Finds the endpoint by path and method.
fn found(service: &Service, asked: &Asked<'_>, path: &str) -> Result<Answer> {
    let parts: Vec<&str> = path.strip_prefix('/').unwrap_or_default().split('/').collect();
    let reads = matches!(asked.method, "GET" | "HEAD");
    let of = |text: &str| number(text).ok_or_else(missing);
    match (parts.as_slice(), asked.method) {
        (["directory"], _) if reads => Ok(directory(service)),
        (["directory"], "POST") => service.by_account(asked).map(|_| directory(service)),
        (["new-nonce"], "HEAD") => Ok(Answer::empty(200)),
        (["new-nonce"], "GET") => Ok(Answer::empty(204)),
        (["new-nonce"], "POST") => service.by_account(asked).map(|_| Answer::empty(204)),
        (["new-account"], "POST") => account::make(service, asked),
        (["account", id], "POST") => account::at(service, asked, of(id)?),
        (["account", id, "orders"], "POST") => account::orders(service, asked, of(id)?),
        (["key-change"], "POST") => key_change::change(service, asked),
        (["new-order"], "POST") => order::make(service, asked),
        (["order", id], "POST") => order::at(service, asked, of(id)?),
        (["order", id, "finalize"], "POST") => finalize::finalize(service, asked, of(id)?),
        (["authorization", id], "POST") => authorization::at(service, asked, of(id)?),
        (["challenge", id], "POST") => authorization::challenge(service, asked, of(id)?),
        (["certificate", id], "POST") => finalize::certificate(service, asked, of(id)?),
        (["revoke-certificate"], "POST") => revoke::revoke(service, asked),
        (["renewal-info", id], _) if reads => renewal::information(service, id),
        (["health"], _) if reads => health(service),
        (["metrics"], _) if reads => metrics(service),
        ([""], _) if reads => Ok(about(service)),
        (known, _) => match methods(known) {
            Some(allow) => {
                let problem = Problem::malformed(format!("this address takes {allow} (RFC 8555 section 6.3)"));
                Ok(Answer::from(problem.with_status(405)).with("allow", allow))
            }
            None => Err(missing()),
        },
    }
}

/// The methods that something takes; None where there is nothing.
fn methods(parts: &[&str]) -> Option<&'static str> {
    match parts {
        ["directory" | "new-nonce"] => Some("GET, HEAD, POST"),
        ["" | "health" | "metrics"] | ["renewal-info", _] => Some("GET, HEAD"),
        ["new-account" | "new-order" | "key-change" | "revoke-certificate"]
        | ["account" | "order" | "authorization" | "challenge" | "certificate", _]
        | ["order", _, "finalize"]
        | ["account", _, "orders"] => Some("POST"),
        _ => None,
    }
}

/// That there is nothing at an address.
pub(crate) fn missing() -> Box<Problem> {
    Box::new(Problem::malformed("there is nothing at this address").with_status(404))
}

/// RFC 8555 section 7.1.1.
fn directory(service: &Service) -> Answer {
    let s = &service.settings;
    Answer::json(
        200,
        &json!({
            "newNonce": service.url("/new-nonce"),
            "newAccount": service.url("/new-account"),
            "newOrder": service.url("/new-order"),
            "revokeCert": service.url("/revoke-certificate"),
            "keyChange": service.url("/key-change"),
            "renewalInfo": service.url("/renewal-info"),
            "meta": {
                "externalAccountRequired": s.by_invitation,
                "website": service.url("/"),
                "caaIdentities": [s.host],
                "profiles": {
                    settings::USUAL: format!("valid for {} days", s.life.whole_days()),
                    settings::SHORT_PROFILE: format!("valid for {} days, for clients that renew by themselves every few days",
                        s.life_of(Some(settings::SHORT_PROFILE)).unwrap_or(s.life).whole_days()),
                },
            },
        }),
    )
}

fn about(service: &Service) -> Answer {
    let text = format!(
        "This is a certificate enrollment service (RFC 8555).\nIts directory, which clients are given, is {}\n",
        service.url("/directory")
    );
    Answer::text(200, "text/plain; charset=utf-8", text)
}

fn health(service: &Service) -> Result<Answer> {
    // A client is served only if the ledger can be read, so it is read.
    service.ledger().open_orders(0, service.now()).map_err(|e| service.failed(&e))?;
    Ok(Answer::json(200, &json!({ "status": "ok" })))
}

fn metrics(service: &Service) -> Result<Answer> {
    let now = service.now();
    let (live, soon) = service.ledger().enrolled_count(now.plus(30 * 86_400)).map_err(|e| service.failed(&e))?;
    let ends = service.signing().authority.certificate.not_after;
    let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let text = service.metrics.text(&[
        ("tamga_enrollment_certificates", "Enrolled certificates that are the current ones.", number(live)),
        ("tamga_enrollment_certificates_ending", "Of these, those that end within 30 days.", number(soon)),
        (
            "tamga_enrollment_authority_ends_seconds",
            "When the issuing certificate ends, seconds since 1970.",
            ends.unix(),
        ),
    ]);
    Ok(Answer::text(200, crate::metrics::MEDIA_TYPE, text))
}
