//! A key store, trust store, message, profile or secret, opened with a passphrase. Rounds that take seconds are left out:
//! every INTEGER here is short.
#![no_main]

use tamga_core::pki::format::container::{self, Container};
use tamga_core::vocabulary::secret::Passphrase;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if bytes.windows(2).any(|w| w[0] == 0x02 && (3..6).contains(&w[1])) {
        return;
    }
    let word = Passphrase::new(b"tide".to_vec().into());
    if let Some(container) = Container::of(bytes) {
        let _ = container.open(bytes, None, "x");
    }
    let _ = container::open(bytes, Some(&word), "x");
});
