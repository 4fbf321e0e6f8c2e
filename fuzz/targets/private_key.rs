//! A private key in any form; what is taken is written and reads back as the same key.
#![no_main]

use tamga_core::pki::format::private_key::{self, Stored};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = private_key::is_locked(bytes);
    if let Ok(Stored::Open(key)) = private_key::read(bytes, "x") {
        let written = private_key::pkcs8(&key).expect("a key that was read can be written");
        let again = private_key::read(&written, "x").and_then(|s| s.open(None)).expect("and read again");
        assert_eq!(again.public(), key.public());
    }
});
