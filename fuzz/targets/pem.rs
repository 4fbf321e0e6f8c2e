//! PEM: whatever is read can be written and reads back.
#![no_main]

use tamga_core::pki::format::pem;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let (blocks, _) = pem::read(bytes);
    for b in blocks {
        let again = pem::read(pem::write("OBJECT", &b.der).as_bytes()).0;
        assert_eq!(again.len(), 1);
        assert_eq!(*again[0].der, *b.der);
    }
    let _ = (pem::certificates(bytes), pem::bare(&String::from_utf8_lossy(bytes)));
});
