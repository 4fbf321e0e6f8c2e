//! Any text as `tamga.toml`: read, or refused with a place in it.
#![no_main]

use tamga_core::apply::file;
use tamga_core::error::Told;

libfuzzer_sys::fuzz_target!(|text: &str| {
    match file::read(text, "tamga.toml") {
        Ok((lab, wanted)) => assert_eq!(lab.certificate.len(), wanted.len()),
        Err(e) => assert!(!e.what().is_empty() && !e.remedy().is_empty()),
    }
});
