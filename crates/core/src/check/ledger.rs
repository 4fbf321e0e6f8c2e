//! What is served, compared with what the ledger has for these names.

use crate::ca::report::{Issued, Life};
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::chain::name_match;
use crate::vocabulary::name::Name;
use crate::vocabulary::text::Shown;

/// What is served, and what the ledger has.
pub(super) struct Served<'a> {
    /// The chain, leaf first.
    pub(super) chain: &'a [Certificate],
    /// The hosts under which it is visited.
    pub(super) names: &'a [Name],
    /// The ledger's certificates for them.
    pub(super) issued: &'a [Issued],
    /// True for one of these whose key never was here.
    pub(super) keyless: &'a dyn Fn(&Issued) -> bool,
    /// True if a server sent it.
    pub(super) live: bool,
}

/// Is this the certificate that was issued for the name?
pub(super) fn compared(q: &Served<'_>) -> Vec<Finding> {
    let mut out = Vec::new();
    let Some(leaf) = q.chain.first() else { return out };
    if let Some((i, r)) = q.issued.iter().filter(|i| i.certificate == *leaf).find_map(|i| Some((i, i.revoked?))) {
        out.push(
            Finding::new(Code::Revoked, leaf.subject_words())
                .with_summary(format!(
                    "it was revoked on {} ({}); no client here checks for that",
                    r.at.date(),
                    r.reason.word()
                ))
                .with_remedy(format!("tamga renew {}, then reload the server", i.label)),
        );
    }
    if !q.live {
        return out;
    }
    for name in q.names {
        let meant: Vec<&Issued> = q
            .issued
            .iter()
            .filter(|i| i.is_live() && name_match::covers(&i.certificate, name, name_match::STRICT))
            .collect();
        let Some(right) = meant.last() else { continue };
        if meant.iter().any(|i| i.certificate == *leaf) {
            continue;
        }
        let other = q.issued.iter().find(|i| i.certificate == *leaf);
        if let Some(i) = other.filter(|i| i.life == Life::Superseded && i.label == right.label) {
            out.push(
                Finding::new(Code::RenewedNotDeployed, name.to_string())
                    .with_summary(format!(
                        "the server still shows the certificate of {} from before it was renewed; the new one lies in {}",
                        i.label,
                        right.folder.shown()
                    ))
                    .with_remedy("reload the server; if its files lie elsewhere, put the new ones there first"),
            );
            continue;
        }
        let shown = match other {
            Some(i) if i.life == Life::Superseded => format!("the earlier certificate of {}", i.label),
            Some(i) => format!("the certificate {}", i.label),
            None if leaf.is_self_signed() => format!("a certificate of its own ({})", leaf.issuer_words()),
            None => format!("a certificate of {}", leaf.issuer_words()),
        };
        // Its key is elsewhere, so its files are too: a device takes a certificate, and is content with the old one until the other is chosen.
        let remedy = match (q.keyless)(right) {
            true => format!(
                "on the device, choose the certificate of {} for its web service (to upload it is not enough), save, and restart it",
                right.label
            ),
            false => format!("point the server to {} and reload it", right.folder.shown()),
        };
        out.push(
            Finding::new(Code::NotTheIssuedCertificate, name.to_string())
                .with_summary(format!(
                    "the server shows {shown}; for {name} the certificate {} was issued",
                    right.label
                ))
                .with_remedy(remedy),
        );
    }
    out
}
