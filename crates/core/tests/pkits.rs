//! The public suite of path validation (PKITS, NIST): every case run, all agree but for named sections.
//!
//! It comes with the vectors of a package; without it the test says so and is skipped, visibly.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, clippy::disallowed_macros, reason = "tests")]

use std::path::{Path, PathBuf};
use tamga_core::check::client::case::Input;
use tamga_core::check::client::rules::{self, Rule};
use tamga_core::check::client::{Client, Outcome, Policy, by_policy, standard};
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::{self, Crl};
use tamga_core::pki::chain::revocation::Revocation;
use tamga_core::vocabulary::timestamp::Timestamp;

/// All of it is valid from 2010 to 2030.
const NOW: i64 = 1_795_600_000;

/// Set where nothing may be skipped.
const COMPLETE: &str = "TAMGA_TESTS_COMPLETE";

fn folder() -> Option<PathBuf> {
    let named = std::env::var_os("TAMGA_VECTORS").map(PathBuf::from);
    let vectors = named.unwrap_or("/usr/lib/python3/dist-packages/cryptography_vectors".into());
    let place = vectors.join("x509/PKITS_data");
    if place.is_dir() {
        return Some(place);
    }
    assert!(std::env::var_os(COMPLETE).is_none(), "the vectors must be installed here: {}", place.to_string_lossy());
    eprintln!("SKIPPED: python3-cryptography-vectors is not installed");
    None
}

fn files(folder: &Path) -> Vec<(String, Vec<u8>)> {
    let mut all: Vec<(String, Vec<u8>)> = std::fs::read_dir(folder)
        .unwrap()
        .flatten()
        .map(|e| (e.file_name().to_string_lossy().into_owned(), std::fs::read(e.path()).unwrap()))
        .collect();
    all.sort();
    all
}

struct Suite {
    anchor: Certificate,
    authorities: Vec<Certificate>,
    /// Name, certificate (None: it does not parse), what must come of it.
    cases: Vec<(String, Option<Certificate>, bool)>,
    lists: Vec<Crl>,
}

fn suite(folder: &Path) -> Suite {
    let (mut anchor, mut authorities, mut cases) = (None, Vec::new(), Vec::new());
    for (name, bytes) in files(&folder.join("certs")) {
        let read = Certificate::read(&bytes, &name).ok();
        match name.strip_suffix("EE.crt") {
            _ if name == "TrustAnchorRootCertificate.crt" => anchor = read,
            // The cases of 4.8 and 4.12 that bear no word of their outcome are about the policies that come of them.
            Some(case) if case.starts_with("Valid") || case.starts_with("Invalid") => {
                let good = case.starts_with("Valid");
                cases.push((case.to_owned(), read, good));
            }
            Some(_) => {}
            None => authorities.extend(read),
        }
    }
    let lists =
        files(&folder.join("crls")).iter().filter_map(|(name, bytes)| crl::Crl::read(bytes, name).ok()).collect();
    Suite { anchor: anchor.unwrap(), authorities, cases, lists }
}

/// The cases in which a policy says otherwise than the suite.
fn disagreeing(s: &Suite, policy: &Policy) -> Vec<String> {
    let wrong = |(name, certificate, good): &(String, Option<Certificate>, bool)| {
        let accepted = certificate.as_ref().is_some_and(|c| {
            let input = Input {
                served: std::slice::from_ref(c),
                extra: &s.authorities,
                anchors: std::slice::from_ref(&s.anchor),
                distrusted: &[],
                distrusted_keys: &[],
                name: None,
                purpose: None,
                at: Timestamp::from_unix(NOW),
                lists: &s.lists,
                revocation: Revocation::Required,
                spoken: Default::default(),
            };
            by_policy(policy, Client::Standard, &input).outcome == Outcome::Accepts
        });
        (accepted != *good).then(|| name.clone())
    };
    s.cases.iter().filter_map(wrong).collect()
}

/// Sections of the suite in which Tamga says otherwise, and why.
const ELSEWHERE: [(&str, &[&str]); 5] = [
    ("4.1 DSA is not verified", &["ValidDSASignaturesTest4", "ValidDSAParameterInheritanceTest5"]),
    ("4.4 negative serial numbers are refused", &["ValidNegativeSerialNumberTest14"]),
    ("4.4 the lists of those who sign lists are not looked into", &["InvalidSeparateCertificateandCRLKeysTest21"]),
    (
        "4.14 lists that cover a part, or that another signs, do not count",
        &[
            "ValiddistributionPointTest1",
            "ValiddistributionPointTest4",
            "ValiddistributionPointTest5",
            "ValiddistributionPointTest7",
            "ValidonlyContainsCACertsTest13",
            "ValidonlySomeReasonsTest18",
            "ValidonlySomeReasonsTest19",
            "ValidIDPwithindirectCRLTest22",
            "ValidIDPwithindirectCRLTest24",
            "ValidIDPwithindirectCRLTest25",
            "ValidcRLIssuerTest28",
            "ValidcRLIssuerTest29",
            "ValidcRLIssuerTest30",
            "ValidcRLIssuerTest33",
        ],
    ),
    ("4.15 delta lists do not count", &["InvaliddeltaCRLTest4", "ValiddeltaCRLTest5"]),
];

/// The rules of paths, by their places: signatures, dates, authorities, path lengths, name constraints, critical extensions, lists,
/// policies. The others are about purposes, names and clients, of which the suite says nothing; the matrix of clients holds those.
const OF_PATHS: [usize; 8] = [1, 3, 4, 5, 6, 7, 14, 15];

#[test]
fn every_case_is_run_and_all_agree_but_for_named_sections_and_no_rule_is_idle() {
    let Some(folder) = folder() else { return };
    let s = suite(&folder);
    let wrong = disagreeing(&s, &standard::POLICY);
    let mut named: Vec<String> = ELSEWHERE.iter().flat_map(|e| e.1).map(|n| (*n).to_owned()).collect();
    let mut sorted = wrong.clone();
    sorted.sort();
    named.sort();
    assert_eq!(sorted, named);
    eprintln!("{} cases, {} of them in sections that are judged otherwise", s.cases.len(), named.len());
    assert!(s.cases.len() >= 200 && named.len() * 100 <= s.cases.len() * 15, "{} of {}", named.len(), s.cases.len());
    let without = |i: usize| -> &'static [Rule] {
        let kept = rules::ALL.iter().enumerate().filter(|(n, _)| *n != i).map(|(_, r)| *r);
        Box::leak(kept.collect::<Vec<_>>().into_boxed_slice())
    };
    let noticed = |i: usize| {
        let left = Policy { rules: without(i), ..standard::POLICY };
        disagreeing(&s, &left) != wrong
    };
    let idle: Vec<usize> = std::thread::scope(|scope| {
        let running: Vec<_> = OF_PATHS.iter().map(|i| (*i, scope.spawn(|| noticed(*i)))).collect();
        running.into_iter().filter_map(|(i, t)| (!t.join().unwrap()).then_some(i)).collect()
    });
    assert!(idle.is_empty(), "no case notices when these rules are left out: {idle:?}");
}
