//! Moments and spans.
#![no_main]

use tamga_core::moment::{Moment, Span};

libfuzzer_sys::fuzz_target!(|text: &str| {
    if let Ok(m) = Moment::parse(text) {
        assert!(Moment::parse(&m.to_string()).is_ok_and(|again| again == m), "{m}");
        let _ = (m.date(), Moment::from_x509(&m.to_x509()));
    }
    if let Ok(s) = Span::parse(text) {
        let _ = Moment::from_unix(0).plus(s.seconds());
    }
});
