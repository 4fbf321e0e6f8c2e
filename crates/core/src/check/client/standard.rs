//! The standard alone: RFC 5280 §6 and RFC 9525, a root's constraints as in RFC 5937.

use super::{LeafAnchor, Outcome, Policies, Policy, rules};
use crate::finding::Code;
use crate::pki::chain::name_match::STRICT;

/// The rules of the standard.
pub const POLICY: Policy = Policy {
    matching: STRICT,
    // RFC 5280 §4.2.1.1: an identifier is a help for building, not a condition.
    by_identifier: false,
    wrong_key_is_unknown: true,
    leaf_anchor: LeafAnchor::Taken,
    // RFC 5937 §3.2: an anchor given as a certificate brings its limits along.
    anchor_dates: true,
    anchor_constraints: true,
    anchor_path_length: true,
    anchor_extensions: true,
    honors_purpose: true,
    purposes_of_authorities: true,
    usage_of_authorities: true,
    needs_purpose: false,
    refuses_underscore: false,
    families_apart: false,
    most_days: None,
    anchor_must_be_ca: false,
    // The standard names no least strength: notes.
    refuses_weak_hash: false,
    least_rsa_above: 0,
    partial_chain: true,
    refuses_broken: true,
    honors_leaf_usage: true,
    least_rsa: 0,
    takes_p521: true,
    takes_ed25519: true,
    // RFC 5280 §4.2.1.12: applications may accept it.
    any_purpose: true,
    takes_ca_as_leaf: true,
    needs_digital_signature: false,
    empty_subject_needs_critical_names: true,
    policies: Policies::Honored,
    honors_crls: true,
    messages: &[
        (Code::IssuerUnknown, Outcome::Refuses, ""),
        (Code::SelfSignedLeaf, Outcome::Refuses, ""),
        (Code::BadSignature, Outcome::Refuses, ""),
        (Code::Malformed, Outcome::Refuses, ""),
        (Code::IntermediateNotACa, Outcome::Refuses, ""),
        (Code::PathTooLong, Outcome::Refuses, ""),
        (Code::KeyUsageMissing, Outcome::Refuses, ""),
        (Code::ConstraintViolated, Outcome::Refuses, ""),
        (Code::CriticalExtensionUnknown, Outcome::Refuses, ""),
        (Code::Revoked, Outcome::Refuses, ""),
        (Code::RevocationUnknown, Outcome::Refuses, ""),
        (Code::Expired, Outcome::Refuses, ""),
        (Code::NotYetValid, Outcome::Refuses, ""),
        (Code::IssuerExpired, Outcome::Refuses, ""),
        (Code::PurposeMissing, Outcome::Refuses, ""),
        (Code::NameNotCovered, Outcome::Refuses, ""),
        (Code::WeakSignature, Outcome::Refuses, ""),
        (Code::WeakKey, Outcome::Refuses, ""),
        (Code::KeyKindUnsupported, Outcome::Refuses, ""),
        (Code::CaAsLeaf, Outcome::Refuses, ""),
    ],
    overrides: &[],
    suppresses: &[],
    rules: rules::ALL,
};
