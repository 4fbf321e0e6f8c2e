//! The judgement of one chain under one client's policy: rules × policy = faults.

use crate::cert::Certificate;
use crate::cert::crl::Crl;
use crate::chain::path;
use crate::chain::revocation::Revocation;
use crate::client::Policy;
use crate::client::rules::{self, Case};
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

/// One thing wrong with a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Which kind.
    pub code: Code,
    /// Where in the path: 0 is the leaf.
    pub depth: usize,
    /// A detail for a person, such as the name that lies outside; may be empty.
    pub detail: String,
}

/// The answer.
#[derive(Clone, Debug, Default)]
pub struct Judgement {
    /// The best path: without fault if there is one, else the one with the fewest faults.
    pub path: Vec<Certificate>,
    /// What is wrong with that path; empty means accepted.
    pub faults: Vec<Fault>,
}

/// Judges a chain. An empty one is [`Code::Malformed`].
pub fn judge(input: &Input<'_>, policy: &Policy) -> Judgement {
    let Some(leaf) = input.served.first() else {
        let fault = Fault { code: Code::Malformed, depth: 0, detail: "no certificate was sent".into() };
        return Judgement { path: Vec::new(), faults: vec![fault] };
    };
    let known: Vec<Certificate> = input.served[1..].iter().chain(input.extra).cloned().collect();
    let found = path::search(leaf, &known, input.anchors, policy.by_identifier);
    let mut best: Option<Judgement> = None;
    for path in found.complete {
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
    let path = if found.dead_end.is_empty() { vec![leaf.clone()] } else { found.dead_end };
    let mut faults = faults_of(&path, false, input, policy);
    let top = &path[path.len() - 1];
    let code = match (top.is_self_signed(), path.len()) {
        (true, 1) => Code::SelfSignedLeaf,
        _ => Code::IssuerUnknown,
    };
    faults.insert(0, Fault { code, depth: path.len() - 1, detail: top.issuer_words() });
    if found.exhausted {
        faults.push(Fault { code: Code::BudgetExhausted, depth: 0, detail: String::new() });
    }
    Judgement { path, faults }
}

fn faults_of(path: &[Certificate], anchored: bool, input: &Input<'_>, policy: &Policy) -> Vec<Fault> {
    let case = Case { path, anchored, input, policy };
    let mut faults: Vec<Fault> = Vec::new();
    for rule in rules::ALL {
        for fault in rule(&case) {
            if !faults.contains(&fault) {
                faults.push(fault);
            }
        }
    }
    faults
}
