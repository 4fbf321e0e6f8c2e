//! Certificate policies of a path (RFC 5280 §6.1.2 to §6.1.5), for who takes any: only a path that demands a policy and has none is refused.

use crate::pki::cert::Certificate;
use const_oid::ObjectIdentifier;
use der::Decode;
use std::collections::BTreeSet;
use x509_cert::ext::pkix::certpolicy::CertificatePolicies;
use x509_cert::ext::pkix::{InhibitAnyPolicy, PolicyConstraints, PolicyMappings};

const ANY: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.32.0");
const POLICIES: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.32");
const MAPPINGS: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.33");
const CONSTRAINTS: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.36");
const INHIBIT_ANY: ObjectIdentifier = ObjectIdentifier::new_unwrap("2.5.29.54");

/// The extensions that limit policies: who does not know them must refuse them where they are critical.
pub const LIMITS: [ObjectIdentifier; 3] = [MAPPINGS, CONSTRAINTS, INHIBIT_ANY];

fn extension<'a, T: Decode<'a>>(c: &'a Certificate, id: ObjectIdentifier) -> Option<T> {
    c.extensions.iter().find(|e| e.extn_id == id).and_then(|e| T::from_der(e.extn_value.as_bytes()).ok())
}

/// The counters of §6.1.2: how many more certificates until each begins to count.
struct State {
    /// The policies that are still good; with [`ANY`] all are.
    valid: BTreeSet<ObjectIdentifier>,
    explicit: usize,
    no_any: usize,
    no_mapping: usize,
}

/// The depth of the certificate at which a path that demands a policy has none left; None if all is well. The anchor comes last.
pub fn missing(path: &[Certificate]) -> Option<usize> {
    walked(path, false)
}

/// The same where what the anchor itself says of policies counts (RFC 5937 §3.2).
pub fn missing_under(path: &[Certificate]) -> Option<usize> {
    walked(path, true)
}

fn walked(path: &[Certificate], anchor_counts: bool) -> Option<usize> {
    let below = path.len() - 1;
    let mut s = State { valid: BTreeSet::from([ANY]), explicit: below + 1, no_any: below + 1, no_mapping: below + 1 };
    if anchor_counts {
        let anchor = &path[below];
        if extension::<CertificatePolicies>(anchor, POLICIES).is_some() {
            s.take(anchor, true);
        }
        s.limit(anchor);
    }
    for depth in (0..below).rev() {
        let c = &path[depth];
        s.take(c, depth > 0);
        if depth > 0 {
            // §6.1.4 (a)
            let maps_any = extension::<PolicyMappings>(c, MAPPINGS)
                .is_some_and(|m| m.0.iter().any(|m| m.issuer_domain_policy == ANY || m.subject_domain_policy == ANY));
            if maps_any {
                return Some(depth);
            }
            s.prepare(c);
        } else {
            s.explicit = s.explicit.saturating_sub(1);
            if extension::<PolicyConstraints>(c, CONSTRAINTS).and_then(|p| p.require_explicit_policy) == Some(0) {
                s.explicit = 0;
            }
        }
        if s.explicit == 0 && s.valid.is_empty() {
            return Some(depth);
        }
    }
    None
}

impl State {
    /// §6.1.3 (d) to (f).
    fn take(&mut self, c: &Certificate, issues: bool) {
        let Some(policies) = extension::<CertificatePolicies>(c, POLICIES) else {
            self.valid.clear();
            return;
        };
        let named: BTreeSet<ObjectIdentifier> = policies.0.iter().map(|p| p.policy_identifier).collect();
        let any_counts = named.contains(&ANY) && (self.no_any > 0 || (issues && c.is_self_issued()));
        let before = std::mem::take(&mut self.valid);
        self.valid =
            named.iter().filter(|p| **p != ANY && (before.contains(*p) || before.contains(&ANY))).copied().collect();
        if any_counts {
            self.valid.extend(before);
        }
    }

    /// §6.1.4 (b) and (h) to (j).
    fn prepare(&mut self, c: &Certificate) {
        if let Some(mappings) = extension::<PolicyMappings>(c, MAPPINGS) {
            let from: BTreeSet<ObjectIdentifier> = mappings.0.iter().map(|m| m.issuer_domain_policy).collect();
            let mapped: Vec<ObjectIdentifier> = mappings
                .0
                .iter()
                .filter(|m| self.valid.contains(&m.issuer_domain_policy) || self.valid.contains(&ANY))
                .map(|m| m.subject_domain_policy)
                .collect();
            self.valid.retain(|p| !from.contains(p));
            if self.no_mapping > 0 {
                self.valid.extend(mapped);
            }
        }
        if !c.is_self_issued() {
            self.explicit = self.explicit.saturating_sub(1);
            self.no_any = self.no_any.saturating_sub(1);
            self.no_mapping = self.no_mapping.saturating_sub(1);
        }
        self.limit(c);
    }

    /// §6.1.4 (i) and (j).
    fn limit(&mut self, c: &Certificate) {
        if let Some(limits) = extension::<PolicyConstraints>(c, CONSTRAINTS) {
            let least =
                |now: usize, said: Option<u32>| said.map_or(now, |n| now.min(usize::try_from(n).unwrap_or(now)));
            self.explicit = least(self.explicit, limits.require_explicit_policy);
            self.no_mapping = least(self.no_mapping, limits.inhibit_policy_mapping);
        }
        if let Some(InhibitAnyPolicy(n)) = extension(c, INHIBIT_ANY) {
            self.no_any = self.no_any.min(usize::try_from(n).unwrap_or(self.no_any));
        }
    }
}
