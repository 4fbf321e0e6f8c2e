//! Revocation lists against one certificate and its issuer (RFC 5280 §6.3.3), from lists that are at hand: none is ever fetched.

use crate::pki::cert::Certificate;
use crate::pki::cert::crl::{Crl, Revoked};
use crate::pki::cert::subject;
use crate::vocabulary::timestamp::Timestamp;

crate::words! {
    /// How much revocation lists count.
    #[derive(Default)]
    pub enum Revocation: "revocation policy" {
        /// Ignored.
        Off = "off",
        /// Honored where there is one.
        #[default]
        IfKnown = "if-known",
        /// Every certificate but the root needs one.
        Required = "required",
    }
}

/// What the lists say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Said {
    /// A list that counts does not name it.
    Good,
    /// A list that counts names it.
    Revoked(Revoked),
    /// No list counts, and why.
    Unknown(String),
}

/// What the lists say about a certificate under its issuer.
///
/// A list counts if it has the issuer's name, the issuer's key signed it and may sign lists, it is current, complete, and
/// without a critical extension that is not understood. Of several the latest decides, of one second the higher number.
///
/// `signers` are further certificates: an issuer may sign its lists with another key than its certificates, if a certificate of the same
/// name, which the issuer itself or what stands above it vouches for, says so (§6.3.3 (f)).
pub fn said(
    certificate: &Certificate,
    issuer: &Certificate,
    signers: &[&Certificate],
    lists: &[Crl],
    at: Timestamp,
) -> Said {
    let of_issuer: Vec<&Crl> = lists.iter().filter(|l| subject::same(&l.issuer, &issuer.subject)).collect();
    if of_issuer.is_empty() {
        return Said::Unknown(format!("no list of {} is at hand", issuer.subject_words()));
    }
    let mut why = String::new();
    let mut best: Option<&Crl> = None;
    for list in of_issuer {
        let vouched = |s: &&&Certificate| {
            subject::same(&s.subject, &issuer.subject)
                && s.key != issuer.key
                && (s.not_before..=s.not_after).contains(&at)
                && signers.iter().any(|above| subject::same(&above.subject, &s.issuer) && s.signed_by(above).is_ok())
        };
        let own = objection(list, issuer, at);
        let other = || signers.iter().filter(vouched).any(|s| objection(list, s, at).is_none());
        match own.filter(|_| !other()) {
            Some(objection) => why = format!("the list of {} does not count: {objection}", issuer.subject_words()),
            None if best.is_none_or(|b| (list.this_update, list.count()) > (b.this_update, b.count())) => {
                best = Some(list)
            }
            None => {}
        }
    }
    let Some(list) = best else { return Said::Unknown(why) };
    match list.entries.iter().find(|e| e.serial == certificate.serial) {
        Some(entry) if entry.at <= at => Said::Revoked(entry.clone()),
        _ => Said::Good,
    }
}

fn objection(list: &Crl, issuer: &Certificate, at: Timestamp) -> Option<String> {
    if issuer.usage.is_some_and(|u| !u.crl_sign) {
        return Some("its issuer's key may not sign lists (keyUsage)".into());
    }
    if list.signed_by(issuer).is_err() {
        return Some("its signature is not that of the issuer's key".into());
    }
    if list.this_update > at {
        return Some(format!("it begins only on {}", list.this_update.date()));
    }
    if list.next_update.is_some_and(|n| n < at) {
        return Some(format!("it ended on {}", list.next_update.map(|n| n.date()).unwrap_or_default()));
    }
    if list.partial {
        return Some("it covers only a part".into());
    }
    (!list.unknown_critical.is_empty()).then(|| "it has a critical extension that is not understood".into())
}
