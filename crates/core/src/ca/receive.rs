//! Taking back what was signed elsewhere: to the key that waits, with its names compared and its chain completed.

use crate::ca::authority::create::chain;
use crate::ca::authority::import::above;
use crate::ca::report::Authority;
use crate::error::{Error, Result};
use crate::finding::{Code, Finding};
use crate::pki::cert::Certificate;
use crate::pki::cert::csr::Csr;
use crate::pki::cert::extensions::GeneralName;
use crate::vocabulary::label::Label;
use crate::vocabulary::timestamp::Timestamp;

/// What was received.
#[derive(Debug)]
pub struct Received {
    /// Leaf, then intermediates: what a server sends.
    pub chain: Vec<Certificate>,
    /// The root, if it is known.
    pub root: Option<Certificate>,
    /// The label of the authority that signed it, if it is ours.
    pub authority: Option<Label>,
    /// What should be said.
    pub findings: Vec<Finding>,
}

/// Finds the certificate of the waiting key among `found`, and what is above it among `found`, `more` and our authorities.
///
/// Errors: none of them belongs to the key; the certificate has expired; it could sign others.
pub fn receive(
    label: &str,
    waiting: &Csr,
    found: &[Certificate],
    more: &[Certificate],
    known: &[Authority],
    now: Timestamp,
) -> Result<Received> {
    let leaf = found.iter().find(|c| c.key == waiting.key).ok_or_else(|| Error::Objection {
        code: "key-mismatch",
        what: format!("no certificate in the file belongs to the key of {label}"),
        why: match found.first() {
            Some(c) => format!("it holds {}, whose key is another", c.subject_words()),
            None => "it holds no certificate".into(),
        },
        instead: "give the certificate that was signed from this request, or make a new request".into(),
    })?;
    if now > leaf.not_after {
        return Err(Error::Objection {
            code: Code::Expired.word(),
            what: format!("the certificate for {label} has expired already"),
            why: format!("it was valid until {}", leaf.not_after),
            instead: "have the request signed again".into(),
        });
    }
    let mut others: Vec<Certificate> = found.iter().chain(more).cloned().collect();
    others.extend(known.iter().flat_map(|a| chain(a).cloned()));
    let over = above(leaf, &others);
    let root = over.iter().find(|c| c.is_self_issued()).or(leaf.is_self_issued().then_some(leaf)).cloned();
    let mut findings = compare(leaf, waiting);
    if root.is_none() {
        let top = over.last().unwrap_or(leaf);
        findings.push(
            Finding::new(Code::ChainIncomplete, leaf.subject_words())
                .with_summary(format!(
                    "what signed {} ({}) is in none of the files",
                    top.subject_words(),
                    top.issuer_words()
                ))
                .with_remedy("give it: --intermediate FILE (repeatable; the root as well)")
                .as_note(),
        );
    }
    if leaf.is_ca() {
        findings.push(Finding::new(Code::CaAsLeaf, leaf.subject_words()));
    }
    let authority = known.iter().find(|a| leaf.signed_by(&a.certificate).is_ok()).map(|a| a.label.clone());
    let chain = std::iter::once(leaf).chain(over.iter().filter(|c| !c.is_self_issued())).cloned().collect();
    Ok(Received { chain, root, authority, findings })
}

fn compare(leaf: &Certificate, waiting: &Csr) -> Vec<Finding> {
    let mut out = Vec::new();
    let (has, asked) = (leaf.names.clone().unwrap_or_default(), waiting.wishes.names.clone().unwrap_or_default());
    let words = |list: Vec<&GeneralName>| list.iter().map(|g| g.words()).collect::<Vec<_>>().join(", ");
    let missing: Vec<&GeneralName> = asked.iter().filter(|n| !has.contains(n)).collect();
    if !missing.is_empty() {
        let missing = words(missing);
        out.push(
            Finding::new(Code::NamesMissing, missing.clone())
                .with_summary(format!("the certificate lacks {missing}, which the request asked for"))
                .with_remedy("if visitors use these names, have it signed again with them"),
        );
    }
    let added: Vec<&GeneralName> = has.iter().filter(|n| !asked.contains(n)).collect();
    if !added.is_empty() {
        out.push(
            Finding::new(Code::NotHonoured, words(added.clone()))
                .with_summary(format!("the certificate has {} besides what was asked for", words(added)))
                .with_remedy("nothing, if you know these names"),
        );
    }
    out
}
