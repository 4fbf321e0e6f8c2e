//! Certificates that are wrong on purpose: each is wrong in just one way, and every client's rules find it.

#![allow(clippy::unwrap_used, clippy::panic, unreachable_pub, dead_code, reason = "tests")]

mod machine;

use machine::Counting;
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::ca::fault::{self, ServerFault};
use tamga_core::ca::report::Authority;
use tamga_core::check::client::case::Input;
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::predict::predict;
use tamga_core::finding::Code;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey, Strength};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::JudgedPurpose;
use tamga_core::vocabulary::timestamp::Timestamp;

const NOW: i64 = 1_795_600_000;

fn lab() -> (Authority, PrivateKey) {
    let entropy = Counting::from(7);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let request = Request::plain(Label::from_str("saltmarsh").unwrap());
    let made = create::root(&request, &key, "x".into(), Timestamp::from_unix(NOW), &entropy).unwrap();
    (made.authority, key)
}

/// An intermediate below it, with its key.
fn below(root: &Authority, root_key: &PrivateKey) -> (Authority, PrivateKey) {
    let entropy = Counting::from(9);
    let key = PrivateKey::generate(KeyAlgorithm::P256, &entropy).unwrap();
    let request = Request::plain(Label::from_str("web").unwrap());
    let now = Timestamp::from_unix(NOW);
    let made = create::intermediate(&request, &key, root, root_key, "y".into(), now, &entropy).unwrap();
    (made.authority, key)
}

fn names() -> Vec<Name> {
    ["charts.saltmarsh.test", "127.0.0.1"].map(|n| Name::from_str(n).unwrap()).to_vec()
}

fn verdict(client: Client, chain: &[Certificate], root: &Authority) -> (Outcome, Vec<Code>) {
    let anchors = [root.certificate.clone()];
    let name = Name::from_str("charts.saltmarsh.test").unwrap();
    let v = predict(
        client,
        &Input {
            served: chain,
            extra: &[],
            anchors: &anchors,
            distrusted: &[],
            distrusted_keys: &[],
            name: Some(&name),
            purpose: Some(JudgedPurpose::Server),
            at: Timestamp::from_unix(NOW),
            lists: &[],
            revocation: Default::default(),
            spoken: Default::default(),
        },
    );
    let mut codes: Vec<Code> = v.judgement.faults.iter().map(|f| f.code).collect();
    codes.dedup();
    (v.outcome, codes)
}

/// What each client finds; None where it takes it.
fn expected(fault: ServerFault, client: Client) -> Option<Code> {
    let unknown = |client| match client {
        // They go by the issuer's name and then find that the key is another.
        Client::Firefox | Client::Deno => Code::BadSignature,
        _ => Code::IssuerUnknown,
    };
    match fault {
        ServerFault::Expired => Some(Code::Expired),
        ServerFault::NotYet => Some(Code::NotYetValid),
        ServerFault::WrongName => Some(Code::NameNotCovered),
        ServerFault::NoIntermediate => Some(Code::IssuerUnknown),
        ServerFault::OldRoot => Some(unknown(client)),
        ServerFault::SelfSigned => Some(Code::SelfSignedLeaf),
        ServerFault::WeakKey => {
            use Client::{Curl, Php, Psql, Python, Ruby, Safari};
            matches!(client, Curl | Python | Ruby | Php | Psql | Safari).then_some(Code::WeakKey)
        }
    }
}

#[test]
fn every_client_finds_the_one_fault_and_nothing_else() {
    let (root, key) = lab();
    for fault in ServerFault::ALL {
        let word = fault.word();
        assert_eq!(ServerFault::from_str(word).unwrap(), fault);
        let made =
            fault::make(fault, &names(), &root, Some(&key), Timestamp::from_unix(NOW), &Counting::from(11)).unwrap();
        assert_eq!(*made.key.public(), made.chain[0].key, "{word}");
        for client in Client::ALL {
            let (outcome, mut codes) = verdict(client, &made.chain, &root);
            if matches!(client, Client::Bun | Client::Grpc) {
                // The addresses among the names are too much for them, whatever else is wrong.
                codes.retain(|c| *c != Code::IpConstraintUnsupported);
                assert!(outcome != Outcome::Accepts, "{word}, {}", client.word());
                assert_eq!(codes.first().copied(), expected(fault, client), "{word}, {}", client.word());
                continue;
            }
            match expected(fault, client) {
                Some(code) => {
                    assert_eq!(codes, [code], "{word}, {}", client.word());
                    assert!(outcome != Outcome::Accepts, "{word}, {}", client.word());
                }
                None => assert_eq!((outcome, codes), (Outcome::Accepts, Vec::new()), "{word}, {}", client.word()),
            }
        }
    }
}

#[test]
fn below_an_intermediate_the_same_faults_come_with_the_intermediate_but_for_one() {
    let (root, root_key) = lab();
    let (web, key) = below(&root, &root_key);
    for (fault, word) in ServerFault::ALL.map(|f| (f, f.word())) {
        let made =
            fault::make(fault, &names(), &web, Some(&key), Timestamp::from_unix(NOW), &Counting::from(11)).unwrap();
        let sent = made.chain.len();
        let alone = matches!(fault, ServerFault::NoIntermediate | ServerFault::OldRoot | ServerFault::SelfSigned);
        assert_eq!(sent, if alone { 1 } else { 2 }, "{word}");
        let (outcome, codes) = verdict(Client::Curl, &made.chain, &root);
        assert!(outcome == Outcome::Refuses && codes.len() == 1, "{word}: {codes:?}");
    }
}

#[test]
fn the_authoritys_key_is_asked_for_only_where_it_signs() {
    let (root, key) = lab();
    for (fault, word) in ServerFault::ALL.map(|f| (f, f.word())) {
        let without = fault::make(fault, &names(), &root, None, Timestamp::from_unix(NOW), &Counting::from(3));
        assert_eq!(without.is_err(), fault.needs_the_authority(), "{word}");
    }
    // A name that the authority may not certify is not certified for show either.
    let outside = [Name::from_str("charts.example.org").unwrap()];
    let made =
        fault::make(ServerFault::Expired, &outside, &root, Some(&key), Timestamp::from_unix(NOW), &Counting::from(3));
    assert!(made.is_err());
    // Without a domain the other host is one below localhost.
    let address = [Name::from_str("127.0.0.1").unwrap()];
    let made =
        fault::make(ServerFault::WrongName, &address, &root, Some(&key), Timestamp::from_unix(NOW), &Counting::from(3))
            .unwrap();
    assert_eq!(made.chain[0].name_words(), ["another.localhost"]);
}

#[test]
fn a_weak_key_is_weak_and_short_lives_are_short() {
    let (root, key) = lab();
    let made = |f| {
        fault::make(f, &names(), &root, Some(&key), Timestamp::from_unix(NOW), &Counting::from(5))
            .unwrap()
            .chain
            .remove(0)
    };
    assert_eq!(made(ServerFault::WeakKey).key.strength(), Strength::Rsa(1024));
    for f in ServerFault::ALL {
        let c = made(f);
        assert!(c.not_after.days_after(Timestamp::from_unix(NOW)) <= 100, "it must not outlive the trial by long");
        assert!(!c.is_ca());
    }
}
