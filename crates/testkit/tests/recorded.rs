//! What real clients said of chains drawn at random, recorded: judged again here without any client installed.
//!
//! The files in `crates/testkit/tests/data` are made by `differential --from KEPT --cover FILE` from runs that were kept.

#![allow(clippy::unwrap_used, reason = "tests")]

use tamga_core::check::client::Client;
use tamga_core::check::predict::objections;
use tamga_testkit::differential::cover::held_by;
use tamga_testkit::differential::kept::Kept;
use tamga_testkit::differential::report;

/// What no recorded chain needs of OpenSSL's objections in programs that ask for names in their own way.
const OPENSSL: &[&str] = &[
    "UNSPECIFIED",
    "EE_KEY_TOO_SMALL",
    "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
    "CERT_CHAIN_TOO_LONG",
    "KEYUSAGE_NO_CERTSIGN",
    "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
    "ERROR_IN_CERT_NOT_BEFORE_FIELD",
    "key-mismatch",
    "ECC_CERT_NOT_FOR_SIGNING",
    "issuer-name",
];

/// Objections that no recorded chain needs. The list is exact: a chain that comes to hold one of them shortens it.
const UNHELD: &[(&str, &[&str])] = &[
    ("chromium", &["too-large", "key-mismatch", "distrusted", "chaining", "iterations", "weak-key", "public-key"]),
    (
        "curl",
        &[
            "UNSPECIFIED",
            "EE_KEY_TOO_SMALL",
            "UNABLE_TO_GET_ISSUER_CERT",
            "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
            "CERT_CHAIN_TOO_LONG",
            "KEYUSAGE_NO_CERTSIGN",
            "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
            "ERROR_IN_CERT_NOT_BEFORE_FIELD",
            "key-mismatch",
            "ECC_CERT_NOT_FOR_SIGNING",
        ],
    ),
    (
        "firefox",
        &[
            "SEC_ERROR_UNSUPPORTED_ELLIPTIC_CURVE",
            "SEC_ERROR_UNTRUSTED_ISSUER",
            "MOZILLA_PKIX_ERROR_INADEQUATE_KEY_SIZE",
        ],
    ),
    ("gnutls", &["purpose"]),
    ("go", &["too-large", "panic", "key", "signature"]),
    ("java", &["unreadable", "too-large", "too-many", "key-size", "chaining", "key-mismatch", "client"]),
    (
        "node",
        &[
            "UNSPECIFIED",
            "EE_KEY_TOO_SMALL",
            "CA_KEY_TOO_SMALL",
            "CERT_CHAIN_TOO_LONG",
            "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
            "ERROR_IN_CERT_NOT_BEFORE_FIELD",
            "issuer-name",
        ],
    ),
    ("python", OPENSSL),
    (
        "bun",
        &[
            "UNSPECIFIED",
            "EE_KEY_TOO_SMALL",
            "CA_KEY_TOO_SMALL",
            "CA_MD_TOO_WEAK",
            "DEPTH_ZERO_SELF_SIGNED_CERT",
            "CERT_CHAIN_TOO_LONG",
            "INVALID_CA",
            "EC_KEY_EXPLICIT_PARAMS",
            "KEYUSAGE_NO_CERTSIGN",
            "ERROR_IN_CERT_NOT_BEFORE_FIELD",
            "key-mismatch",
            "ECC_CERT_NOT_FOR_SIGNING",
            "issuer-name",
            "BORING_KIND",
            "BORING_CURVE",
        ],
    ),
    (
        "grpc",
        &[
            "UNSPECIFIED",
            "EE_KEY_TOO_SMALL",
            "CA_KEY_TOO_SMALL",
            "CA_MD_TOO_WEAK",
            "DEPTH_ZERO_SELF_SIGNED_CERT",
            "UNABLE_TO_GET_ISSUER_CERT",
            "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
            "CERT_CHAIN_TOO_LONG",
            "EC_KEY_EXPLICIT_PARAMS",
            "KEYUSAGE_NO_CERTSIGN",
            "ERROR_IN_CERT_NOT_BEFORE_FIELD",
            "key-mismatch",
            "ECC_CERT_NOT_FOR_SIGNING",
            "issuer-name",
            "BORING_CURVE",
        ],
    ),
    ("git", &["purpose", "key-mismatch"]),
    ("deno", &["signatures", "length", "key-mismatch"]),
    ("ruby", OPENSSL),
    ("psql", OPENSSL),
    (
        "php",
        &[
            "UNSPECIFIED",
            "EE_KEY_TOO_SMALL",
            "UNABLE_TO_VERIFY_LEAF_SIGNATURE",
            "KEYUSAGE_NO_CERTSIGN",
            "UNABLE_TO_DECODE_ISSUER_PUBLIC_KEY",
            "ERROR_IN_CERT_NOT_BEFORE_FIELD",
            "key-mismatch",
            "ECC_CERT_NOT_FOR_SIGNING",
            "issuer-name",
        ],
    ),
];

/// Each run, and how many clients took part.
fn recorded() -> [(Kept, usize); 3] {
    [
        (Kept::parse(include_bytes!("data/observed.json")), 8),
        (Kept::parse(include_bytes!("data/observed-more.json")), 5),
        (Kept::parse(include_bytes!("data/observed-boring.json")), 2),
    ]
}

#[test]
fn every_client_said_what_is_foreseen() {
    for (kept, clients) in recorded() {
        let columns = report::compared(&kept);
        assert_eq!(columns.len(), clients);
        for c in &columns {
            assert!(c.cases > 50, "{}: {} cases", c.client.word(), c.cases);
        }
        let differences = report::differences(&kept, &columns, 10);
        assert!(columns.iter().all(|c| c.different.is_empty()), "{differences}");
    }
}

#[test]
fn every_objection_left_out_makes_a_recorded_chain_go_wrong() {
    let all = &recorded();
    let took_part = |c: Client| all.iter().map(|a| &a.0).find(|k| k.observed.said.contains_key(&c)).map(|k| (c, k));
    let clients = Client::ALL.into_iter().filter_map(took_part);
    std::thread::scope(|scope| {
        let threads: Vec<_> = clients
            .map(|(c, kept)| {
                scope.spawn(move || {
                    let unheld = objections(c).into_iter().filter(|o| held_by(c, kept, o).is_empty());
                    let known = UNHELD.iter().find(|u| u.0 == c.word()).map_or(&[][..], |u| u.1);
                    assert_eq!(unheld.collect::<Vec<_>>(), known, "{}", c.word());
                })
            })
            .collect();
        threads.into_iter().for_each(|t| t.join().unwrap());
    });
}
