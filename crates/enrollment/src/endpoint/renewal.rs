//! Renewal information (RFC 9773): read by anybody.

use super::missing;
use crate::answer::Answer;
use crate::service::{Result, Service};
use serde_json::json;
use tamga_core::enrollment::problem::Problem;
use tamga_core::enrollment::renewal;
use tamga_core::pki::cert::extensions::serial_hex;

pub(super) fn information(service: &Service, id: &str) -> Result<Answer> {
    let malformed = || Box::new(Problem::malformed("this is no certificate id (RFC 9773 section 4.1)"));
    let (issuer, serial) = renewal::read_id(id).ok_or_else(malformed)?;
    let found = service.ledger().by_number(&serial_hex(&serial)).map_err(|e| service.failed(&e))?;
    let issued = found
        .into_iter()
        .find(|i| i.certificate.issuer_key_identifier.as_ref() == Some(&issuer) && i.is_enrolled())
        .ok_or_else(missing)?;
    // One whose issuer signs no more is best renewed at once too: its successor has another root to trust, and time is needed.
    let is_superseded = issued.authority.as_ref() != Some(&service.signing().authority.label);
    let (start, end) = renewal::window(&issued.certificate, issued.revoked.is_some() || is_superseded, service.now());
    let body = json!({ "suggestedWindow": { "start": start.to_string(), "end": end.to_string() } });
    Ok(Answer::json(200, &body).with("retry-after", renewal::ASK_AGAIN.to_string()))
}
