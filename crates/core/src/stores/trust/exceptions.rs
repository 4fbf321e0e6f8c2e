//! Exceptions that a person once clicked: the browser shows no warning for that host, whatever is served.

use super::firefox;
use crate::plan::ports::Files;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use serde_json::Value;
use std::path::PathBuf;

/// Firefox's file in each profile.
const OVERRIDES: &str = "cert_override.txt";
/// Chromium's directories of profiles, below the home.
pub(crate) const CHROMIUM: [&str; 4] =
    [".config/chromium", ".config/google-chrome", ".config/microsoft-edge", "snap/chromium/common/chromium"];

/// One exception.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exception {
    /// Whose: `firefox` or `chromium`.
    pub client: &'static str,
    /// The file that remembers it.
    pub file: PathBuf,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
}

/// Every exception of the person's browsers.
pub fn all(look: &dyn Look) -> Vec<Exception> {
    let mut out = Vec::new();
    for profile in firefox::profiles(look) {
        let file = profile.join(OVERRIDES);
        let text = look.read(&file).unwrap_or_default();
        for (host, port) in String::from_utf8_lossy(&text).lines().filter_map(of_firefox) {
            out.push(Exception { client: "firefox", file: file.clone(), host, port });
        }
    }
    for folder in CHROMIUM.map(|f| look.home().join(f)) {
        for name in look.list(&folder) {
            let file = folder.join(name).join("Preferences");
            let Some(Ok(v)) = look.read(&file).map(|b| serde_json::from_slice::<Value>(&b)) else { continue };
            let decisions =
                v.pointer("/profile/content_settings/exceptions/ssl_cert_decisions").and_then(Value::as_object);
            for (host, port) in decisions.into_iter().flatten().filter_map(|(key, value)| of_chromium(key, value)) {
                out.push(Exception { client: "chromium", file: file.clone(), host, port });
            }
        }
    }
    out
}

/// `host:port:` and more, then fields between tabs.
fn of_firefox(line: &str) -> Option<(String, u16)> {
    if line.starts_with('#') {
        return None;
    }
    let (place, _) = line.split_once('\t')?;
    let mut parts = place.rsplitn(3, ':');
    // From 2023 on a field for containers follows the port, mostly empty.
    let (last, middle, first) = (parts.next()?, parts.next()?, parts.next());
    match (first, middle.parse::<u16>(), last.parse::<u16>()) {
        (Some(host), Ok(port), Err(_)) => Some((host.trim_matches(['[', ']']).to_owned(), port)),
        (first, _, Ok(port)) => {
            let host = first.map_or_else(|| middle.to_owned(), |f| format!("{f}:{middle}"));
            Some((host.trim_matches(['[', ']']).to_owned(), port))
        }
        _ => None,
    }
}

/// `https://host:port,*`, with decisions that are not empty.
fn of_chromium(key: &str, value: &Value) -> Option<(String, u16)> {
    let map = value.pointer("/setting/cert_exceptions_map")?.as_object()?;
    let (host, port) = key.strip_prefix("https://")?.split(',').next()?.rsplit_once(':')?;
    (!map.is_empty()).then_some(())?;
    Some((host.trim_matches(['[', ']']).to_owned(), port.parse().ok()?))
}

/// The steps that make Firefox forget these; Chromium's are forgotten in its own window.
pub fn forget(look: &dyn Files, which: &[Exception]) -> Vec<Planned> {
    let mut files: Vec<&PathBuf> = which.iter().filter(|e| e.client == "firefox").map(|e| &e.file).collect();
    files.sort();
    files.dedup();
    let mut steps = Vec::new();
    for path in files {
        let Some(before) = look.read(path) else { continue };
        let text = String::from_utf8_lossy(&before).into_owned();
        let gone = |line: &&str| {
            of_firefox(line)
                .is_some_and(|(host, port)| which.iter().any(|e| e.file == *path && e.host == host && e.port == port))
        };
        let after: String = text.split_inclusive('\n').filter(|l| !gone(&l.trim_end())).collect();
        let write = |bytes: Vec<u8>| Step::Write { path: path.clone(), bytes, mode: 0o600 };
        steps.push(Planned { step: write(after.into_bytes()), undo: vec![write(before)] });
    }
    steps
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_and_ports_are_read_in_both_spellings() {
        let of = |l: &str| of_firefox(l).map(|(h, p)| format!("{h} {p}"));
        let tail = "\tOID.2.16.840.1.101.3.4.2.1\tAA:BB\tU\tAAAA";
        assert_eq!(of(&format!("charts.saltmarsh.test:8443{tail}")).as_deref(), Some("charts.saltmarsh.test 8443"));
        assert_eq!(of(&format!("charts.saltmarsh.test:8443:{tail}")).as_deref(), Some("charts.saltmarsh.test 8443"));
        assert_eq!(of(&format!("[::1]:8443:{tail}")).as_deref(), Some("::1 8443"));
        assert_eq!(of("# PSM Certificate Override Settings file"), None);
        assert_eq!(of("nonsense"), None);
        let v = serde_json::json!({"setting": {"cert_exceptions_map": {"-202abc": 1}}});
        assert_eq!(of_chromium("https://localhost:8443,*", &v), Some(("localhost".into(), 8443)));
        let empty = serde_json::json!({"setting": {"cert_exceptions_map": {}}});
        assert_eq!(of_chromium("https://localhost:8443,*", &empty), None);
    }
}
