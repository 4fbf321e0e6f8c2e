//! What holds for every input.

#![allow(clippy::unwrap_used, reason = "tests")]

use proptest::prelude::*;
use std::str::FromStr;
use tamga_core::ca::authority::create::{self, Request};
use tamga_core::ca::request::Wanted;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::cert::crl::{self, Crl, Revoked};
use tamga_core::pki::cert::csr::{self, Csr};
use tamga_core::pki::format::{pem, private_key};
use tamga_core::pki::key::{KeyAlgorithm, PrivateKey};
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::permit::{Cidr, Permit};
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::text::harmless;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};
use zeroize::Zeroizing;

struct Fixed;

impl tamga_core::plan::ports::Entropy for Fixed {
    fn fill(&self, into: &mut [u8]) {
        for (i, b) in into.iter_mut().enumerate() {
            *b = u8::try_from(i % 200).unwrap() + 7;
        }
    }
}

/// A real root with its key: something to damage.
fn root() -> (Certificate, PrivateKey) {
    let key = PrivateKey::generate(KeyAlgorithm::P256, &Fixed).unwrap();
    let request = Request::plain(Label::from_str("saltmarsh").unwrap());
    let now = Timestamp::from_unix(1_700_000_000);
    let made = create::root(&request, &key, "x".into(), now, &Fixed).unwrap();
    (made.authority.certificate, key)
}

fn certificate() -> Vec<u8> {
    root().0.der().to_vec()
}

fn request() -> Vec<u8> {
    let wanted = Wanted {
        names: vec![Name::from_str("gauge-7.saltmarsh.test").unwrap(), Name::from_str("192.168.7.7").unwrap()],
        purposes: vec![Purpose::Server],
        subject: None,
        folder: "x".into(),
    };
    let key = PrivateKey::generate(KeyAlgorithm::P256, &Fixed).unwrap();
    tamga_core::ca::request::make(&wanted, &key, None, b"", &Fixed).unwrap().0.der().to_vec()
}

fn list() -> Vec<u8> {
    let (issuer, key) = root();
    let entries: Vec<Revoked> = (1..5)
        .map(|n| Revoked { serial: format!("{n:02x}ff"), at: issuer.not_before, reason: Reason::ALL[n] })
        .collect();
    let (this_update, next_update) = (issuer.not_before, issuer.not_after);
    crl::ToSign { issuer: &issuer, number: 7, this_update, next_update, entries: &entries }.sign(&key, &Fixed).unwrap()
}

proptest! {
    #[test]
    fn names_never_panic_and_come_back_as_themselves(text in "\\PC{0,60}") {
        if let Ok(name) = Name::from_str(&text) {
            prop_assert_eq!(Name::from_str(&name.to_string()).unwrap(), name.clone());
            if let Ok(label) = name.label() {
                prop_assert!(Label::from_str(label.as_str()).is_ok());
            }
        }
    }

    #[test]
    fn likely_names_are_taken(labels in proptest::collection::vec("[a-z][a-z0-9]{0,20}", 1..6)) {
        let typed = labels.join(".");
        prop_assert_eq!(Name::from_str(&typed.to_uppercase()).unwrap(), Name::Dns(typed));
    }

    #[test]
    fn blocks_hold_their_own_addresses(a in any::<u32>(), length in 0_u8..=32) {
        let ip = std::net::IpAddr::from(std::net::Ipv4Addr::from(a));
        let block = Cidr::new(ip, length);
        prop_assert!(block.contains(ip));
        prop_assert_eq!(Cidr::from_str(&block.to_string()).ok(), Some(block));
        let octets = block.to_octets();
        let mask = u32::from_be_bytes(octets[4..].try_into().unwrap());
        prop_assert_eq!(mask.leading_ones() + mask.trailing_zeros(), 32);
    }

    #[test]
    fn moments_and_spans_never_panic(text in "\\PC{0,30}", seconds in any::<i64>()) {
        let _ = (Timestamp::from_str(&text), Span::from_str(&text));
        let m = Timestamp::from_unix(seconds);
        prop_assert_eq!(Timestamp::from_str(&m.to_string()).unwrap(), m);
        prop_assert_eq!(Timestamp::from_x509(&m.to_x509()), m);
    }

    #[test]
    fn damaged_certificates_never_panic(at in 0_usize..900, to in any::<u8>(), cut in 0_usize..900) {
        let mut der = certificate();
        let n = der.len();
        der[at % n] = to;
        let _ = Certificate::read(&der, "x").map(|c| (c.name_words(), c.is_self_signed(), c.subject_words()));
        let _ = Certificate::read(&der[..cut % n], "x");
    }

    #[test]
    fn damaged_requests_and_lists_never_panic(at in 0_usize..900, to in any::<u8>(), cut in 0_usize..900) {
        let (mut csr, mut crl) = (request(), list());
        let (n, m) = (csr.len(), crl.len());
        csr[at % n] = to;
        crl[at % m] = to;
        let _ = Csr::read(&csr, "x").map(|c| (c.name_words(), c.subject_words(), c.proves_possession().is_ok()));
        let _ = Crl::read(&crl, "x").map(|c| (c.entries.len(), c.count(), c.issuer_words()));
        let _ = (csr::find(&csr[..cut % n], "x"), crl::find(&crl[..cut % m], "x"));
    }

    #[test]
    fn keys_are_read_or_refused(noise in any::<Vec<u8>>(), at in 0_usize..140, to in any::<u8>()) {
        let _ = private_key::read(&noise, "x");
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Fixed).unwrap();
        let mut der = private_key::pkcs8(&key).unwrap();
        let n = der.len();
        der[at % n] = to;
        // A changed key is refused, or is a key of its own: never one whose halves do not belong together.
        if let Ok(stored) = private_key::read(&der, "x") {
            let found = stored.open(Some(&Passphrase::new(Zeroizing::new(vec![1])))).unwrap();
            let again = private_key::read(&private_key::pkcs8(&found).unwrap(), "x").unwrap().open(None).unwrap();
            prop_assert_eq!(again.public(), found.public());
        }
    }

    #[test]
    fn limits_come_back_from_the_certificate(domains in proptest::collection::vec("[a-z]{1,9}\\.[a-z]{2,6}", 0..5), a in any::<u32>(), length in 0_u8..=32) {
        let mut permit = Permit::default_set();
        for d in &domains {
            permit.extend(d).unwrap();
        }
        permit.extend(&Cidr::new(std::net::IpAddr::from(std::net::Ipv4Addr::from(a)), length).to_string()).unwrap();
        let key = PrivateKey::generate(KeyAlgorithm::P256, &Fixed).unwrap();
        let mut request = Request::plain(Label::from_str("x").unwrap());
        request.wanted.permit = match &permit { Permit::Only { domains, blocks } => domains.iter().cloned().chain(blocks.iter().map(ToString::to_string)).collect(), Permit::Any => vec![] };
        let made = create::root(&request, &key, "x".into(), Timestamp::from_unix(1_700_000_000), &Fixed).unwrap();
        let found = tamga_core::ca::authority::limits::permit_of(made.authority.certificate.constraints.as_ref().unwrap());
        prop_assert_eq!(found, permit);
    }

    #[test]
    fn pem_reads_what_it_wrote_and_anything_else(der in proptest::collection::vec(any::<u8>(), 1..400), noise in any::<Vec<u8>>()) {
        let text = pem::write("CERTIFICATE", &der);
        let (blocks, broken) = pem::read(text.as_bytes());
        prop_assert_eq!((blocks.len(), broken), (1, 0));
        prop_assert_eq!(&*blocks[0].der, &der);
        let _ = pem::read(&noise);
    }

    #[test]
    fn what_is_shown_is_harmless(text in any::<String>()) {
        prop_assert!(!harmless(&text).chars().any(char::is_control));
    }
}
