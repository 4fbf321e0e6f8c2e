//! Every extension present, absent, critical or not, malformed, twice.

use super::Odd;
use crate::differential::keys::oid;
use crate::differential::rng::Rng;
use crate::differential::situation::{Flag, Situation, Spec};
use crate::matrix::make::{basic, bits, id, purposes, sequence, tlv, usage};

/// An extension that nobody knows.
const FOREIGN: &str = "1.3.6.1.4.1.32473.7";
/// authorityInfoAccess, cRLDistributionPoints, certificatePolicies and their kin (RFC 5280 §4.2), TLS features (RFC 7633).
const AIA: &str = "1.3.6.1.5.5.7.1.1";
const CDP: &str = "2.5.29.31";
const POLICIES: &str = "2.5.29.32";
const MAPPINGS: &str = "2.5.29.33";
const POLICY_LIMITS: &str = "2.5.29.36";
const INHIBIT_ANY: &str = "2.5.29.54";
const FEATURES: &str = "1.3.6.1.5.5.7.1.24";
const ISSUER_NAMES: &str = "2.5.29.18";
const POISON: &str = "1.3.6.1.4.1.11129.2.4.3";
const OLD_TYPE: &str = "2.16.840.1.113730.1.1";
const PURPOSE: &str = "1.3.6.1.5.5.7.3";

/// The oddities.
pub const ALL: &[Odd] = &[
    ("unknown extension", |s, r| any(s, r, |c, _| c.add(FOREIGN, false, tlv(5, &[])))),
    ("unknown critical extension in the leaf", |s, _| s.leaf().add(FOREIGN, true, tlv(5, &[]))),
    ("unknown critical extension above", |s, r| above(s, r, |c, _| c.add(FOREIGN, true, tlv(5, &[])))),
    ("an extension twice", |s, r| {
        any(s, r, |c, r| {
            if let Some(e) = c.extensions.get(r.below(c.extensions.len().max(1))).cloned() {
                c.extensions.push(e);
            }
        });
    }),
    ("an unknown extension twice", |s, r| {
        any(s, r, |c, _| {
            c.add(FOREIGN, false, tlv(5, &[]));
            c.add(FOREIGN, false, tlv(5, &[]));
        });
    }),
    ("FALSE written out", |s, r| {
        any(s, r, |c, _| {
            for e in c.extensions.iter_mut().filter(|e| e.flag == Flag::No) {
                e.flag = Flag::Written;
            }
        });
    }),
    ("basicConstraints absent in the leaf", |s, _| s.leaf().without(id::BASIC)),
    ("basicConstraints absent above", |s, r| above(s, r, |c, _| c.without(id::BASIC))),
    ("basicConstraints not critical above", |s, r| above(s, r, |c, _| c.set(id::BASIC, false, basic(true, None)))),
    ("basicConstraints denies above", |s, r| above(s, r, |c, _| c.set(id::BASIC, true, basic(false, None)))),
    ("basicConstraints says CA in the leaf", |s, r| {
        let path = r.of_these(&[None, Some(0), Some(3)]);
        s.leaf().set(id::BASIC, true, basic(true, path));
    }),
    ("basicConstraints with a path length and no CA", |s, r| {
        any(s, r, |c, _| c.set(id::BASIC, true, sequence(&[tlv(2, &[3])])));
    }),
    ("basicConstraints with FALSE written out", |s, r| {
        leaf_or_above(s, r, |c, ca, _| {
            let inner = if ca { vec![tlv(1, &[1])] } else { vec![tlv(1, &[0])] };
            c.set(id::BASIC, true, sequence(&inner));
        });
    }),
    ("basicConstraints with an odd path length", |s, r| {
        above(s, r, |c, r| {
            let length = r.of_these(&[vec![0x80], vec![0xff], vec![1, 0], vec![0, 0xff], vec![0, 3], vec![0x7f; 9]]);
            c.set(id::BASIC, true, sequence(&[tlv(1, &[0xff]), tlv(2, &length)]));
        });
    }),
    ("basicConstraints malformed", |s, r| {
        any(s, r, |c, r| {
            let value =
                r.of_these(&[vec![0x30, 0x03, 0x01], vec![], tlv(4, &[1]), sequence(&[tlv(1, &[0xff]), tlv(4, &[1])])]);
            c.set(id::BASIC, true, value);
        });
    }),
    ("keyUsage absent in the leaf", |s, _| s.leaf().without(id::USAGE)),
    ("keyUsage absent above", |s, r| above(s, r, |c, _| c.without(id::USAGE))),
    ("keyUsage without keyCertSign above", |s, r| {
        above(s, r, |c, r| {
            let set = r.of_these(&[bits::CRL_SIGN, bits::DIGITAL_SIGNATURE]);
            let critical = r.percent(70);
            c.set(id::USAGE, critical, usage(set));
        });
    }),
    ("keyUsage of one other bit in the leaf", |s, r| {
        let bit =
            r.of_these(&[bits::KEY_ENCIPHERMENT, bits::KEY_AGREEMENT, bits::CERT_SIGN, bits::CRL_SIGN, 0x40, 0x10]);
        let critical = r.percent(70);
        s.leaf().set(id::USAGE, critical, usage(bit));
    }),
    ("keyUsage with keyCertSign in the leaf", |s, _| {
        s.leaf().set(id::USAGE, true, usage(bits::DIGITAL_SIGNATURE | bits::CERT_SIGN | bits::KEY_ENCIPHERMENT));
    }),
    ("keyUsage of no bit", |s, r| any(s, r, |c, _| c.set(id::USAGE, true, tlv(3, &[0])))),
    ("keyUsage with zeros behind", |s, r| {
        leaf_or_above(s, r, |c, ca, _| c.set(id::USAGE, true, tlv(3, &[0, if ca { 6 } else { 0xa0 }, 0])));
    }),
    ("keyUsage malformed", |s, r| {
        any(s, r, |c, r| {
            let value = r.of_these(&[tlv(3, &[]), vec![0x03, 0x05, 1], tlv(4, &[6]), tlv(3, &[9, 0x80])]);
            c.set(id::USAGE, true, value);
        });
    }),
    ("extKeyUsage absent", |s, _| s.leaf().without(id::PURPOSES)),
    ("extKeyUsage any alone", |s, _| s.leaf().set(id::PURPOSES, false, purposes(&[id::ANY]))),
    ("extKeyUsage any and client", |s, _| s.leaf().set(id::PURPOSES, false, purposes(&[id::CLIENT, id::ANY]))),
    ("extKeyUsage client alone", |s, _| s.leaf().set(id::PURPOSES, false, purposes(&[id::CLIENT]))),
    ("extKeyUsage both", |s, _| s.leaf().set(id::PURPOSES, false, purposes(&[id::CLIENT, id::SERVER]))),
    ("extKeyUsage critical", |s, r| {
        let list = r.of_these(&[vec![id::SERVER], vec![id::SERVER, id::CLIENT], vec![id::CLIENT]]);
        s.leaf().set(id::PURPOSES, true, purposes(&list));
    }),
    ("extKeyUsage of OCSP signing too", |s, r| {
        any(s, r, |c, _| c.set(id::PURPOSES, false, purposes(&[id::SERVER, &format!("{PURPOSE}.9")])));
    }),
    ("extKeyUsage with an unknown one", |s, r| {
        let list = r.of_these(&[vec![id::SERVER, FOREIGN], vec![FOREIGN], vec![FOREIGN, id::CLIENT]]);
        s.leaf().set(id::PURPOSES, false, purposes(&list));
    }),
    ("extKeyUsage of step-up", |s, r| {
        let old = r.of_these(&["2.16.840.1.113730.4.1", "1.3.6.1.4.1.311.10.3.3"]);
        any(s, r, |c, _| c.set(id::PURPOSES, false, purposes(&[old])));
    }),
    ("extKeyUsage server above", |s, r| above(s, r, |c, _| c.set(id::PURPOSES, false, purposes(&[id::SERVER])))),
    ("extKeyUsage client above", |s, r| above(s, r, |c, _| c.set(id::PURPOSES, false, purposes(&[id::CLIENT])))),
    ("extKeyUsage any above", |s, r| above(s, r, |c, _| c.set(id::PURPOSES, false, purposes(&[id::ANY])))),
    ("extKeyUsage malformed or empty", |s, r| {
        any(s, r, |c, r| {
            c.set(id::PURPOSES, false, r.of_these(&[sequence(&[]), tlv(4, &[1]), sequence(&[tlv(2, &[1])])]))
        });
    }),
    ("key identifiers absent", |s, r| {
        any(s, r, |c, _| {
            c.without(id::OWN_KEY);
            c.without(id::ISSUERS_KEY);
        });
    }),
    ("subjectKeyIdentifier of another kind", |s, r| {
        above(s, r, |c, r| c.set(id::OWN_KEY, false, tlv(4, &r.octets(r.clone().below(40) + 1))));
    }),
    ("subjectKeyIdentifier malformed", |s, r| any(s, r, |c, _| c.set(id::OWN_KEY, false, vec![4, 9, 1]))),
    ("authorityKeyIdentifier of another key", |s, r| {
        any(s, r, |c, r| c.set(id::ISSUERS_KEY, false, sequence(&[tlv(0x80, &r.octets(20))])));
    }),
    ("authorityKeyIdentifier by issuer and serial", |s, r| {
        let at = r.below(s.line.len() - 1);
        let up = (at + 2).min(s.line.len() - 1);
        let (right, name) = (r.percent(50), s.line[up].subject.clone());
        let number = if right { s.line[at + 1].serial.clone() } else { vec![0x11, 0x22] };
        let value = sequence(&[tlv(0xa1, &tlv(0xa4, &name)), tlv(0x82, &number)]);
        s.line[at].set(id::ISSUERS_KEY, false, value);
    }),
    ("authorityKeyIdentifier by another issuer", |s, r| {
        let other = super::authorities::stranger(s);
        let at = r.below(s.line.len() - 1);
        let number = s.line[at + 1].serial.clone();
        s.line[at].set(id::ISSUERS_KEY, false, sequence(&[tlv(0xa1, &tlv(0xa4, &other)), tlv(0x82, &number)]));
    }),
    ("authorityKeyIdentifier on the root", |s, r| {
        let root = s.root();
        let value = r.of_these(&[sequence(&[tlv(0x80, &[7; 20])]), sequence(&[])]);
        s.line[root].set(id::ISSUERS_KEY, false, value);
    }),
    ("authorityKeyIdentifier empty or malformed", |s, r| {
        any(s, r, |c, r| c.set(id::ISSUERS_KEY, false, r.of_these(&[sequence(&[]), tlv(4, &[1]), vec![0x30, 9]])));
    }),
    ("key identifiers critical", |s, r| {
        any(s, r, |c, r| {
            if r.percent(50) {
                c.set(id::OWN_KEY, true, tlv(4, &[9; 20]));
            } else {
                c.set(id::ISSUERS_KEY, true, sequence(&[]));
            }
        });
    }),
    ("revocation lists named", |s, r| any(s, r, |c, _| c.set(CDP, false, points()))),
    ("revocation lists named, critical", |s, r| any(s, r, |c, _| c.set(CDP, true, points()))),
    ("authorityInfoAccess", |s, r| {
        any(s, r, |c, r| {
            let critical = r.percent(50);
            c.set(AIA, critical, access());
        });
    }),
    ("policies", |s, r| {
        any(s, r, |c, r| {
            let critical = r.percent(50);
            c.set(
                POLICIES,
                critical,
                sequence(&[sequence(&[oid(r.of_these(&["2.5.29.32.0", "1.3.6.1.4.1.32473.1"]))])]),
            );
        });
    }),
    ("policies malformed", |s, r| {
        any(s, r, |c, r| c.set(POLICIES, r.clone().percent(50), r.of_these(&[sequence(&[]), vec![4, 0]])))
    }),
    ("a policy demanded", |s, r| {
        above(s, r, |c, r| {
            let critical = r.percent(70);
            c.set(POLICY_LIMITS, critical, sequence(&[tlv(0x80, &[0])]));
        });
    }),
    ("a policy demanded and there", |s, _| {
        let root = s.root();
        for c in &mut s.line[..root] {
            c.set(POLICIES, false, sequence(&[sequence(&[oid("1.3.6.1.4.1.32473.1")])]));
        }
        s.line[root].set(POLICY_LIMITS, true, sequence(&[tlv(0x80, &[0])]));
    }),
    ("any policy inhibited", |s, r| {
        above(s, r, |c, r| {
            let critical = r.percent(70);
            c.set(INHIBIT_ANY, critical, tlv(2, &[0]));
        });
    }),
    ("policies mapped", |s, r| {
        above(s, r, |c, r| {
            let critical = r.percent(50);
            let pair = sequence(&[oid("1.3.6.1.4.1.32473.1"), oid("1.3.6.1.4.1.32473.2")]);
            c.set(MAPPINGS, critical, sequence(&[pair]));
        });
    }),
    ("must-staple", |s, r| any(s, r, |c, _| c.set(FEATURES, false, sequence(&[tlv(2, &[5])])))),
    ("issuerAltName", |s, r| {
        any(s, r, |c, r| {
            let critical = r.percent(50);
            c.set(ISSUER_NAMES, critical, sequence(&[tlv(0x82, b"authority.test")]));
        });
    }),
    ("precertificate poison", |s, r| any(s, r, |c, _| c.set(POISON, true, tlv(5, &[])))),
    ("the old type of certificate", |s, r| {
        any(s, r, |c, r| {
            let (bit, critical) = (r.of_these(&[0x80, 0x40, 0x04]), r.percent(40));
            c.set(OLD_TYPE, critical, usage(bit));
        });
    }),
];

fn points() -> Vec<u8> {
    let at = tlv(0x86, b"http://lists.saltmarsh.test/l.crl");
    sequence(&[sequence(&[tlv(0xa0, &tlv(0xa0, &at))])])
}

fn access() -> Vec<u8> {
    let at = tlv(0x86, b"http://127.0.0.1:9/issuer.der");
    sequence(&[sequence(&[oid("1.3.6.1.5.5.7.48.2"), at])])
}

pub(super) fn any(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut Spec, &mut Rng)) {
    let at = if r.percent(50) { 0 } else { r.below(s.line.len()) };
    change(&mut s.line[at], r);
}

pub(super) fn above(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut Spec, &mut Rng)) {
    let at = 1 + r.below(s.line.len() - 1);
    change(&mut s.line[at], r);
}

fn leaf_or_above(s: &mut Situation, r: &mut Rng, change: impl Fn(&mut Spec, bool, &mut Rng)) {
    let at = if r.percent(50) { 0 } else { r.below(s.line.len()) };
    change(&mut s.line[at], at > 0, r);
}
