//! A certificate that is no CA, in a store of roots: Tamga's own self-signed ones belong there, others do not.

use crate::env::Env;
use crate::failure::Result;
use tamga_core::error::Error;
use tamga_core::finding::Code;
use tamga_core::pki::cert::Certificate;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{Blocker, Root};

/// Stores whose clients take a server's own certificate for that very server. Browsers do not: their stores hold authorities.
const HOLD: [StoreId; 3] = [StoreId::System, StoreId::Bundle, StoreId::Java];

/// Why a store is no place for this certificate, and what to do instead; None if it may go there.
pub(super) fn hindrance(c: &Certificate, store: StoreId) -> Option<Blocker> {
    (!c.is_ca() && !HOLD.contains(&store)).then(|| Blocker {
        why: "it holds authorities only: a browser refuses a server's own certificate there".into(),
        remedy: "for browsers make a small authority: tamga setup NAME".into(),
        absent: false,
    })
}

/// The ledger's self-signed certificates: the only ones that are no CA and yet go into stores of roots unasked.
///
/// Errors: the ledger cannot be read.
pub fn own(env: &Env) -> Result<Vec<Root>> {
    let Some(ledger) = env.open_to_look()? else { return Ok(Vec::new()) };
    let issued = ledger.live_without_authority()?.into_iter();
    let alone = issued.filter(|i| i.certificate.is_self_signed() && i.certificate.basic.is_none());
    Ok(alone.map(|i| Root { label: i.label.clone(), certificate: i.certificate }).collect())
}

/// Says what to do instead, unless the person knows.
pub(super) fn objection(c: &Certificate, accepted: &[Code]) -> Result<()> {
    if accepted.contains(&Code::IntermediateNotACa) {
        return Ok(());
    }
    let instead = match c.is_self_signed() {
        true => {
            "for one call: curl --cacert FILE, NODE_EXTRA_CA_CERTS=FILE node, SSL_CERT_FILE=FILE python; better a small authority: tamga \
             setup NAME; or, knowing that Chromium or Firefox may refuse it: --accept intermediate-not-a-ca"
        }
        false => "put the root of its authority there: tamga trust add ROOT.pem",
    };
    Err(Error::Objection {
        code: Code::IntermediateNotACa.word(),
        what: format!("{} does not belong into a store of roots", c.subject_words()),
        why: "it is one server's own certificate and no CA: it vouches for nothing else".into(),
        instead: instead.into(),
    }
    .into())
}
