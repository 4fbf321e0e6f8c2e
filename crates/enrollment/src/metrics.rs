//! Counters, as OpenMetrics text.

use crate::event::What;
use std::fmt::Write as _;
use std::sync::atomic::{AtomicU64, Ordering};

/// The media type of the text.
pub const MEDIA_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// What happened since the start.
#[derive(Debug, Default)]
pub struct Metrics {
    requests: [AtomicU64; 5],
    decisions: [AtomicU64; KINDS.len()],
    refused: [AtomicU64; tamga_core::enrollment::problem::ProblemType::ALL.len()],
}

const KINDS: [(What, &str); 11] = [
    (What::AccountMade, "account-made"),
    (What::AccountChanged, "account-changed"),
    (What::Ordered, "ordered"),
    (What::Proved, "proved"),
    (What::NotProved, "not-proved"),
    (What::Issued, "issued"),
    (What::Revoked, "revoked"),
    (What::Refused, "refused"),
    (What::ListSigned, "list-signed"),
    (What::Renewed, "renewed"),
    (What::Failed, "failed"),
];

impl Metrics {
    /// Counts an answer by the first digit of its status.
    pub fn answered(&self, status: u16) {
        let class = usize::from(status / 100).clamp(1, 5) - 1;
        self.requests[class].fetch_add(1, Ordering::Relaxed);
    }

    /// Counts a decision.
    pub fn decided(&self, what: What) {
        if let Some(at) = KINDS.iter().position(|(k, _)| *k == what) {
            self.decisions[at].fetch_add(1, Ordering::Relaxed);
        }
    }

    /// Counts a refusal by its type.
    pub fn refused(&self, kind: tamga_core::enrollment::problem::ProblemType) {
        let all = tamga_core::enrollment::problem::ProblemType::ALL;
        if let Some(at) = all.iter().position(|k| *k == kind) {
            self.refused[at].fetch_add(1, Ordering::Relaxed);
        }
    }

    /// The text. `gauges` are further values: name, help, value.
    pub fn text(&self, gauges: &[(&str, &str, i64)]) -> String {
        let mut out = String::new();
        let read = |c: &AtomicU64| c.load(Ordering::Relaxed);
        out.push_str("# HELP tamga_enrollment_requests Requests answered, by class of status.\n");
        out.push_str("# TYPE tamga_enrollment_requests counter\n");
        for (at, count) in self.requests.iter().enumerate() {
            let _ = writeln!(out, "tamga_enrollment_requests_total{{status=\"{}xx\"}} {}", at + 1, read(count));
        }
        out.push_str("# HELP tamga_enrollment_decisions Decisions, by kind.\n");
        out.push_str("# TYPE tamga_enrollment_decisions counter\n");
        for ((_, word), count) in KINDS.iter().zip(&self.decisions) {
            let _ = writeln!(out, "tamga_enrollment_decisions_total{{kind=\"{word}\"}} {}", read(count));
        }
        out.push_str("# HELP tamga_enrollment_problems Requests refused, by the type of the problem.\n");
        out.push_str("# TYPE tamga_enrollment_problems counter\n");
        let all = tamga_core::enrollment::problem::ProblemType::ALL;
        for (kind, count) in all.iter().zip(&self.refused).filter(|(_, c)| read(c) > 0) {
            let _ = writeln!(out, "tamga_enrollment_problems_total{{type=\"{kind}\"}} {}", read(count));
        }
        for (name, help, value) in gauges {
            let _ = writeln!(out, "# HELP {name} {help}\n# TYPE {name} gauge\n{name} {value}");
        }
        out.push_str("# EOF\n");
        out
    }
}
