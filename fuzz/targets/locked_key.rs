//! An encrypted private key and a passphrase. Rounds that take seconds are left out: every INTEGER here is short.
#![no_main]

use tamga_core::pki::format::private_key::{self, Stored};
use tamga_core::vocabulary::secret::Passphrase;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    if bytes.windows(2).any(|w| w[0] == 0x02 && (3..9).contains(&w[1]))
        || (bytes.first() != Some(&0x30) && !holds(bytes, b"DEK-Info"))
    {
        return;
    }
    if let Ok(Stored::Locked(locked)) = private_key::read(bytes, "x") {
        let _ = locked.open(&Passphrase::new(b"tide".to_vec().into()));
    }
});

fn holds(bytes: &[u8], what: &[u8]) -> bool {
    bytes.windows(what.len()).any(|w| w == what)
}
