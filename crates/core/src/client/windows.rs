//! Windows' own library, from what Microsoft has published: no Windows was at hand to measure.

use super::{LeafAnchor, Policies, Policy, SILENT, rules};
use crate::chain::name_match::Matching;

/// The rules of CertGetCertificateChain and of the SSL policy of CertVerifyCertificateChainPolicy (learn.microsoft.com, wincrypt).
pub const POLICY: Policy = Policy {
    matching: Matching { labels_after_star: 1, trailing_dot: false, common_name: true, common_name_for_address: false },
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
    needs_purpose: false,
    refuses_underscore: false,
    families_apart: false,
    most_days: None,
    anchor_must_be_ca: false,
    refuses_weak_hash: false,
    least_rsa_above: 0,
    partial_chain: true,
    refuses_broken: true,
    heeds_leaf_usage: true,
    least_rsa: 1024,
    takes_p521: true,
    takes_ed25519: false,
    any_purpose: true,
    takes_ca_as_leaf: true,
    needs_digital_signature: false,
    empty_subject_needs_critical_names: false,
    policies: Policies::Heeded,
    heeds_lists: false,
    sayings: SILENT,
    finer: &[],
    hides: &[],
    rules: rules::ALL,
};
