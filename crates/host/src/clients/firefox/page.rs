//! What Firefox writes into its console about the parts of a page (category "Mixed Content", measured with Firefox 153). Of what it loads
//! in clear text from this machine, and of forms, it writes nothing.

use std::collections::BTreeSet;
use tamga_core::check::page::{Fate, Part};
use tamga_core::vocabulary::text::harmless;

/// The parts that the messages name, each once.
pub(super) fn parts<'a>(messages: impl Iterator<Item = &'a str>) -> Vec<Part> {
    let mut out = BTreeSet::new();
    for message in messages {
        let Some(url) = quoted(message) else { continue };
        let lower = message.to_ascii_lowercase();
        let fate = if lower.contains("block") {
            Fate::Blocked
        } else if lower.contains("upgrad") {
            Fate::Upgraded
        } else {
            Fate::Clear
        };
        out.insert(Part { fate, url: harmless(url) });
    }
    out.into_iter().collect()
}

/// The address in quotation marks of any kind.
fn quoted(message: &str) -> Option<&str> {
    let at = message.find("http://").or_else(|| message.find("ws://"))?;
    let end = message[at..].find(['”', '’', '"', '\'', ' '])?;
    Some(&message[at..at + end])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_names_one_address_and_what_became_of_it() {
        let messages = [
            "Blocked loading mixed active content “http://charts.saltmarsh.test/wind.js”",
            "Mixed Content: Upgrading insecure display request ‘http://charts.saltmarsh.test/a.png’ to use ‘https’",
            "Loading mixed (insecure) display content “http://127.0.0.1/b.png” on a secure page",
            "Blocked loading mixed active content “http://charts.saltmarsh.test/wind.js”",
            "a message without an address",
            "“http://never ends",
        ];
        let found = parts(messages.into_iter());
        let fates: Vec<&Fate> = found.iter().map(|p| &p.fate).collect();
        assert_eq!(fates, [&Fate::Blocked, &Fate::Upgraded, &Fate::Clear, &Fate::Clear]);
        assert_eq!(found[0].url, "http://charts.saltmarsh.test/wind.js");
    }
}
