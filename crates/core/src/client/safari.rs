//! Safari, from what Apple has published: no Mac was at hand to measure.

use super::{LeafAnchor, Policies, Policy, SILENT_WITH_LIVES, rules};
use crate::chain::name_match::Matching;

/// Safari's rules: support.apple.com/103769 (requirements since 2019: names, purpose, RSA 2048, SHA-2, 825 days).
pub const POLICY: Policy = Policy {
    matching: Matching {
        labels_after_star: 1,
        trailing_dot: false,
        common_name: false,
        common_name_for_address: false,
    },
    by_identifier: false,
    wrong_key_is_unknown: true,
    leaf_anchor: LeafAnchor::Taken,
    anchor_dates: true,
    anchor_constraints: true,
    anchor_path_length: true,
    anchor_extensions: true,
    heeds_purpose: true,
    purposes_of_authorities: true,
    usage_of_authorities: true,
    needs_purpose: true,
    refuses_underscore: false,
    families_apart: false,
    most_days: Some(825),
    anchor_must_be_ca: false,
    refuses_weak_hash: true,
    least_rsa_above: 0,
    partial_chain: true,
    refuses_broken: true,
    heeds_leaf_usage: true,
    least_rsa: 2048,
    takes_p521: true,
    takes_ed25519: true,
    any_purpose: false,
    takes_ca_as_leaf: true,
    needs_digital_signature: false,
    empty_subject_needs_critical_names: false,
    policies: Policies::Ignored,
    heeds_lists: false,
    sayings: SILENT_WITH_LIVES,
    finer: &[],
    hides: &[],
    rules: rules::ALL,
};
