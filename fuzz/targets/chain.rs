//! Any certificates in any order, faulty ones too, judged by every client's rules: an answer, never a panic, and no acceptance without a root.
#![no_main]

use std::str::FromStr;
use tamga_core::check::client::case::Input;
use tamga_core::check::client::{Client, Outcome};
use tamga_core::check::predict::predict;
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::purpose::JudgedPurpose;
use tamga_core::vocabulary::timestamp::Timestamp;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    // DER one behind the other; an octet before each says whether it is served (0), at hand (1) or trusted (2).
    let (mut served, mut extra, mut anchors) = (Vec::new(), Vec::new(), Vec::new());
    let mut rest = bytes;
    while let [kind, 0x30, 0x82, a, b, ..] = rest {
        let length = 4 + (usize::from(*a) << 8 | usize::from(*b));
        let Some(der) = rest.get(1..1 + length) else { break };
        if let Some(c) = Certificate::read_any(der) {
            match kind % 3 {
                0 => served.push(c),
                1 => extra.push(c),
                _ => anchors.push(c),
            }
        }
        rest = &rest[1 + length..];
    }
    let name = Name::from_str("charts.saltmarsh.test").ok();
    for client in Client::ALL {
        let verdict = predict(
            client,
            &Input {
                served: &served,
                extra: &extra,
                anchors: &anchors,
                distrusted: &[],
                distrusted_keys: &[],
                name: name.as_ref(),
                purpose: Some(JudgedPurpose::Server),
                at: Timestamp::from_unix(1_795_600_000),
                lists: &[],
                revocation: Default::default(),
                spoken: Default::default(),
            },
        );
        assert!(verdict.outcome != Outcome::Accepts || (!anchors.is_empty() && !served.is_empty()));
    }
});
