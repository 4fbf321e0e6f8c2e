//! Windows' own library, from what Microsoft has published: no Windows was at hand to measure.

use super::{Policy, standard};
use crate::pki::chain::name_match::Matching;

/// The rules of CertGetCertificateChain and of the SSL policy of CertVerifyCertificateChainPolicy (learn.microsoft.com, wincrypt).
pub const POLICY: Policy = Policy {
    matching: Matching { labels_after_star: 1, trailing_dot: false, common_name: true, common_name_for_address: false },
    least_rsa: 1024,
    takes_ed25519: false,
    empty_subject_needs_critical_names: false,
    honors_crls: false,
    ..standard::POLICY
};
