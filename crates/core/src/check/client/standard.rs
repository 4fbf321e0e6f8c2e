//! The standard alone: RFC 5280 §6 and RFC 9525, a root's constraints as in RFC 5937.

use super::{Policies, Policy, rules};
use crate::pki::chain::name_match::STRICT;

/// The rules of the standard.
pub const POLICY: Policy = Policy {
    matching: STRICT,
    needs_purpose: false,
    most_days: None,
    // The standard names no least strength: notes.
    refuses_weak_hash: false,
    least_rsa: 0,
    takes_ed25519: true,
    // RFC 5280 §4.2.1.12: applications may accept it.
    any_purpose: true,
    empty_subject_needs_critical_names: true,
    policies: Policies::Honored,
    honors_crls: true,
    rules: rules::ALL,
};
