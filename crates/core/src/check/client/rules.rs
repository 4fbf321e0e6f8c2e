//! The rules, one function each, with its source above it. A rule looks at one path and says what is wrong.

use crate::check::client::Policies;
use crate::check::client::case::{Case, ChainFault};
use crate::finding::Code;
use crate::pki::cert::{Certificate, subject};
use crate::pki::chain::revocation::{self, Revocation, Said};
use crate::pki::chain::{constraints, name_match, policies};
use crate::pki::key::Strength;
use crate::pki::signature::{self, SignatureFault};
use crate::vocabulary::purpose::{ANY, JudgedPurpose};
use crate::vocabulary::timestamp::DAY;
use const_oid::db::rfc5280::ID_CE_EXT_KEY_USAGE;

/// A rule.
pub type Rule = fn(&Case<'_>) -> Vec<ChainFault>;

/// All rules.
pub const ALL: &[Rule] = &[
    distrusted,
    signatures,
    weak_hashes,
    dates,
    authorities,
    path_length,
    name_constraints,
    critical_extensions,
    purposes,
    leaf_usage,
    leaf_key,
    encoding,
    life,
    host_name,
    revocation_lists,
    policies,
];

/// A distrust entry of a store wins over everything.
fn distrusted(case: &Case<'_>) -> Vec<ChainFault> {
    let input = case.input;
    let is = |c: &Certificate| {
        input.distrusted.contains(&c.sha256())
            || (!input.distrusted_keys.is_empty() && input.distrusted_keys.contains(&c.key.fingerprint()))
    };
    let hit = case.path.iter().position(is);
    hit.map(|i| ChainFault::new(Code::IssuerUnknown, i, "it is marked as distrusted")).into_iter().collect()
}

/// RFC 5280 §6.3: every certificate below the anchor, by lists that are at hand.
fn revocation_lists(case: &Case<'_>) -> Vec<ChainFault> {
    let mode = case.input.revocation;
    if !case.policy.honors_crls || mode == Revocation::Off || !case.anchored {
        return Vec::new();
    }
    let said = |(i, pair): (usize, &[Certificate])| match revocation::said(
        &pair[0],
        &pair[1],
        &case.list_signers(),
        case.input.lists,
        case.input.at,
    ) {
        Said::Revoked(r) => Some(ChainFault::new(Code::Revoked, i, format!("on {}, {}", r.at.date(), r.reason.word()))),
        Said::Unknown(why) if mode == Revocation::Required => Some(ChainFault::new(Code::RevocationUnknown, i, why)),
        Said::Good | Said::Unknown(_) => None,
    };
    case.path.windows(2).enumerate().filter_map(said).collect()
}

/// RFC 5280 §6.1.5 (g): a path that demands a policy has one.
fn policies(case: &Case<'_>) -> Vec<ChainFault> {
    if case.policy.policies != Policies::Honored || !case.anchored || case.path.len() < 2 {
        return Vec::new();
    }
    let at = policies::missing(case.path);
    at.map(|depth| ChainFault::new(Code::ConstraintViolated, depth, "its certificate policy")).into_iter().collect()
}

/// RFC 5280 §6.1.3 (a)(1).
fn signatures(case: &Case<'_>) -> Vec<ChainFault> {
    case.path
        .windows(2)
        .enumerate()
        .filter_map(|(i, pair)| match pair[0].signed_by(&pair[1]) {
            Ok(()) => None,
            // A weak or foreign algorithm that nobody here can verify: weak_hashes says so.
            Err(SignatureFault::Unsupported) if signature::is_weak(&pair[0].algorithm.oid) => None,
            Err(_) => Some(ChainFault::new(Code::BadSignature, i, pair[0].subject_words())),
        })
        .collect()
}

/// Browsers and OpenSSL's security level; the standard only notes it.
fn weak_hashes(case: &Case<'_>) -> Vec<ChainFault> {
    if !case.policy.refuses_weak_hash {
        return Vec::new();
    }
    let below = case.path.len() - usize::from(case.anchored);
    (0..below)
        .filter(|i| signature::is_weak(&case.path[*i].algorithm.oid) && !case.path[*i].is_self_issued())
        .map(|i| ChainFault::new(Code::WeakSignature, i, case.path[i].subject_words()))
        .collect()
}

/// RFC 5280 §6.1.3 (a)(2), for the leaf and for what is above it.
fn dates(case: &Case<'_>) -> Vec<ChainFault> {
    let at = case.input.at;
    let mut out = Vec::new();
    let leaf = &case.path[0];
    if at > leaf.not_after {
        out.push(ChainFault::new(Code::Expired, 0, leaf.not_after.to_string()));
    } else if at < leaf.not_before {
        out.push(ChainFault::new(Code::NotYetValid, 0, leaf.not_before.to_string()));
    }
    for (i, c, _) in case.issuers() {
        if at > c.not_after || at < c.not_before {
            out.push(ChainFault::new(Code::IssuerExpired, i, c.subject_words()));
        }
    }
    out
}

/// RFC 5280 §6.1.4 (k) and (n): what issues is a CA and may sign certificates.
fn authorities(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c, anchor) in case.issuers() {
        let says_no = c.basic.is_some_and(|b| !b.ca);
        let silent = c.basic.is_none();
        if says_no || (silent && !anchor) {
            out.push(ChainFault::new(Code::IntermediateNotACa, i, c.subject_words()));
        }
        if c.usage.is_some_and(|u| !u.key_cert_sign) {
            out.push(ChainFault::new(Code::KeyUsageMissing, i, c.subject_words()));
        }
    }
    out
}

/// RFC 5280 §6.1.4 (l) and (m): self-issued certificates do not count.
fn path_length(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c, _) in case.issuers() {
        let following = case.path[1..i].iter().filter(|c| !c.is_self_issued()).count();
        if c.basic.and_then(|b| b.path_length).is_some_and(|most| following > usize::from(most)) {
            out.push(ChainFault::new(Code::PathTooLong, i, c.subject_words()));
        }
    }
    out
}

/// RFC 5280 §6.1.3 (b) and (c); on the anchor as RFC 5937 §3.2 has it. Self-issued intermediates are free.
fn name_constraints(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    let mut left = constraints::MOST_COMPARISONS;
    for (i, c, _) in case.issuers() {
        let Some(subtrees) = &c.constraints else { continue };
        for (depth, below) in case.path[..i].iter().enumerate() {
            if depth > 0 && below.is_self_issued() {
                continue;
            }
            let Some(rest) = left.checked_sub(constraints::cost(subtrees, below)) else {
                out.push(ChainFault::new(Code::BudgetExhausted, depth, ""));
                return out;
            };
            left = rest;
            if let Some(name) = constraints::violated(subtrees, below) {
                out.push(ChainFault::new(Code::ConstraintViolated, depth, name.words()));
            }
        }
    }
    out
}

/// RFC 5280 §4.2: who does not understand a critical extension must refuse.
fn critical_extensions(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c) in case.path.iter().enumerate() {
        let unknown = c.unknown_critical.iter();
        out.extend(unknown.map(|oid| ChainFault::new(Code::CriticalExtensionUnknown, i, oid.to_string())));
    }
    out
}

/// RFC 5280 §4.2.1.12 for the leaf; on CAs as browsers and OpenSSL do it: a limit for all below.
fn purposes(case: &Case<'_>) -> Vec<ChainFault> {
    let Some(wanted) = case.input.purpose else {
        return Vec::new();
    };
    let mut out = Vec::new();
    for (i, c) in case.path.iter().enumerate() {
        let Some(list) = &c.purposes else {
            if i == 0 && (case.policy.needs_purpose || wanted == JudgedPurpose::Timestamp) {
                out.push(ChainFault::new(Code::PurposeMissing, 0, c.subject_words()));
            }
            continue;
        };
        let any = list.contains(&ANY) && (case.policy.any_purpose || i > 0);
        // Time stamping stands alone and is critical (RFC 3161 §2.3).
        let is_alone =
            || list.len() == 1 && c.extensions.iter().any(|e| e.critical && e.extn_id == ID_CE_EXT_KEY_USAGE);
        let listed = match wanted {
            JudgedPurpose::Timestamp if i == 0 => list.contains(&wanted.oid()) && is_alone(),
            _ => list.contains(&wanted.oid()) || any,
        };
        if !listed {
            out.push(ChainFault::new(Code::PurposeMissing, i, c.subject_words()));
        }
    }
    out
}

/// RFC 5280 §4.2.1.3 with RFC 8446 §4.4.2.2: in TLS 1.3 and with ECDHE the key signs.
fn leaf_usage(case: &Case<'_>) -> Vec<ChainFault> {
    let Some(usage) = case.path[0].usage else {
        return Vec::new();
    };
    let server = case.input.purpose == Some(JudgedPurpose::Server);
    let useless = !usage.digital_signature && !usage.key_encipherment && !usage.key_agreement;
    if server && useless {
        return vec![ChainFault::new(Code::KeyUsageMissing, 0, "digitalSignature")];
    }
    Vec::new()
}

/// Key kinds and lengths in the leaf.
fn leaf_key(case: &Case<'_>) -> Vec<ChainFault> {
    let strength = case.path[0].key.strength();
    let refused = match strength {
        Strength::Rsa(bits) if bits < case.policy.least_rsa => Some(Code::WeakKey),
        Strength::Ed25519 if !case.policy.takes_ed25519 => Some(Code::KeyKindUnsupported),
        _ => None,
    };
    refused.map(|code| ChainFault::new(code, 0, strength.to_string())).into_iter().collect()
}

/// Extensions that do not parse, and RFC 5280 §4.2.1.6: an empty subject demands critical names.
fn encoding(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c) in case.path.iter().enumerate() {
        out.extend(c.broken.iter().map(|oid| ChainFault::new(Code::Malformed, i, format!("extension {oid}"))));
        out.extend(c.flaws.iter().map(|why| ChainFault::new(Code::Malformed, i, *why)));
    }
    let leaf = &case.path[0];
    if case.policy.empty_subject_needs_critical_names && subject::is_empty(&leaf.subject) && !leaf.names_critical {
        out.push(ChainFault::new(Code::Malformed, 0, "an empty subject demands critical alternative names"));
    }
    out
}

/// A limit of the client's own on the life of a leaf.
fn life(case: &Case<'_>) -> Vec<ChainFault> {
    let leaf = &case.path[0];
    match case.policy.most_days {
        Some(most) if leaf.not_after > leaf.not_before.plus(most * DAY) => {
            let days = leaf.not_after.days_after(leaf.not_before);
            vec![ChainFault::new(Code::ValidityTooLong, 0, format!("{days} days, {most} are taken"))]
        }
        _ => Vec::new(),
    }
}

/// RFC 9525 §6.
fn host_name(case: &Case<'_>) -> Vec<ChainFault> {
    let Some(name) = case.input.name else { return Vec::new() };
    let leaf = &case.path[0];
    if name_match::covers(leaf, name, case.policy.matching) {
        return Vec::new();
    }
    vec![ChainFault::new(Code::NameNotCovered, 0, leaf.name_words().join(", "))]
}
