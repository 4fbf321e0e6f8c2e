//! What holds for every input.

#![allow(clippy::unwrap_used, reason = "tests")]

use proptest::prelude::*;
use tamga_core::cert::Certificate;
use tamga_core::form::pem;
use tamga_core::label::Label;
use tamga_core::moment::{Moment, Span};
use tamga_core::name::Name;
use tamga_core::permit::{Cidr, Permit};
use tamga_core::text::harmless;

/// A real certificate to damage: made once.
fn certificate() -> Vec<u8> {
    use tamga_core::cert::profile;
    use tamga_core::key::{KeyAlgorithm, PrivateKey};
    struct Fixed;
    impl tamga_core::ports::Entropy for Fixed {
        fn fill(&self, into: &mut [u8]) {
            for (i, b) in into.iter_mut().enumerate() {
                *b = u8::try_from(i % 200).unwrap() + 7;
            }
        }
    }
    let key = PrivateKey::generate(KeyAlgorithm::P256, &Fixed).unwrap();
    let label = Label::parse("saltmarsh").unwrap();
    let (from, until) = (Moment::from_unix(1_000_000_000), Moment::from_unix(3_000_000_000));
    let c = profile::root(&profile::root_subject(&label), &Permit::default_set(), from, until, &key, &Fixed).unwrap();
    c.der().to_vec()
}

proptest! {
    #[test]
    fn names_never_panic_and_come_back_as_themselves(text in "\\PC{0,60}") {
        if let Ok(name) = Name::parse(&text) {
            prop_assert_eq!(Name::parse(&name.to_string()).unwrap(), name.clone());
            if let Ok(label) = name.label() {
                prop_assert!(Label::parse(label.as_str()).is_ok());
            }
        }
    }

    #[test]
    fn likely_names_are_taken(labels in proptest::collection::vec("[a-z][a-z0-9]{0,20}", 1..6)) {
        let typed = labels.join(".");
        prop_assert_eq!(Name::parse(&typed.to_uppercase()).unwrap(), Name::Dns(typed));
    }

    #[test]
    fn blocks_hold_their_own_addresses(a in any::<u32>(), length in 0_u8..=32) {
        let ip = std::net::IpAddr::from(std::net::Ipv4Addr::from(a));
        let block = Cidr::new(ip, length);
        prop_assert!(block.contains(ip));
        prop_assert_eq!(Cidr::parse(&block.to_string()), Some(block));
        let octets = block.to_octets();
        let mask = u32::from_be_bytes(octets[4..].try_into().unwrap());
        prop_assert_eq!(mask.leading_ones() + mask.trailing_zeros(), 32);
    }

    #[test]
    fn moments_and_spans_never_panic(text in "\\PC{0,30}", seconds in any::<i64>()) {
        let _ = (Moment::parse(&text), Span::parse(&text));
        let m = Moment::from_unix(seconds);
        prop_assert_eq!(Moment::parse(&m.to_string()).unwrap(), m);
        prop_assert_eq!(Moment::from_x509(&m.to_x509()), m);
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
