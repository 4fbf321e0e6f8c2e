//! Timestamps and spans.
#![no_main]

use tamga_core::vocabulary::timestamp::{Span, Timestamp};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(m) = Timestamp::parse(text) {
        assert!(Timestamp::parse(&m.to_string()).is_ok_and(|again| again == m), "{m}");
        let _ = (m.date(), Timestamp::from_x509(&m.to_x509()));
    }
    if let Ok(s) = Span::parse(text) {
        let _ = Timestamp::from_unix(0).plus(s.seconds());
    }
});
