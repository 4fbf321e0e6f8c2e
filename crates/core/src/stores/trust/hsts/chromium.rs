//! As Chromium's profiles remember it: the file is `TransportSecurity` in a profile, JSON of version 2: each host as base64 of SHA-256 of its name in DNS wire form,
//! `mode`, `expiry` in seconds since 1970, `sts_include_subdomains` (measured with Chromium 156). It is written some seconds after the
//! visit.

use super::Remembered;
use crate::plan::ports::Look;
use crate::stores::trust::exceptions::CHROMIUM;
use crate::vocabulary::client_id::Client;
use crate::vocabulary::timestamp::Timestamp;
use base64ct::{Base64, Encoding};
use serde_json::Value;
use sha2::{Digest, Sha256};

/// What the profiles of Chromium and its relatives remember of a host name.
pub(super) fn remembered(look: &dyn Look, host: &str) -> Vec<Remembered> {
    let client = Client::Chromium;
    let mut out = Vec::new();
    for folder in CHROMIUM.map(|f| look.home().join(f)) {
        for name in look.list(&folder) {
            let file = folder.join(name).join("TransportSecurity");
            let Some(bytes) = look.read(&file) else { continue };
            out.extend(covering(&bytes, host, look.now()).map(|(domain, until)| Remembered {
                client,
                file,
                domain,
                until,
            }));
        }
    }
    out
}

/// The entry of one file that covers a host at a time: its own, or the nearest above it with subdomains.
fn covering(bytes: &[u8], host: &str, now: Timestamp) -> Option<(String, Timestamp)> {
    let entries = serde_json::from_slice::<Value>(bytes).ok()?;
    let entries = entries["sts"].as_array()?;
    let host = host.trim_end_matches('.').to_ascii_lowercase();
    let mut domain = host.as_str();
    loop {
        let key = hashed(domain)?;
        let found =
            entries.iter().find(|e| e["host"].as_str() == Some(&key) && e["mode"].as_str() == Some("force-https"));
        if let Some(e) = found {
            // Chromium writes a fraction of a second too.
            let until = Timestamp::from_unix(e["expiry"].as_f64()? as i64);
            if until > now && (domain == host || e["sts_include_subdomains"].as_bool() == Some(true)) {
                return Some((domain.to_owned(), until));
            }
        }
        domain = domain.split_once('.')?.1;
    }
}

/// Base64 of SHA-256 of a name in DNS wire form (RFC 1035 §3.1); None if a label has more octets than that form can say.
fn hashed(name: &str) -> Option<String> {
    let mut wire = Vec::with_capacity(name.len() + 2);
    for label in name.split('.') {
        wire.push(u8::try_from(label.len()).ok().filter(|n| (1..=63).contains(n))?);
        wire.extend(label.as_bytes());
    }
    wire.push(0);
    Some(Base64::encode_string(&Sha256::digest(&wire)))
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;

    fn file(host: &str, expiry: f64, below: bool) -> Vec<u8> {
        let entry = serde_json::json!({"host": hashed(host).unwrap(), "mode": "force-https", "expiry": expiry,
            "sts_include_subdomains": below, "sts_observed": 1.5});
        serde_json::json!({"sts": [entry], "version": 2}).to_string().into_bytes()
    }

    #[test]
    fn a_name_is_hashed_as_chromium_does() {
        // SHA-256 of \x03app\x04test\x00, as Chromium 156 wrote it.
        assert_eq!(hashed("app.test").unwrap(), "Ce6DHIG5Nav7VAuZQ1K8Qn5Zj0HW7RFcEoxWkXOVWZU=");
        assert_eq!(hashed("a..b"), None);
    }

    #[test]
    fn the_host_itself_and_what_is_above_it_count() {
        let now = Timestamp::from_unix(1_000);
        let covers = |f: &[u8], host: &str| covering(f, host, now).map(|(d, _)| d);
        let own = file("charts.saltmarsh.test", 2_000.25, false);
        assert_eq!(covers(&own, "charts.saltmarsh.test").as_deref(), Some("charts.saltmarsh.test"));
        assert_eq!(covers(&own, "Charts.Saltmarsh.test.").as_deref(), Some("charts.saltmarsh.test"));
        assert_eq!(covers(&own, "a.charts.saltmarsh.test"), None);
        let above = file("saltmarsh.test", 2_000.0, true);
        assert_eq!(covers(&above, "charts.saltmarsh.test").as_deref(), Some("saltmarsh.test"));
        assert_eq!(covers(&file("saltmarsh.test", 999.0, true), "saltmarsh.test"), None, "it has passed");
        assert_eq!(covers(b"no json", "saltmarsh.test"), None);
        assert_eq!(covers(br#"{"sts":[{"host":1,"expiry":"x"}]}"#, "saltmarsh.test"), None);
    }
}
