//! The words of the command line: labels, reasons, purposes, key kinds, finding codes.
#![no_main]

use std::str::FromStr;
use tamga_core::finding::Code;
use tamga_core::pki::key::KeyAlgorithm;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::purpose::Purpose;
use tamga_core::vocabulary::reason::Reason;
use tamga_core::vocabulary::text::harmless;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let _ = (Reason::from_str(text), Purpose::from_str(text), KeyAlgorithm::from_str(text), Code::from_str(text));
    if let Ok(label) = Label::from_str(text) {
        assert!(!label.as_str().contains(['/', '\\', '\0']) && label.as_str() != ".." && label.as_str() != ".");
    }
    let _ = Label::from_text(text);
    assert!(!harmless(text).chars().any(char::is_control));
});
