//! Any text as an address, as a Location that leads on from one, and as the head of an answer.
#![no_main]

use std::str::FromStr;
use tamga_core::check::redirect::Address;
use tamga_host::dial::plain;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Some(answered) = plain::parsed(bytes) {
        let start = Address::from_str("http://charts.saltmarsh.test/").unwrap();
        if let Some(next) = answered.location.as_ref().and_then(|l| start.joined(l.as_received())) {
            let _ = next.host_header();
        }
    }
    if let Ok(text) = std::str::from_utf8(bytes) {
        if let Ok(address) = Address::from_str(text) {
            let _ = address.joined(text);
            assert!(!address.host_header().chars().any(|c| c.is_control()), "{text:?}");
        }
    }
});
