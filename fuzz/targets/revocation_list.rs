//! A revocation list, bare or in PEM.
#![no_main]

use tamga_core::pki::cert::crl;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(l) = crl::find(bytes, "x") else { return };
    let _ = (l.entries.len(), l.count(), l.issuer_words(), l.sha256());
});
