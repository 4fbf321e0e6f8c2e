//! Any text as `tamga.toml`: parsed completely, or refused with a place in it.
#![no_main]

use std::path::Path;
use tamga_core::deploy::lab::file;
use tamga_core::error::Diagnostic;

libfuzzer_sys::fuzz_target!(|text: &str| {
    match file::read(text, "tamga.toml", Path::new("/lab")) {
        Ok(lab) => {
            assert_eq!(lab.hosts.len(), lab.hosts_typed.len());
            assert!(
                lab.certificates.iter().all(|c| !c.names.is_empty() && c.targets.iter().all(|t| !t.files.is_empty()))
            );
        }
        Err(e) => assert!(!e.what().is_empty() && !e.remedy().is_empty()),
    }
});
