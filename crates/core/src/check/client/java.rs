//! The JVM. Measured with OpenJDK 17 on Debian 12.

/// A message of the JVM as it is shown and compared: without the alert that it sent, the classes of the exceptions and the anchor's name.
pub fn said(message: &str) -> String {
    let is_class = |w: &&str| w.ends_with("Exception:") && w.contains('.');
    let is_alert = |w: &&str| w.starts_with('(') && w.ends_with(')') && w.contains('_');
    let words: Vec<&str> = message.split(' ').filter(|w| !is_class(w) && !is_alert(w)).collect();
    let words = words.join(" ");
    match (words.split_once("TrustAnchor with subject \""), words.rsplit_once("\" ")) {
        (Some((before, _)), Some((_, after))) => format!("{before}TrustAnchor {after}"),
        _ => words,
    }
}
