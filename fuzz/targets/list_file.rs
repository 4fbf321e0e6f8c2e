//! The file of many names.
#![no_main]

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(all) = tamga_core::ca::list_file::read(text, "x") {
        assert!(all.iter().all(|e| !e.names.is_empty()));
    }
});
