//! Any bytes as what macOS exports of its trust settings, and as a configuration profile.
#![no_main]

#[path = "memory.rs"]
#[allow(dead_code)]
mod memory;

use tamga_core::pki::format::mobileconfig;
use tamga_core::stores::trust::{self, Goal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = mobileconfig::read(bytes, "x");
    let look = memory::Machine { files: Default::default(), answer: bytes.to_vec() };
    for id in ["macos-user", "macos-machine"] {
        for store in trust::by_id(id).unwrap() {
            for place in store.survey(&look, &[]) {
                let _ = store.change(Goal::Add, memory::root(), &place, &look);
            }
        }
    }
});
