//! Every kind of chain that is asked about: fault × key × shape × what the stores hold.

use super::chain::{Chain, Key, Kind, Pool, State};
use super::make::{Hash, basic, bits, constraints, id, name, names, purposes, sequence, tlv, usage};

const DAY: i64 = 86_400;
/// An extension that nobody knows.
const FOREIGN: &str = "1.3.6.1.4.1.32473.7";

type Change = fn(&mut Chain);

/// What may be wrong (or odd) with the leaf, whatever stands above it.
const OF_LEAF: &[(&str, Change)] = &[
    ("nothing", |_| {}),
    ("expired", |c| c.leaf.recipe.until = -3_600),
    ("not-yet-valid", |c| c.leaf.recipe.from = 3_600),
    ("another-name", |c| c.leaf.recipe.set(id::NAMES, false, names(&["archive.saltmarsh.test"]))),
    ("client-only", |c| c.leaf.recipe.set(id::PURPOSES, false, purposes(&[id::CLIENT]))),
    ("unknown-critical", |c| c.leaf.recipe.set(FOREIGN, true, tlv(5, &[]))),
    ("signature-changed", |c| c.leaf.recipe.spoilt = true),
];

/// The same, once each.
const OF_LEAF_ONCE: &[(&str, Change)] = &[
    ("no-alternative-names", |c| c.leaf.recipe.without(id::NAMES)),
    ("address-as-dns-name", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["dns:127.0.0.1"]));
    }),
    ("address", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["127.0.0.1"]));
    }),
    ("another-address", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["127.0.0.2"]));
    }),
    ("address-as-common-name", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.subject = name("127.0.0.1");
        c.leaf.recipe.without(id::NAMES);
    }),
    ("wildcard", |c| c.leaf.recipe.set(id::NAMES, false, names(&["*.saltmarsh.test"]))),
    ("wildcard-under-top", |c| {
        c.host = "saltmarsh.test".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["*.test"]));
    }),
    ("wildcard-two-levels", |c| {
        c.host = "b7.buoys.saltmarsh.test".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["*.saltmarsh.test"]));
    }),
    ("wildcard-base", |c| {
        c.host = "saltmarsh.test".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["*.saltmarsh.test"]));
    }),
    ("trailing-dot", |c| c.leaf.recipe.set(id::NAMES, false, names(&["charts.saltmarsh.test."]))),
    ("underscore", |c| {
        c.host = "my_charts.saltmarsh.test".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["my_charts.saltmarsh.test"]));
    }),
    ("upper-case", |c| c.leaf.recipe.set(id::NAMES, false, names(&["CHARTS.Saltmarsh.Test"]))),
    ("many-names", |c| {
        let many: Vec<String> = (0..200).map(|n| format!("b{n}.saltmarsh.test")).collect();
        let all: Vec<&str> = many.iter().map(String::as_str).chain([super::chain::HOST]).collect();
        c.leaf.recipe.set(id::NAMES, false, names(&all));
    }),
    ("empty-subject", |c| {
        c.leaf.recipe.subject = name("");
        c.leaf.recipe.set(id::NAMES, true, names(&[super::chain::HOST]));
    }),
    ("empty-subject-names-not-critical", |c| c.leaf.recipe.subject = name("")),
    ("no-purpose", |c| c.leaf.recipe.without(id::PURPOSES)),
    ("any-purpose", |c| c.leaf.recipe.set(id::PURPOSES, false, purposes(&[id::ANY]))),
    ("client-and-server", |c| c.leaf.recipe.set(id::PURPOSES, false, purposes(&[id::CLIENT, id::SERVER]))),
    ("no-key-usage", |c| c.leaf.recipe.without(id::USAGE)),
    ("usage-list-signing-only", |c| c.leaf.recipe.set(id::USAGE, true, usage(bits::CRL_SIGN))),
    ("usage-agreement-only", |c| c.leaf.recipe.set(id::USAGE, true, usage(bits::KEY_AGREEMENT))),
    ("no-basic-constraints", |c| c.leaf.recipe.without(id::BASIC)),
    ("leaf-is-a-ca", |c| c.leaf.recipe.set(id::BASIC, true, basic(true, None))),
    ("no-key-identifiers", |c| {
        c.leaf.recipe.set(id::ISSUERS_KEY, false, vec![]);
        c.leaf.recipe.set(id::OWN_KEY, false, vec![]);
    }),
    ("foreign-key-identifier", |c| {
        c.leaf.recipe.set(id::ISSUERS_KEY, false, sequence(&[tlv(0x80, &[7; 20])]));
    }),
    ("unknown-not-critical", |c| c.leaf.recipe.set(FOREIGN, false, tlv(5, &[]))),
    ("ten-years", |c| c.leaf.recipe.until = 3_650 * DAY - 600 * DAY),
    ("beyond-2050", |c| {
        c.root.recipe.until = 20_000 * DAY;
        c.leaf.recipe.until = 12_000 * DAY;
    }),
    ("outlives-its-issuer", |c| c.leaf.recipe.until = 4_000 * DAY),
    ("one-day", |c| c.leaf.recipe.until = 3_600),
    ("names-malformed", |c| c.leaf.recipe.set(id::NAMES, false, vec![0x30, 0x05, 0x82, 0x01])),
];

/// What came up among chains drawn at random, made small there, and settled: each divides clients that share a library.
const SETTLED: &[(&str, Change)] = &[
    ("common-name-under-an-empty-purpose", |c| {
        by_common_name(c, None);
        c.leaf.recipe.set(id::PURPOSES, false, sequence(&[]));
    }),
    ("common-name-beside-another-name", |c| by_common_name(c, Some((0x82, b"archive.saltmarsh.test")))),
    ("common-name-beside-a-uri", |c| by_common_name(c, Some((0x86, b"https://archive.saltmarsh.test/")))),
    ("common-name-beside-a-service", |c| {
        // otherName with SRVName (RFC 4985): id-on-dnsSRV, then the name as an IA5String.
        let on_dns_srv = [0x06, 8, 0x2b, 6, 1, 5, 5, 7, 8, 7].to_vec();
        let service = [on_dns_srv, tlv(0xa0, &tlv(0x16, b"_https.saltmarsh.test"))].concat();
        by_common_name(c, Some((0xa0, &service)));
    }),
    ("common-name-beside-a-mail-address", |c| by_common_name(c, Some((0x81, b"keeper@saltmarsh.test")))),
    ("common-name-beside-an-address", |c| by_common_name(c, Some((0x87, &[127, 0, 0, 9])))),
    ("dot-in-front", |c| c.leaf.recipe.set(id::NAMES, false, sequence(&[tlv(0x82, b".saltmarsh.test")]))),
    ("star-inside-a-label", |c| c.leaf.recipe.set(id::NAMES, false, names(&["ch*ts.saltmarsh.test"]))),
    ("octets-behind-the-names", |c| {
        let named = [names(&[super::chain::HOST]), vec![0]].concat();
        c.leaf.recipe.set(id::NAMES, false, named);
    }),
    ("trailing-dot-under-limits", |c| {
        c.leaf.recipe.set(id::NAMES, false, names(&[super::chain::HOST, "charts.saltmarsh.test."]));
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["saltmarsh.test"], &[]));
    }),
    ("wildcard-over-an-excluded-host", |c| {
        c.leaf.recipe.set(id::NAMES, false, names(&[super::chain::HOST, "*.buoys.saltmarsh.test"]));
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&[], &["b1.buoys.saltmarsh.test"]));
    }),
    ("limits-with-a-minimum", |c| {
        let tree = sequence(&[tlv(0x82, b"saltmarsh.test"), tlv(0x80, &[0])]);
        c.root.recipe.set(id::CONSTRAINTS, true, sequence(&[tlv(0xa0, &tree)]));
    }),
];

/// The common name is the host; beside it there is this alternative name, or none.
fn by_common_name(c: &mut Chain, beside: Option<(u8, &[u8])>) {
    c.leaf.recipe.subject = name(super::chain::HOST);
    match beside {
        Some((tag, octets)) => c.leaf.recipe.set(id::NAMES, false, sequence(&[tlv(tag, octets)])),
        None => c.leaf.recipe.without(id::NAMES),
    }
}

/// What may be wrong with the root, directly above the leaf.
const OF_ROOT: &[(&str, Change)] = &[
    ("root-expired", |c| c.root.recipe.until = -3_600),
    ("root-not-yet-valid", |c| c.root.recipe.from = 3_600),
    ("root-without-basic-constraints", |c| c.root.recipe.without(id::BASIC)),
    ("root-denies-being-a-ca", |c| c.root.recipe.set(id::BASIC, true, basic(false, None))),
    ("root-without-key-usage", |c| c.root.recipe.without(id::USAGE)),
    ("root-usage-lists-only", |c| c.root.recipe.set(id::USAGE, true, usage(bits::CRL_SIGN))),
    ("root-basic-not-critical", |c| c.root.recipe.set(id::BASIC, false, basic(true, None))),
    ("root-without-key-identifier", |c| c.root.recipe.set(id::OWN_KEY, false, vec![])),
    ("root-unknown-critical", |c| c.root.recipe.set(FOREIGN, true, tlv(5, &[]))),
    ("root-permits-the-name", |c| {
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["saltmarsh.test"], &[]));
    }),
    ("root-permits-another-name", |c| {
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["harbour.test"], &[]));
    }),
    ("root-permits-another-name-not-critical", |c| {
        c.root.recipe.set(id::CONSTRAINTS, false, constraints(&["harbour.test"], &[]));
    }),
    ("root-excludes-the-name", |c| {
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&[], &["charts.saltmarsh.test"]));
    }),
    ("root-permits-with-leading-dot", |c| {
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&[".saltmarsh.test"], &[]));
    }),
    ("root-permits-another-block", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["127.0.0.1"]));
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["10.0.0.0/255.0.0.0"], &[]));
    }),
    ("root-permits-ipv4-only", |c| {
        c.leaf.recipe.set(id::NAMES, false, names(&[super::chain::HOST, "::1"]));
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["127.0.0.0/255.0.0.0", "test"], &[]));
    }),
    ("root-permits-one-of-two-names", |c| {
        c.leaf.recipe.set(id::NAMES, false, names(&[super::chain::HOST, "charts.harbour.test"]));
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&["saltmarsh.test"], &[]));
    }),
    ("root-for-clients-only", |c| c.root.recipe.set(id::PURPOSES, false, purposes(&[id::CLIENT]))),
];

/// What may be wrong with an intermediate.
const BETWEEN: &[(&str, Change)] = &[
    ("intermediate-expired", |c| c.between[0].recipe.until = -3_600),
    ("intermediate-not-yet-valid", |c| c.between[0].recipe.from = 3_600),
    ("intermediate-without-basic-constraints", |c| c.between[0].recipe.without(id::BASIC)),
    ("intermediate-denies-being-a-ca", |c| c.between[0].recipe.set(id::BASIC, true, basic(false, None))),
    ("intermediate-usage-lists-only", |c| c.between[0].recipe.set(id::USAGE, true, usage(bits::CRL_SIGN))),
    ("intermediate-without-key-usage", |c| c.between[0].recipe.without(id::USAGE)),
    ("intermediate-unknown-critical", |c| c.between[0].recipe.set(FOREIGN, true, tlv(5, &[]))),
    ("intermediate-signature-changed", |c| c.between[0].recipe.spoilt = true),
    ("intermediate-for-clients-only", |c| c.between[0].recipe.set(id::PURPOSES, false, purposes(&[id::CLIENT]))),
    ("intermediate-for-servers", |c| c.between[0].recipe.set(id::PURPOSES, false, purposes(&[id::SERVER]))),
    ("intermediate-permits-another-name", |c| {
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&["harbour.test"], &[]));
    }),
    ("intermediate-permits-another-block", |c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.set(id::NAMES, false, names(&["127.0.0.1"]));
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&["10.0.0.0/255.0.0.0"], &[]));
    }),
    ("intermediate-excludes-the-name", |c| {
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&[], &["saltmarsh.test"]));
    }),
    ("intermediate-permits-the-name", |c| {
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&["saltmarsh.test"], &[]));
    }),
    ("intermediate-demands-a-policy", |c| {
        // policyConstraints: requireExplicitPolicy 0; nobody below has a policy.
        c.between[0].recipe.set("2.5.29.36", true, vec![0x30, 3, 0x80, 1, 0]);
    }),
    ("intermediate-demands-a-policy-not-critical", |c| {
        c.between[0].recipe.set("2.5.29.36", false, vec![0x30, 3, 0x80, 1, 0]);
    }),
    ("root-allows-no-intermediate", |c| c.root.recipe.set(id::BASIC, true, basic(true, Some(0)))),
    ("not-served", |c| c.served = vec![0]),
    ("root-served", |c| c.served = vec![0, 1, 2]),
    ("served-twice", |c| c.served = vec![0, 1, 1]),
];

/// What may be wrong with two intermediates.
const TWO_BETWEEN: &[(&str, Change)] = &[
    ("upper-allows-no-intermediate", |c| c.between[0].recipe.set(id::BASIC, true, basic(true, Some(0)))),
    ("upper-allows-one-intermediate", |c| c.between[0].recipe.set(id::BASIC, true, basic(true, Some(1)))),
    ("misordered", |c| c.served = vec![0, 2, 1]),
    ("lower-not-served", |c| c.served = vec![0, 2]),
    ("upper-not-served", |c| c.served = vec![0, 1]),
    ("lower-expired", |c| c.between[1].recipe.until = -3_600),
    ("upper-permits-another-name", |c| {
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&["harbour.test"], &[]));
    }),
];

/// What the stores may hold.
const STATES: &[(&str, State)] = &[
    ("root-absent", State::Absent),
    ("older-root-only", State::Older),
    ("older-root-too", State::Both),
    ("leaf-in-store", State::Leaf),
    ("root-distrusted", State::Distrusted),
    ("exception", State::Exception),
];

/// Keys: of the leaf, and of what is above it.
const KEYS: &[(&str, Key, Key)] = &[
    ("p384", Key::P384, Key::P256(0)),
    ("p521", Key::P521, Key::P256(0)),
    ("ed25519", Key::Ed25519, Key::P256(0)),
    ("rsa2048", Key::Rsa(0), Key::Rsa(1)),
    ("rsa1024", Key::Weak, Key::P256(0)),
    ("under-p384", Key::P256(4), Key::P384),
    ("under-p521", Key::P256(4), Key::P521),
    ("under-ed25519", Key::P256(4), Key::Ed25519),
    ("under-rsa1024", Key::P256(4), Key::Weak),
];

/// The key of the roots that a browser distrusts.
const DISTRUSTED: Key = Key::P256(5);

/// All of them.
pub fn all(pool: &Pool) -> Vec<Kind> {
    let mut out: Vec<Kind> = Vec::new();
    let mut add = |word: String, intermediates: usize, change: &dyn Fn(&mut Chain)| {
        let mut chain = Chain::good(intermediates);
        change(&mut chain);
        out.push(chain.kind(&word, pool));
    };
    for (fault, change) in OF_LEAF {
        for n in 0..3 {
            add(format!("{fault}, {n} between"), n, change);
        }
        for (state, held) in STATES {
            add(format!("{fault}, {state}"), 0, &|c| {
                change(c);
                c.state = *held;
                if *held == State::Distrusted {
                    c.root.key = DISTRUSTED;
                }
            });
        }
    }
    for (list, n) in [(OF_LEAF_ONCE, 0), (SETTLED, 0), (OF_ROOT, 0), (BETWEEN, 1), (TWO_BETWEEN, 2)] {
        for (fault, change) in list {
            add((*fault).to_owned(), n, change);
        }
    }
    for (word, leaf, above) in KEYS {
        for (fault, change) in [OF_LEAF[0], OF_LEAF[1]] {
            add(format!("{fault}, {word}"), 0, &|c| {
                change(c);
                (c.leaf.key, c.root.key) = (*leaf, *above);
            });
        }
    }
    add("rsa2048, usage encipherment only".into(), 0, &|c| {
        c.leaf.key = Key::Rsa(0);
        c.leaf.recipe.set(id::USAGE, true, usage(bits::KEY_ENCIPHERMENT));
    });
    // As Tamga makes them: no basicConstraints.
    add("self-signed without basic constraints, in store".into(), 0, &|c| {
        (c.alone, c.state) = (true, State::Leaf);
        c.leaf.recipe.subject = name("self-signed without basic constraints");
        c.leaf.recipe.without(id::BASIC);
    });
    add("signature-changed, rsa above".into(), 0, &|c| (c.root.key, c.leaf.recipe.spoilt) = (Key::Rsa(1), true));
    add("no-alternative-names, another common name".into(), 0, &|c| {
        c.leaf.recipe.subject = name("archive.saltmarsh.test");
        c.leaf.recipe.without(id::NAMES);
    });
    add("no-alternative-names, address".into(), 0, &|c| {
        c.host = "127.0.0.1".into();
        c.leaf.recipe.without(id::NAMES);
    });
    // Two faults at once: which of them does a client name?
    for (word, first, second) in [
        ("expired and another-name", OF_LEAF[1].1, OF_LEAF[3].1),
        ("expired and client-only", OF_LEAF[1].1, OF_LEAF[4].1),
        ("another-name and client-only", OF_LEAF[3].1, OF_LEAF[4].1),
        ("expired and unknown-critical", OF_LEAF[1].1, OF_LEAF[5].1),
        ("expired and root-permits-another-name", OF_LEAF[1].1, OF_ROOT[10].1),
        ("expired and root-expired", OF_LEAF[1].1, OF_ROOT[0].1),
        ("another-name and root-expired", OF_LEAF[3].1, OF_ROOT[0].1),
    ] {
        add(word.into(), 0, &|c| {
            first(c);
            second(c);
        });
    }
    // Settled as those above: GnuTLS forgot what is permitted below a limit that only excludes, until 3.8.13.
    add("intermediate permits another name, root excludes it".into(), 1, &|c| {
        c.root.recipe.set(id::CONSTRAINTS, true, constraints(&[], &["harbour.test"]));
        c.between[0].recipe.set(id::CONSTRAINTS, true, constraints(&["harbour.test"], &[]));
    });
    for n in [5, 6, 7, 9, 10] {
        add(format!("nothing, {n} between"), n, &|_| {});
    }
    add("sha1 on the leaf".into(), 0, &|c| {
        (c.root.key, c.leaf.recipe.hash) = (Key::Rsa(1), Hash::Sha1);
    });
    add("sha1 on the intermediate".into(), 1, &|c| {
        (c.root.key, c.between[0].recipe.hash) = (Key::Rsa(1), Hash::Sha1);
    });
    add("sha1 on the root".into(), 0, &|c| (c.root.key, c.root.recipe.hash) = (Key::Rsa(1), Hash::Sha1));
    add("key of a distrusted root".into(), 0, &|c| c.root.key = DISTRUSTED);
    add("intermediate-in-store".into(), 1, &|c| c.state = State::Intermediate);
    add("root absent, one between".into(), 1, &|c| c.state = State::Absent);
    add("root absent, served".into(), 1, &|c| {
        c.state = State::Absent;
        c.served = vec![0, 1, 2];
    });
    for (word, state) in [("self-signed", State::Absent), ("self-signed, in store", State::Leaf)] {
        add(word.into(), 0, &|c| {
            (c.alone, c.state) = (true, state);
            c.leaf.recipe.subject = name(word);
        });
    }
    add("self-signed CA, in store".into(), 0, &|c| {
        (c.alone, c.state) = (true, State::Leaf);
        c.leaf.recipe.subject = name("self-signed CA");
        c.leaf.recipe.set(id::BASIC, true, basic(true, None));
        c.leaf.recipe.set(id::USAGE, true, usage(bits::DIGITAL_SIGNATURE | bits::CERT_SIGN));
    });
    out
}
