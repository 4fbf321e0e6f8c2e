//! Issuing (RFC 8555 sections 7.4 and 7.4.2): the certificate and the order's end are one commit, so that no certificate is issued that the
//! ledger does not have, and none is reported that is lost.

use super::{missing, order};
use crate::answer::{Answer, Asked, CHAIN};
use crate::event::{Event, What};
use crate::service::{FromAccount, Result, Service, refuse};
use serde_json::Value;
use std::path::PathBuf;
use tamga_core::ca::issue::{self, Holder, Signer};
use tamga_core::ca::report::{Authority, Issued, Life};
use tamga_core::enrollment::csr;
use tamga_core::enrollment::from_base64url;
use tamga_core::enrollment::identifier::Identifier;
use tamga_core::enrollment::object::Order;
use tamga_core::enrollment::problem::{Problem, ProblemType};
use tamga_core::enrollment::state::{OrderState, Recorded};
use tamga_core::error::Diagnostic as _;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::csr::Csr;
use tamga_core::pki::format::pem;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_host::entropy;

pub(super) fn finalize(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    let found = order::own(service, &account, id)?;
    let wishes = request.object().map_err(Box::new)?;
    let state = found.state(service.now());
    if state != OrderState::Ready {
        let detail = match state {
            OrderState::Pending => "the order is pending: prove its names first",
            OrderState::Valid => "the certificate is issued already: fetch it",
            OrderState::Processing => "the certificate is being issued",
            _ => "the order is over: order again",
        };
        return refuse(ProblemType::OrderNotReady, detail);
    }
    let Some(text) = wishes.get("csr").and_then(Value::as_str) else {
        return Err(Box::new(Problem::malformed("csr is missing: the certificate request, DER as base64url")));
    };
    let bad = || Box::new(Problem::new(ProblemType::BadCsr, "the certificate request is not base64url of DER"));
    let der = from_base64url(text).ok_or_else(bad)?;
    let csr = csr::judge(&der, &found.identifiers, &account.key).map_err(Box::new)?;
    let issued = sign(service, &found, &csr)?;
    let (names, sha256) = (issued.certificate.name_words(), issued.certificate.sha256());
    let recorded = service.ledger().issue(id, &issued, service.now()).map_err(|e| service.failed(&e))?;
    if recorded {
        let c = &issued.certificate;
        service.tell(&Event {
            at: service.now(),
            event: What::Issued,
            account: Some(account.id),
            peer: Some(asked.peer),
            detail: format!(
                "{} to account {}, until {}, serial {}",
                names.join(", "),
                account.id,
                c.not_after.date(),
                c.serial
            ),
            names,
        });
    }
    let ended = match recorded {
        true => Order { recorded: Recorded::Issued, certificate: Some(sha256), ..found },
        // Of two requests at once the second finds the first one's certificate.
        false => order::own(service, &account, id)?,
    };
    Ok(order::located(service, 200, &ended))
}

/// The certificate for an order, not yet recorded.
fn sign(service: &Service, order: &Order, csr: &Csr) -> Result<Issued> {
    let signing = service.signing();
    let names: Vec<Name> = order.identifiers.iter().map(Identifier::name).collect();
    let life = service.settings.life_of(order.profile.as_deref()).unwrap_or(service.settings.life);
    let label = label(service, order, &names)?;
    let request = issue::Request {
        from: order.not_before,
        valid_for: life,
        until: order.not_after,
        ..issue::Request::server(names, label.clone(), PathBuf::new())
    };
    let signer = Signer::Authority(&signing.authority, &*signing.key);
    let made = issue::make(&request, &Holder::Public(&csr.key), &signer, b"", service.now(), &entropy::System);
    let made = made.map_err(|e| {
        service.failed(&format!("{}: {}", e.what(), e.why()));
        Box::new(Problem::new(
            ProblemType::ServerInternal,
            format!("no certificate can be issued: {}; tell the administrator of this service", e.why()),
        ))
    })?;
    Ok(Issued {
        label,
        certificate: made.certificate,
        authority: Some(signing.authority.label.clone()),
        folder: PathBuf::new(),
        life: Life::Live,
        host: None,
        revoked: None,
    })
}

/// The label under which the ledger keeps it: that of the certificate which it renews; else one of its first name, where nothing else has that.
fn label(service: &Service, order: &Order, names: &[Name]) -> Result<Label> {
    let ledger = service.ledger();
    let failed = |e: tamga_host::error::Error| service.failed(&e);
    if let Some(before) = ledger.enrolled_label(order.account, &order.identifiers).map_err(failed)? {
        return Ok(before);
    }
    let usual = names.first().and_then(|n| n.label().ok());
    if let Some(usual) = usual {
        if !ledger.is_taken(&usual).map_err(failed)? {
            return Ok(usual);
        }
        // Numbered by its order, which no other certificate has.
        if let Ok(numbered) = Label::from_text(&format!("{usual}-{}", order.id)) {
            return Ok(numbered);
        }
    }
    Label::from_text(&format!("enrolled-{}", order.id)).map_err(|e| service.failed(&e))
}

/// The chain: leaf first, without the root (section 9.1).
pub(super) fn certificate(service: &Service, asked: &Asked<'_>, id: i64) -> Result<Answer> {
    let FromAccount { account, request } = service.by_account(asked)?;
    order::reads_only(&request.payload)?;
    let found = order::own(service, &account, id)?;
    let sha256 = found.certificate.ok_or_else(missing)?;
    let issued = service.ledger().by_fingerprint(&sha256).map_err(|e| service.failed(&e))?.ok_or_else(missing)?;
    let signing = service.signing();
    let with: Vec<Certificate> = match &issued.authority {
        Some(a) if *a == signing.authority.label => signing.authority.served_with(),
        Some(a) => {
            let all = service.ledger().authorities().map_err(|e| service.failed(&e))?;
            all.iter().find(|known| known.label == *a).map(Authority::served_with).unwrap_or_default()
        }
        None => Vec::new(),
    };
    let chain = std::iter::once(&issued.certificate).chain(&with);
    let text: String = chain.map(|c| pem::write(pem::CERTIFICATE, c.der()).to_string()).collect();
    Ok(Answer::text(200, CHAIN, text))
}
