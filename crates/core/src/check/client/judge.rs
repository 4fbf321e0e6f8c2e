//! The judgement of one chain under one client's policy: rules × policy = faults.

use crate::check::client::Policy;
use crate::check::client::case::{Case, ChainFault, Input};
use crate::finding::Code;
use crate::pki::cert::Certificate;
use crate::pki::chain::path;

/// The answer.
#[derive(Clone, Debug, Default)]
pub struct Judgement {
    /// The best path: without fault if there is one, else the one with the fewest faults.
    pub path: Vec<Certificate>,
    /// What is wrong with that path; empty means accepted.
    pub faults: Vec<ChainFault>,
}

/// Upper bound on certificates from which paths are built. A handshake message of 16 MiB, the longest that TLS allows, has fewer
/// real ones, and no client gets past a tenth of them.
const MOST_CERTIFICATES: usize = 2_000;

/// Judges a chain. An empty one is [`Code::Malformed`].
pub fn judge(input: &Input<'_>, policy: &Policy) -> Judgement {
    let Some(leaf) = input.served.first() else {
        let detail = "no certificate was sent";
        let fault = ChainFault::new(Code::Malformed, 0, detail);
        return Judgement { path: Vec::new(), faults: vec![fault] };
    };
    if input.served.len().saturating_add(input.extra.len()) > MOST_CERTIFICATES {
        let fault = ChainFault::new(Code::BudgetExhausted, 0, "");
        return Judgement { path: vec![leaf.clone()], faults: vec![fault] };
    }
    let known: Vec<Certificate> = input.served[1..].iter().chain(input.extra).cloned().collect();
    let found = path::search(leaf, &known, input.anchors);
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
        && !found.faults.iter().any(|f| f.code == Code::BadSignature)
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
    let unknown = ChainFault::new(code, path.len() - 1, top.issuer_words());
    faults.insert(0, unknown);
    if found.exhausted {
        faults.push(ChainFault::new(Code::BudgetExhausted, 0, ""));
    }
    Judgement { path, faults }
}

fn faults_of(path: &[Certificate], anchored: bool, input: &Input<'_>, policy: &Policy) -> Vec<ChainFault> {
    let case = Case { path, anchored, input, policy };
    let mut faults: Vec<ChainFault> = Vec::new();
    for rule in policy.rules {
        for mut fault in rule(&case) {
            fault.anchor = anchored && path.len() > 1 && fault.depth == path.len() - 1;
            if !faults.contains(&fault) {
                faults.push(fault);
            }
        }
    }
    faults
}
