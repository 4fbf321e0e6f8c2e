//! Safari, from what Apple has published: no Mac was at hand to measure.

use super::{Policies, Policy, standard};
use crate::pki::chain::name_match::Matching;

/// Safari's rules: support.apple.com/103769 (requirements since 2019: names, purpose, RSA 2048, SHA-2, 825 days).
pub const POLICY: Policy = Policy {
    matching: Matching {
        labels_after_star: 1,
        trailing_dot: false,
        common_name: false,
        common_name_for_address: false,
    },
    needs_purpose: true,
    most_days: Some(825),
    refuses_weak_hash: true,
    least_rsa: 2048,
    any_purpose: false,
    empty_subject_needs_critical_names: false,
    policies: Policies::Ignored,
    honors_crls: false,
    ..standard::POLICY
};
