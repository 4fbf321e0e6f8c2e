//! Any octets as a question about certificates: read or refused, and never more than was sent.
#![no_main]

use tamga_core::pki::ocsp::Request;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if let Ok(request) = Request::read(bytes) {
        assert!(!request.asked.is_empty() && request.asked.len() <= 16);
        assert!(request.asked.iter().all(|id| id.serial.len() <= 42));
        assert!(request.nonce.is_none_or(|n| n.len() <= 130));
    }
});
