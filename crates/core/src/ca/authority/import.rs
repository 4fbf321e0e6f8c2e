//! A CA made elsewhere: everything checked before it is taken in.

use super::create::{AuthorityKey, chain, publication};
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::key::Strength;
use crate::pki::signature;
use crate::plan::ports::Entropy;
use crate::plan::step::Publication;
use crate::vocabulary::purpose::Purpose;
use crate::vocabulary::timestamp::Timestamp;

/// Orders the certificates of a file above the first: each the issuer of the one before. What does not belong is left out.
pub fn above(first: &Certificate, others: &[Certificate]) -> Vec<Certificate> {
    let mut out: Vec<Certificate> = Vec::new();
    let mut top = first;
    while !top.is_self_issued() {
        let next = others.iter().find(|c| *c != first && !out.contains(c) && top.signed_by(c).is_ok());
        let Some(next) = next else { break };
        out.push(next.clone());
        top = next;
    }
    out
}

/// Judges a CA's certificate: what hinders it from signing is refused unless accepted, what is only unusual is noted.
///
/// Errors: it is no CA, may not sign certificates, has expired, is signed by another key than it says.
pub fn examine(c: &Certificate, above: &[Certificate], now: Timestamp, accepted: &[Code]) -> Result<Vec<Finding>> {
    let what = c.subject_words();
    let objection = |code: Code, why: String, instead: &str| Error::Objection {
        code: code.word(),
        what: format!("{what} cannot be taken in as an authority"),
        why,
        instead: instead.to_owned(),
    };
    if !c.is_ca() {
        let why = "it is no CA: basicConstraints do not say CA:TRUE (RFC 5280 §4.2.1.9)".into();
        return Err(objection(Code::IntermediateNotACa, why, "give the CA's own certificate with --certificate"));
    }
    if c.usage.is_some_and(|u| !u.key_cert_sign) {
        let why = "its key usage lacks keyCertSign: clients refuse what it signs (RFC 5280 §4.2.1.3)".into();
        return Err(objection(Code::KeyUsageMissing, why, "make a new authority: tamga authority create LABEL"));
    }
    if let Some(oid) = c.broken.first() {
        let why = format!("its extension {oid} does not parse, or stands twice");
        return Err(objection(Code::Malformed, why, "make a new authority: tamga authority create LABEL"));
    }
    if c.is_self_issued() && c.signed_by(c).is_err() {
        let why = "it names itself as its issuer, but its signature was made by another key".into();
        return Err(objection(Code::BadSignature, why, "look where the file comes from: it was changed or mixed up"));
    }
    if now > c.not_after && !accepted.contains(&Code::IssuerExpired) {
        let why = format!("it ended on {}", c.not_after);
        return Err(objection(
            Code::IssuerExpired,
            why,
            "to keep its records all the same: --accept issuer-expired; else make a new authority",
        ));
    }
    let weak_key = matches!(c.key.strength(), Strength::Rsa(bits) if bits < 2048);
    if weak_key && !accepted.contains(&Code::WeakKey) {
        let why = format!("its key is {}: OpenSSL and others refuse what it signs", c.key.strength());
        return Err(objection(Code::WeakKey, why, "make a new authority; or, knowing this, --accept weak-key"));
    }
    let mut findings = Vec::new();
    let mut note = |code: Code, summary: &str, remedy: &str| {
        findings.push(Finding::new(code, what.clone()).with_summary(summary).with_remedy(remedy).as_note());
    };
    if c.constraints.is_none() && above.iter().all(|a| a.constraints.is_none()) {
        note(
            Code::Unconstrained,
            "it has no name constraints: anyone who steals its key can impersonate any site to those who trust it",
            "widen nothing further; for a lab make one with limits: tamga authority create LABEL",
        );
    }
    if c.basic.is_some_and(|b| !b.critical) || c.usage.is_none() || c.key_identifier.is_none() {
        note(
            Code::KeyUsageMissing,
            "it lacks critical basicConstraints, a key usage or a key identifier: Python 3.13 and later refuse it",
            "make a successor: tamga authority rollover OLD NEW",
        );
    }
    if signature::is_weak(&c.algorithm.oid) && !c.is_self_issued() {
        note(Code::WeakSignature, "its own signature uses SHA-1 or MD5", "have the authority above sign it again");
    }
    if above.last().unwrap_or(c).is_self_issued() {
        return Ok(findings);
    }
    note(
        Code::ChainIncomplete,
        "the root above it is not in the file: certificates will come without a root.pem",
        "append the certificates above it, up to the root, to the file",
    );
    Ok(findings)
}

/// The authority with its files. The key is its own: checked before.
pub fn make(authority: Authority, key: AuthorityKey<'_>, entropy: &dyn Entropy) -> Result<(Authority, Publication)> {
    let authority = Authority { key: key.place(), ..authority };
    let publication = publication(&authority, key, entropy)?;
    Ok((authority, publication))
}

/// What a CA made elsewhere may issue for: what its extended key usage says, else servers and clients.
pub fn purposes(authority: &Authority) -> Vec<Purpose> {
    let listed: Vec<Purpose> = Purpose::ALL
        .into_iter()
        .filter(|p| chain(authority).all(|c| c.purposes.as_ref().is_none_or(|l| l.contains(&p.oid()))))
        .collect();
    match chain(authority).any(|c| c.purposes.is_some()) {
        true => listed,
        false => vec![Purpose::Server, Purpose::Client],
    }
}
