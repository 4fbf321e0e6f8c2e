//! A certificate: read, worded, compared and judged.
#![no_main]

use std::str::FromStr;
use tamga_core::pki::cert::Certificate;
use tamga_core::pki::chain::{constraints, name_match};
use tamga_core::pki::difference::{self, Thing};
use tamga_core::vocabulary::name::Name;

libfuzzer_sys::fuzz_target!(|der: &[u8]| {
    let Ok(c) = Certificate::read(der, "x") else { return };
    assert_eq!(c.der(), der);
    let _ = (c.name_words(), c.subject_words(), c.issuer_words(), c.is_self_signed(), c.key.strength());
    let _ = (tamga_core::ca::renew::names_of(&c), tamga_core::ca::renew::purposes_of(&c));
    if let Ok(host) = Name::from_str("gauge-7.saltmarsh.test") {
        let _ = name_match::covers(&c, &host, name_match::STRICT);
    }
    if let Some(s) = &c.constraints {
        let _ = constraints::violated(s, &c);
    }
    let _ = name_match::has_address_as_dns(&c);
    let _ = difference::compare(&Thing::Certificate(&c), &Thing::Certificate(&c));
});
