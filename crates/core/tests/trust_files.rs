//! Trust stores of JVMs under any sequence of changes: they hold just what was put in, in order, and every other byte stays.

#![allow(clippy::unwrap_used, reason = "tests")]

use proptest::prelude::*;
use tamga_core::pki::format::contents::Named;
use tamga_core::pki::format::{jks, pkcs12};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;
use zeroize::Zeroizing;

fn passphrase(text: &str) -> Passphrase {
    Passphrase::new(Zeroizing::new(text.as_bytes().to_vec()))
}

/// Something that is a certificate to a store, which does not look inside: a SEQUENCE of that many octets.
fn der(n: u8) -> Vec<u8> {
    let body = vec![n; usize::from(n) + 1];
    [&[0x30, 0x82, 0, u8::try_from(body.len() % 256).unwrap()][..], &body].concat()
}

fn named(n: u8) -> Named<Vec<u8>> {
    Named { alias: Some(format!("tamga-gauge{n}-{n:08x}")), thing: der(n) }
}

fn held(bytes: &[u8], is_jks: bool) -> Vec<Vec<u8>> {
    let read = match is_jks {
        true => jks::read(bytes, Some(&passphrase("changeit")), "it"),
        false => pkcs12::read(bytes, None, "it"),
    };
    read.unwrap().certificates.into_iter().map(|c| c.thing).collect()
}

proptest! {
    #[test]
    fn a_store_holds_what_was_put_in(
        is_jks in any::<bool>(),
        first in prop::collection::vec(0_u8..60, 0..5),
        changes in prop::collection::vec((any::<bool>(), 60_u8..70), 0..12),
    ) {
        let now = Timestamp::from_unix(1_795_600_000);
        let words = passphrase("changeit");
        let start: Vec<Named<Vec<u8>>> = first.iter().map(|n| named(*n)).collect();
        let original = match is_jks {
            true => jks::write_trust(&start, &words, now).unwrap().to_vec(),
            false => pkcs12::write_trust(&start).to_vec(),
        };
        let mut bytes = original.clone();
        let mut expected: Vec<u8> = first.clone();
        for (adds, n) in changes {
            bytes = match (adds, is_jks) {
                (true, true) => jks::with(&bytes, &words, &named(n), now).unwrap(),
                (true, false) => pkcs12::with(&bytes, &named(n)).unwrap(),
                (false, true) => jks::without(&bytes, &words, &der(n)).unwrap(),
                (false, false) => pkcs12::without(&bytes, &der(n)).unwrap(),
            };
            if adds { expected.push(n) } else { expected.retain(|e| *e != n) }
            let wanted: Vec<Vec<u8>> = expected.iter().map(|n| der(*n)).collect();
            prop_assert_eq!(held(&bytes, is_jks), wanted);
        }
        // Everything of ours out again: byte for byte the file that it was.
        for n in 60_u8..70 {
            bytes = match is_jks {
                true => jks::without(&bytes, &words, &der(n)).unwrap(),
                false => pkcs12::without(&bytes, &der(n)).unwrap(),
            };
        }
        prop_assert_eq!(bytes, original);
    }

    #[test]
    fn damage_is_refused_and_never_spread(is_jks in any::<bool>(), at in any::<prop::sample::Index>(), flip in 1_u8..=255) {
        let start = [named(3), named(4)];
        let words = passphrase("changeit");
        let mut bytes = match is_jks {
            true => jks::write_trust(&start, &words, Timestamp::from_unix(1_795_600_000)).unwrap().to_vec(),
            false => pkcs12::write_trust(&start).to_vec(),
        };
        let i = at.index(bytes.len());
        bytes[i] ^= flip;
        if is_jks {
            // The sum over all finds every change.
            prop_assert!(jks::with(&bytes, &words, &named(9), Timestamp::from_unix(0)).is_err());
        } else if let Ok(after) = pkcs12::with(&bytes, &named(9)) {
            prop_assert!(held(&after, false).contains(&der(9)));
        }
    }

    #[test]
    fn cut_files_are_refused(is_jks in any::<bool>(), cut in any::<prop::sample::Index>()) {
        let start = [named(3)];
        let words = passphrase("changeit");
        let bytes = match is_jks {
            true => jks::write_trust(&start, &words, Timestamp::from_unix(1_795_600_000)).unwrap().to_vec(),
            false => pkcs12::write_trust(&start).to_vec(),
        };
        let short = &bytes[..cut.index(bytes.len())];
        prop_assert!(jks::without(short, &words, &der(3)).is_err());
        prop_assert!(pkcs12::without(short, &der(3)).is_err());
    }
}
