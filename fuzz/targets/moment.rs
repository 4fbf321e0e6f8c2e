//! Timestamps and spans.
#![no_main]

use std::str::FromStr;
use tamga_core::vocabulary::timestamp::{Span, Timestamp};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(m) = Timestamp::from_str(text) {
        assert!(Timestamp::from_str(&m.to_string()).is_ok_and(|again| again == m), "{m}");
        let _ = (m.date(), Timestamp::from_x509(&m.to_x509()));
    }
    if let Ok(s) = Span::from_str(text) {
        let _ = Timestamp::from_unix(0).plus(s.seconds());
    }
});
