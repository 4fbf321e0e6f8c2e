//! A new root beside an old one, each certified by the other, so that clients which trust only one of them accept what the
//! other signed (RFC 4210 §4.4).

use super::HEAD_START;
use crate::ca::report::Authority;
use crate::error::Result;
use crate::pki::cert::Certificate;
use crate::pki::cert::profile::{Ca, Links};
use crate::pki::key::SigningKey;
use crate::plan::ports::Entropy;
use crate::vocabulary::timestamp::Timestamp;

/// The certificates that lead from one root to the other.
pub struct Crossed {
    /// The new key, certified by the old root: servers send it along while clients trust only the old one.
    pub new_by_old: Certificate,
    /// The old key, certified by the new root: for servers that still show old certificates to clients with the new one.
    pub old_by_new: Certificate,
}

/// Certifies each root with the other's key. Each keeps its own limits; none outlives its signer.
pub fn cross(
    old: &Authority,
    old_key: &dyn SigningKey,
    new: &Authority,
    new_key: &dyn SigningKey,
    now: Timestamp,
    entropy: &dyn Entropy,
) -> Result<Crossed> {
    let sign = |subject: &Certificate, by: &Authority, key: &dyn SigningKey| {
        Ca {
            subject: &subject.subject,
            constraints: subject.extensions.iter().find(|e| e.extn_id.to_string() == "2.5.29.30").cloned(),
            path_length: subject.basic.and_then(|b| b.path_length),
            from: now.plus(HEAD_START),
            until: subject.not_after.min(by.certificate.not_after),
            links: &Links::default(),
        }
        .under(&subject.key, &by.certificate, key, entropy)
    };
    Ok(Crossed { new_by_old: sign(&new.certificate, old, old_key)?, old_by_new: sign(&old.certificate, new, new_key)? })
}
