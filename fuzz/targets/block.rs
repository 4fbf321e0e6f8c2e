//! A block of addresses reads back as itself, and a set that took a word allows or refuses without failing.
#![no_main]

use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::permit::{Cidr, Permit};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Some(block) = Cidr::parse(text) {
        assert_eq!(Cidr::parse(&block.to_string()), Some(block));
        assert_eq!(Cidr::from_octets(&block.to_octets()), Some(block));
    }
    let mut permit = Permit::default_set();
    if permit.extend(text).is_ok() {
        if let Ok(name) = Name::parse(text) {
            assert!(permit.allows(&name), "{name} was permitted");
        }
    }
});
