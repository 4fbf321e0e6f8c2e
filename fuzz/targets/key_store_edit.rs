//! Any bytes as a trust store: a root goes in and comes out, and then it is byte for byte as before.
#![no_main]

#[path = "memory.rs"]
#[allow(dead_code)]
mod memory;

use tamga_core::pki::format::contents::Named;
use tamga_core::pki::format::{holds_key, jks, pkcs12};
use tamga_core::vocabulary::secret::Passphrase;
use tamga_core::vocabulary::timestamp::Timestamp;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let der = memory::root().certificate.der().to_vec();
    let named = Named { alias: Some("saltmarsh".into()), thing: der.clone() };
    let usual = Passphrase::new(b"changeit".to_vec().into());
    if let Ok(with) = jks::with(bytes, &usual, &named, Timestamp::from_unix(1_795_600_000)) {
        if let Ok(back) = jks::without(&with, &usual, &der) {
            let had = jks::without(bytes, &usual, &der).unwrap_or_default();
            assert!(back == bytes || back == had);
        }
    }
    if let Ok(with) = pkcs12::with(bytes, &named) {
        let _ = pkcs12::without(&with, &der);
    }
    let _ = holds_key::may_hold(bytes);
});
