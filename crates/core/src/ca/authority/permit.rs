//! More names for an authority: re-issued with the same key, subject and key identifier, so that everything it signed
//! stays valid.

use super::create::chain;
use super::limits;
use super::{CERTIFICATE_FILE, certificate_document};
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::pki::cert::Certificate;
use crate::pki::cert::profile::{Ca, name_constraints};
use crate::pki::key::SigningKey;
use crate::plan::ports::Entropy;
use crate::plan::step::Publication;
use crate::vocabulary::permit::Permit;
use const_oid::db::rfc5280::ID_CE_NAME_CONSTRAINTS as NAME_CONSTRAINTS;

/// What is permitted with these names added; None if all of them are permitted already.
///
/// Errors: constraints that Tamga does not write itself, and would lose a part of; an intermediate whose parent does not permit them.
pub fn wider(authority: &Authority, names: &[String], parent: Option<&Authority>) -> Result<Option<Permit>> {
    let Some(subtrees) = &authority.certificate.constraints else { return Ok(None) };
    if !subtrees.excluded.is_empty() {
        return Err(Error::Contradiction {
            what: format!("the constraints of {} cannot be widened", authority.label),
            why: "they exclude names as well, which Tamga does not write".into(),
            instead: "make an authority of its own: tamga authority create LABEL --permit NAME".into(),
        });
    }
    let before = limits::permit_of(subtrees);
    // What Tamga would write for these limits must be what stands there: else a limit that it does not model, such as one of a
    // directory name or of a single mailbox, would be lost with the new certificate.
    let written = name_constraints(&before)?.map(|e| e.extn_value);
    let stands = authority.certificate.extensions.iter().find(|e| e.extn_id == NAME_CONSTRAINTS);
    if written.as_ref() != stands.map(|e| &e.extn_value) {
        return Err(Error::Contradiction {
            what: format!("the constraints of {} cannot be widened", authority.label),
            why: "they have limits of a kind or in a form that Tamga does not write, and would lose them".into(),
            instead: "make an authority of its own: tamga authority create LABEL --permit NAME".into(),
        });
    }
    let mut after = before.clone();
    for typed in names {
        after.extend(typed)?;
    }
    if after == before {
        return Ok(None);
    }
    if let Some(parent) = parent {
        limits::within(&after, parent)?;
    }
    Ok(Some(after))
}

/// Signs the authority's certificate again: same key, subject, dates, path length; new serial and constraints.
/// `above` is the authority that signs, with its key; None for a root, which signs itself.
pub fn reissue(
    authority: &Authority,
    permit: &Permit,
    key: &dyn SigningKey,
    above: Option<(&Authority, &dyn SigningKey)>,
    entropy: &dyn Entropy,
) -> Result<Certificate> {
    let c = &authority.certificate;
    let links = above.map(|(parent, _)| parent.links.clone()).unwrap_or_default();
    let ca = Ca {
        subject: &c.subject,
        constraints: name_constraints(permit)?,
        path_length: c.basic.and_then(|b| b.path_length),
        from: c.not_before,
        until: c.not_after,
        links: &links,
    };
    match above {
        None => ca.self_sign(key, entropy),
        Some((parent, parent_key)) => ca.under(&c.key, &parent.certificate, parent_key, entropy),
    }
}

/// The file that changes: the certificate alone, the key stays as it is.
pub fn publication(authority: &Authority) -> Publication {
    Publication {
        folder: authority.folder.clone(),
        folder_mode: 0o700,
        documents: vec![certificate_document(CERTIFICATE_FILE, chain(authority))],
    }
}
