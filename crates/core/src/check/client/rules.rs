//! The rules, one function each, with its source above it. A rule looks at one path and says what is wrong.

use crate::check::client::case::{Case, ChainFault, Detail};
use crate::check::client::{LeafAnchor, Policies};
use crate::finding::Code;
use crate::pki::cert::extensions::GeneralName;
use crate::pki::cert::{Certificate, subject};
use crate::pki::chain::revocation::{self, Revocation, Said};
use crate::pki::chain::{constraints, name_match, policies};
use crate::pki::key::Strength;
use crate::pki::signature::{self, SignatureFault};
use crate::vocabulary::name::Name;
use crate::vocabulary::purpose::{ANY, JudgedPurpose};
use crate::vocabulary::text::harmless;
use crate::vocabulary::timestamp::DAY;
use const_oid::db::rfc5280::ID_CE_EXT_KEY_USAGE;

/// The rules that apply to a case: some clients hardly look at a leaf that is in their store itself.
pub fn applying(case: &Case<'_>) -> &'static [Rule] {
    match case.policy.leaf_anchor {
        LeafAnchor::NameAlone if case.leaf_is_anchor() => &[host_name],
        LeafAnchor::DatesAndName if case.leaf_is_anchor() => &[dates, host_name],
        _ => case.policy.rules,
    }
}

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
    leaf_as_anchor,
    ca_as_leaf,
    encoding,
    life,
    host_name,
    revocation_lists,
    policies,
];

/// What only those find who look into lists.
pub const OF_LISTS: &[Code] = &[Code::Revoked, Code::RevocationUnknown];

/// What only those find who limit the life of a leaf.
pub const OF_LIVES: &[Code] = &[Code::ValidityTooLong];

/// Every code that a rule or the judge can give: each client has words for each.
pub const CODES: &[Code] = &[
    Code::IssuerUnknown,
    Code::SelfSignedLeaf,
    Code::BadSignature,
    Code::WeakSignature,
    Code::Expired,
    Code::NotYetValid,
    Code::IssuerExpired,
    Code::IntermediateNotACa,
    Code::KeyUsageMissing,
    Code::PathTooLong,
    Code::ConstraintViolated,
    Code::CriticalExtensionUnknown,
    Code::PurposeMissing,
    Code::WeakKey,
    Code::KeyKindUnsupported,
    Code::CaAsLeaf,
    Code::Malformed,
    Code::NameNotCovered,
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
    let fault = |depth| ChainFault {
        fine: Detail::Policies,
        ..ChainFault::new(Code::ConstraintViolated, depth, "its certificate policy")
    };
    at.map(fault).into_iter().collect()
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
            Err(_) => {
                let fine = if matches!(pair[1].key.strength(), Strength::Rsa(_)) { Detail::Rsa } else { Detail::Plain };
                Some(ChainFault { fine, ..ChainFault::new(Code::BadSignature, i, pair[0].subject_words()) })
            }
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
    for (i, c, anchor) in case.issuers() {
        if (!anchor || case.policy.anchor_dates) && (at > c.not_after || at < c.not_before) {
            let fine = if at < c.not_before { Detail::Early } else { Detail::Plain };
            out.push(ChainFault { fine, ..ChainFault::new(Code::IssuerExpired, i, c.subject_words()) });
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
        if says_no || (silent && (!anchor || case.policy.anchor_must_be_ca)) {
            let fine = if says_no { Detail::Denies } else { Detail::Plain };
            out.push(ChainFault { fine, ..ChainFault::new(Code::IntermediateNotACa, i, c.subject_words()) });
        }
        if case.policy.usage_of_authorities && c.usage.is_some_and(|u| !u.key_cert_sign) {
            out.push(ChainFault::new(Code::KeyUsageMissing, i, c.subject_words()));
        }
    }
    out
}

/// RFC 5280 §6.1.4 (l) and (m): self-issued certificates do not count.
fn path_length(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c, _) in case.issuers().filter(|(.., anchor)| !anchor || case.policy.anchor_path_length) {
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
    for (i, c, _) in case.issuers().filter(|(.., anchor)| !anchor || case.policy.anchor_constraints) {
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
            if let Some(name) = constraints::violated(subtrees, below, case.policy.families_apart) {
                let base = constraints::excluding(subtrees, &name);
                let fine = if base.is_some() { Detail::Excluded } else { Detail::Plain };
                let fine = if matches!(name, GeneralName::Ip(_)) && base.is_none() { Detail::Address } else { fine };
                let also = base.map(GeneralName::words).unwrap_or_default();
                out.push(ChainFault { fine, also, ..ChainFault::new(Code::ConstraintViolated, depth, name.words()) });
            }
        }
    }
    out
}

/// RFC 5280 §4.2: who does not understand a critical extension must refuse.
fn critical_extensions(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    let last = case.path.len() - 1;
    for (i, c) in case.path.iter().enumerate() {
        if case.anchored && i == last && !case.policy.anchor_extensions {
            continue;
        }
        out.extend(
            c.unknown_critical.iter().map(|oid| ChainFault::new(Code::CriticalExtensionUnknown, i, oid.to_string())),
        );
        if case.policy.policies == Policies::Unknown {
            let of_policies = |e: &&x509_cert::ext::Extension| e.critical && policies::LIMITS.contains(&e.extn_id);
            let unknown = c.extensions.iter().filter(of_policies);
            out.extend(unknown.map(|e| ChainFault::new(Code::CriticalExtensionUnknown, i, e.extn_id.to_string())));
        }
    }
    out
}

/// RFC 5280 §4.2.1.12 for the leaf; on CAs as browsers and OpenSSL do it: a limit for all below.
fn purposes(case: &Case<'_>) -> Vec<ChainFault> {
    let Some(wanted) = case.input.purpose.filter(|_| case.policy.honors_purpose) else {
        return Vec::new();
    };
    let mut out = Vec::new();
    let looked_at = if case.policy.purposes_of_authorities { case.path.len() } else { 1 };
    for (i, c) in case.path.iter().enumerate().take(looked_at) {
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
    let server = case.input.purpose == Some(JudgedPurpose::Server) && case.policy.honors_leaf_usage;
    let useless = !usage.digital_signature && !usage.key_encipherment && !usage.key_agreement;
    if server && (useless || (case.policy.needs_digital_signature && !usage.digital_signature)) {
        return vec![ChainFault::new(Code::KeyUsageMissing, 0, "digitalSignature")];
    }
    Vec::new()
}

/// Key kinds and lengths in the leaf, and lengths above it.
fn leaf_key(case: &Case<'_>) -> Vec<ChainFault> {
    let strength = case.path[0].key.strength();
    let refused = match strength {
        Strength::Rsa(bits) if bits < case.policy.least_rsa => Some(Code::WeakKey),
        Strength::P521 if !case.policy.takes_p521 => Some(Code::KeyKindUnsupported),
        Strength::Ed25519 if !case.policy.takes_ed25519 => Some(Code::KeyKindUnsupported),
        _ => None,
    };
    let mut out: Vec<ChainFault> =
        refused.map(|code| ChainFault::new(code, 0, strength.to_string())).into_iter().collect();
    for (i, c, _) in case.issuers() {
        if let Strength::Rsa(bits) = c.key.strength()
            && bits < case.policy.least_rsa_above
        {
            out.push(ChainFault::new(Code::WeakKey, i, c.subject_words()));
        }
    }
    out
}

/// A leaf in the store: Chromium takes it as a root only if it does not deny being one, by basicConstraints or by a key usage that
/// does not let it sign (both measured with Chromium 156).
fn leaf_as_anchor(case: &Case<'_>) -> Vec<ChainFault> {
    let leaf = &case.path[0];
    let denies = leaf.basic.is_some_and(|b| !b.ca) || leaf.usage.is_some_and(|u| !u.key_cert_sign);
    if case.leaf_is_anchor() && denies && case.policy.leaf_anchor == LeafAnchor::TakenUnlessNoCa {
        // What another signed is then simply not what was looked for.
        let code = if leaf.is_self_signed() { Code::IntermediateNotACa } else { Code::IssuerUnknown };
        return vec![ChainFault::new(code, 0, "it is trusted as a root but says that it is none")];
    }
    Vec::new()
}

/// mozilla::pkix and webpki refuse it; RFC 5280 does not.
fn ca_as_leaf(case: &Case<'_>) -> Vec<ChainFault> {
    if case.path[0].is_ca() && !case.policy.takes_ca_as_leaf {
        return vec![ChainFault::new(Code::CaAsLeaf, 0, "")];
    }
    Vec::new()
}

/// Extensions that do not parse, and RFC 5280 §4.2.1.6: an empty subject demands critical names.
fn encoding(case: &Case<'_>) -> Vec<ChainFault> {
    let mut out = Vec::new();
    for (i, c) in case.path.iter().enumerate() {
        if case.policy.refuses_broken {
            out.extend(c.broken.iter().map(|oid| ChainFault::new(Code::Malformed, i, format!("extension {oid}"))));
        }
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
    // RFC 1123 §2.1 knows no underscore, and Java keeps to it.
    let underscore = case.policy.refuses_underscore && matches!(name, Name::Dns(d) if d.contains('_'));
    if !underscore && name_match::covers(leaf, name, case.policy.matching) {
        return Vec::new();
    }
    let has_address = || leaf.names.iter().flatten().any(|n| matches!(n, GeneralName::Ip(_)));
    let common = subject::common_name(&leaf.subject);
    let fine = match name {
        _ if underscore => Detail::Underscore,
        _ if leaf.names.is_none() && common.as_deref() == Some(name.to_string().as_str()) => Detail::CommonName,
        Name::Ip(_) if leaf.names.is_none() => Detail::NoNamesAddress,
        _ if leaf.names.is_none() => Detail::NoNames,
        Name::Ip(_) if has_address() => Detail::Address,
        Name::Ip(_) => Detail::NoAddress,
        _ => Detail::Plain,
    };
    let also = common.map(|c| harmless(&c)).unwrap_or_default();
    vec![ChainFault { fine, also, ..ChainFault::new(Code::NameNotCovered, 0, leaf.name_words().join(", ")) }]
}
