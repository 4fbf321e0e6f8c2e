//! What Chromium's protocol tells of the parts of a page: its issues (domain Audits) and what failed to load (domain Network).
//!
//! The state of the padlock says nothing of parts (measured with Chromium 156), so each defect is read from the event that names it.

use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use tamga_core::check::page::{Fate, Part};
use tamga_core::vocabulary::text::harmless;

/// True for the events that are read here.
pub(super) fn counts(method: &str) -> bool {
    matches!(
        method,
        "Audits.issueAdded" | "Network.requestWillBeSent" | "Network.loadingFailed" | "Page.loadEventFired"
    )
}

/// The parts of one page that are not as they should be, each once.
pub(super) fn parts<'a>(events: impl Iterator<Item = &'a Value> + Clone) -> Vec<Part> {
    let failed = failed(events.clone());
    let mut out = BTreeSet::new();
    let mut upgraded = BTreeSet::new();
    for e in events.filter(|e| e["method"] == "Audits.issueAdded") {
        let Some(d) = e.pointer("/params/issue/details/mixedContentIssueDetails") else { continue };
        let text = |key: &str| d[key].as_str().unwrap_or_default();
        let url = text("insecureURL");
        let over_tls = url.replacen("http://", "https://", 1).replacen("ws://", "wss://", 1);
        let fate = match (text("resourceType"), text("resolutionStatus")) {
            ("Form", _) => Fate::Form,
            (_, "MixedContentBlocked") => Fate::Blocked,
            (_, "MixedContentAutomaticallyUpgraded") if failed.contains_key(over_tls.as_str()) => Fate::Missing,
            (_, "MixedContentAutomaticallyUpgraded") => Fate::Upgraded,
            _ => Fate::Clear,
        };
        if fate == Fate::Missing {
            upgraded.insert(over_tls);
        }
        out.insert(Part { fate, url: harmless(url) });
    }
    for (url, code) in failed.iter().filter(|(url, code)| is_of_tls(code) && !upgraded.contains(**url)) {
        out.insert(Part { fate: Fate::Refused(harmless(code)), url: harmless(url) });
    }
    out.into_iter().collect()
}

/// The URLs of what did not come, with why.
fn failed<'a>(events: impl Iterator<Item = &'a Value>) -> BTreeMap<&'a str, &'a str> {
    let mut asked: BTreeMap<&str, &str> = BTreeMap::new();
    let mut out = BTreeMap::new();
    for e in events {
        let text = |pointer: &str| e.pointer(pointer).and_then(Value::as_str);
        let Some(id) = text("/params/requestId") else { continue };
        match e["method"].as_str() {
            Some("Network.requestWillBeSent") => {
                if let Some(url) = text("/params/request/url") {
                    asked.insert(id, url);
                }
            }
            Some("Network.loadingFailed") => {
                if let (Some(url), Some(code)) = (asked.get(id), text("/params/errorText")) {
                    out.insert(*url, code);
                }
            }
            _ => {}
        }
    }
    out
}

/// True for a code that tells of a certificate or of TLS.
fn is_of_tls(code: &str) -> bool {
    ["net::ERR_CERT_", "net::ERR_SSL_", "net::ERR_BAD_SSL_"].iter().any(|start| code.starts_with(start))
}

#[cfg(test)]
#[allow(clippy::disallowed_macros, reason = "messages of the protocol; there is no path in them")]
mod tests {
    use super::*;
    use serde_json::json;

    fn issue(kind: &str, status: &str, url: &str) -> Value {
        json!({"method": "Audits.issueAdded", "params": {"issue": {"code": "MixedContentIssue", "details": {
            "mixedContentIssueDetails": {"resourceType": kind, "resolutionStatus": status, "insecureURL": url,
                "mainResourceURL": "https://charts.saltmarsh.test/"}}}}})
    }

    fn asked(id: &str, url: &str) -> Value {
        json!({"method": "Network.requestWillBeSent", "params": {"requestId": id, "request": {"url": url}}})
    }

    fn lost(id: &str, code: &str) -> Value {
        json!({"method": "Network.loadingFailed", "params": {"requestId": id, "errorText": code}})
    }

    #[test]
    fn each_issue_counts_once_and_its_kind_decides() {
        let image = issue("Image", "MixedContentAutomaticallyUpgraded", "http://charts.saltmarsh.test/a.png");
        let events = [
            image.clone(),
            image,
            issue("Script", "MixedContentBlocked", "http://charts.saltmarsh.test/a.js"),
            issue("Form", "MixedContentWarning", "http://charts.saltmarsh.test/log"),
            issue("Image", "MixedContentWarning", "http://127.0.0.1:3000/b.png"),
        ];
        let found = parts(events.iter());
        let fates: Vec<&Fate> = found.iter().map(|p| &p.fate).collect();
        assert_eq!(fates, [&Fate::Blocked, &Fate::Form, &Fate::Upgraded, &Fate::Clear]);
    }

    #[test]
    fn what_was_asked_for_over_tls_instead_and_failed_is_missing_and_not_refused() {
        let events = [
            issue("Image", "MixedContentAutomaticallyUpgraded", "http://charts.saltmarsh.test/a.png"),
            asked("1", "https://charts.saltmarsh.test/a.png"),
            lost("1", "net::ERR_SSL_PROTOCOL_ERROR"),
            asked("2", "https://tiles.saltmarsh.test/b.png"),
            lost("2", "net::ERR_CERT_AUTHORITY_INVALID"),
            asked("3", "https://tiles.saltmarsh.test/c.png"),
            lost("3", "net::ERR_ABORTED"),
        ];
        let found = parts(events.iter());
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!(found[0], Part { fate: Fate::Missing, url: "http://charts.saltmarsh.test/a.png".into() });
        assert_eq!(found[1].fate, Fate::Refused("net::ERR_CERT_AUTHORITY_INVALID".into()));
    }

    #[test]
    fn events_of_any_shape_are_read() {
        let odd =
            [json!(null), json!({"method": "Audits.issueAdded"}), json!({"method": 7, "params": []}), lost("9", "x")];
        assert!(parts(odd.iter()).is_empty());
    }
}
