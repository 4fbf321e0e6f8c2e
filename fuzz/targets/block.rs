//! A block of addresses reads back as itself, and a set that took a word allows or refuses without failing.
#![no_main]

use std::str::FromStr;
use tamga_core::vocabulary::name::Name;
use tamga_core::vocabulary::permit::{Cidr, Permit};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(block) = Cidr::from_str(text) {
        assert_eq!(Cidr::from_str(&block.to_string()).ok(), Some(block));
        assert_eq!(Cidr::from_octets(&block.to_octets()), Some(block));
    }
    let mut permit = Permit::default_set();
    if permit.extend(text).is_ok() {
        if let Ok(name) = Name::from_str(text) {
            assert!(permit.allows(&name), "{name} was permitted");
        }
    }
});
