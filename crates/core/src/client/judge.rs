//! The judgement of one chain under one client's policy: rules × policy = faults.

use crate::cert::Certificate;
use crate::cert::crl::Crl;
use crate::cert::subject;
use crate::chain::path;
use crate::chain::revocation::Revocation;
use crate::client::Policy;
use crate::client::rules::Case;
use crate::finding::Code;
use crate::moment::Moment;
use crate::name::Name;
use crate::purpose::Purpose;

/// What is judged. Time is part of the input.
#[derive(Clone, Copy, Debug)]
pub struct Input<'a> {
    /// What the server sent, leaf first.
    pub served: &'a [Certificate],
    /// Further intermediates that the client may know.
    pub extra: &'a [Certificate],
    /// The roots that the client trusts.
    pub anchors: &'a [Certificate],
    /// SHA-256 fingerprints that the client distrusts.
    pub distrusted: &'a [String],
    /// SHA-256 of the public keys that it distrusts, whatever certificate they are in.
    pub distrusted_keys: &'a [String],
    /// The host asked for; None leaves names out.
    pub name: Option<&'a Name>,
    /// The purpose; None leaves it out.
    pub purpose: Option<Purpose>,
    /// Judged as of then.
    pub at: Moment,
    /// Revocation lists that are at hand.
    pub lists: &'a [Crl],
    /// How much they count.
    pub revocation: Revocation,
}

/// Which of several things that bear one code it is; clients have words of their own for some.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Fine {
    /// Nothing more is to be said.
    #[default]
    Plain,
    /// The issuer is not yet valid, rather than no more.
    Early,
    /// An excluded subtree, rather than no permitted one.
    Excluded,
    /// A root of that name is at hand, with another key.
    Namesake,
    /// The path ends in a trusted certificate that is no root, and the client wants one.
    BelowRoot,
    /// An address was asked for.
    Address,
    /// An address was asked for, and the certificate has none.
    NoAddress,
    /// The certificate has no alternative names, and another common name.
    NoNames,
    /// The same where an address was asked for.
    NoNamesAddress,
    /// The certificate has no alternative names; its common name is the host.
    CommonName,
    /// basicConstraints says "no CA", rather than nothing.
    Denies,
    /// A policy is demanded, and there is none.
    Policies,
    /// An RSA key should have signed.
    Rsa,
    /// The host has an underscore.
    Underscore,
}

/// One thing wrong with a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Which kind.
    pub code: Code,
    /// Where in the path: 0 is the leaf.
    pub depth: usize,
    /// A detail for a person, such as the name that lies outside; may be empty.
    pub detail: String,
    /// Which of several.
    pub fine: Fine,
    /// True if it is about the anchor.
    pub anchor: bool,
    /// A second detail, such as the base of the subtree.
    pub also: String,
}

impl Fault {
    /// One without anything finer.
    pub fn new(code: Code, depth: usize, detail: impl Into<String>) -> Fault {
        Fault { code, depth, detail: detail.into(), fine: Fine::Plain, anchor: false, also: String::new() }
    }
}

/// The answer.
#[derive(Clone, Debug, Default)]
pub struct Judgement {
    /// The best path: without fault if there is one, else the one with the fewest faults.
    pub path: Vec<Certificate>,
    /// What is wrong with that path; empty means accepted.
    pub faults: Vec<Fault>,
}

/// Upper bound on certificates from which paths are built. A handshake message of 16 MiB, the longest that TLS allows, has fewer
/// real ones, and no client gets past a tenth of them.
const MOST_CERTIFICATES: usize = 2_000;

/// Judges a chain. An empty one is [`Code::Malformed`].
pub fn judge(input: &Input<'_>, policy: &Policy) -> Judgement {
    let Some(leaf) = input.served.first() else {
        let detail = "no certificate was sent";
        let fault = Fault::new(Code::Malformed, 0, detail);
        return Judgement { path: Vec::new(), faults: vec![fault] };
    };
    if input.served.len().saturating_add(input.extra.len()) > MOST_CERTIFICATES {
        let fault = Fault::new(Code::BudgetExhausted, 0, "");
        return Judgement { path: vec![leaf.clone()], faults: vec![fault] };
    }
    let known: Vec<Certificate> = input.served[1..].iter().chain(input.extra).cloned().collect();
    let found = path::search(leaf, &known, input.anchors, policy.by_identifier);
    let mut best: Option<Judgement> = None;
    let rooted = |p: &Vec<Certificate>| policy.partial_chain || p.last().is_some_and(Certificate::is_self_signed);
    let (complete, cut): (Vec<_>, Vec<_>) = found.complete.into_iter().partition(rooted);
    for path in complete {
        let faults = faults_of(&path, true, input, policy);
        if best.as_ref().is_none_or(|b| faults.len() < b.faults.len()) {
            let done = faults.is_empty();
            best = Some(Judgement { path, faults });
            if done {
                break;
            }
        }
    }
    // A path whose signature does not fit its root is no path: clients say "unknown issuer".
    if let Some(found) = best
        && !(policy.wrong_key_is_unknown && found.faults.iter().any(|f| f.code == Code::BadSignature))
    {
        return found;
    }
    let cut = cut.into_iter().find(|p| p.len() > 1);
    let below_root = cut.is_some();
    let path = match cut {
        Some(path) => path,
        None if found.dead_end.is_empty() => vec![leaf.clone()],
        None => found.dead_end,
    };
    let mut faults = faults_of(&path, false, input, policy);
    let top = &path[path.len() - 1];
    let code = match (top.is_self_signed(), path.len()) {
        (true, 1) => Code::SelfSignedLeaf,
        _ => Code::IssuerUnknown,
    };
    let fine = match () {
        () if below_root => Fine::BelowRoot,
        () if input.anchors.iter().any(|a| subject::same(&a.subject, &top.issuer)) => Fine::Namesake,
        () => Fine::Plain,
    };
    let unknown = Fault { fine, ..Fault::new(code, path.len() - 1, top.issuer_words()) };
    faults.insert(0, unknown);
    if found.exhausted {
        faults.push(Fault::new(Code::BudgetExhausted, 0, ""));
    }
    Judgement { path, faults }
}

fn faults_of(path: &[Certificate], anchored: bool, input: &Input<'_>, policy: &Policy) -> Vec<Fault> {
    let case = Case { path, anchored, input, policy };
    let mut faults: Vec<Fault> = Vec::new();
    for rule in case.rules() {
        for mut fault in rule(&case) {
            fault.anchor = anchored && path.len() > 1 && fault.depth == path.len() - 1;
            if !faults.contains(&fault) {
                faults.push(fault);
            }
        }
    }
    faults
}
