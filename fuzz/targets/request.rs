//! A certificate request, bare or in PEM.
#![no_main]

use tamga_core::pki::cert::csr;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Ok(r) = csr::find(bytes, "x") else { return };
    let _ = (r.name_words(), r.subject_words(), r.sha256(), r.proves_possession().is_ok(), r.key.strength());
});
