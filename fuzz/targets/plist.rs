//! Any bytes as what macOS exports of its trust settings, and as a configuration profile.
#![no_main]

#[path = "memory.rs"]
#[allow(dead_code)]
mod memory;

use tamga_core::pki::format::mobileconfig;
use tamga_core::stores::StoreId;
use tamga_core::stores::trust::{self, Goal};

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let _ = mobileconfig::read(bytes, "x");
    let look = memory::Machine { files: Default::default(), answer: bytes.to_vec() };
    for id in [StoreId::MacosUser, StoreId::MacosMachine] {
        for store in trust::by_id(id) {
            for place in store.survey(&look, &[]) {
                let _ = store.change(Goal::Add, memory::root(), &place, &look);
            }
        }
    }
});
