//! A name that is taken reads back as itself.
#![no_main]

use std::str::FromStr;
use tamga_core::vocabulary::label::Label;
use tamga_core::vocabulary::name::Name;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let Ok(name) = Name::from_str(text) else { return };
    assert!(Name::from_str(&name.to_string()).is_ok_and(|again| again == name), "{name}");
    let _ = (name.remarks(), name.is_host(), name.is_loopback());
    if let Ok(label) = name.label() {
        assert!(Label::from_str(label.as_str()).is_ok());
    }
});
