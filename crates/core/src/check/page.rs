//! The page behind the certificate: what a browser that accepted the connection still found wrong with the parts of the page.
//!
//! A padlock says nothing of these: Chromium's `securityState` stays `secure` while parts are blocked (measured with Chromium 156).
//! The terms are those of "Mixed Content" (W3C, Candidate Recommendation 2023): a *blockable* part is not loaded, an *upgradable* one is
//! asked for over HTTPS instead.

use crate::check::client::Client;
use crate::finding::{Code, Finding, Severity};
use crate::vocabulary::text::cut;

/// What became of one part of a page.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fate {
    /// Asked for over plain HTTP, and blocked.
    Blocked,
    /// Asked for over HTTPS instead of plain HTTP, and not received.
    Missing,
    /// Its server's certificate or TLS was refused: the browser's own code.
    Refused(String),
    /// A form that sends what is typed over plain HTTP.
    Form,
    /// Loaded over HTTPS instead of plain HTTP.
    Upgraded,
    /// Loaded over plain HTTP.
    Clear,
}

/// One part of a page that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Part {
    /// What became of it.
    pub fate: Fate,
    /// Its URL as the page names it, without control characters.
    pub url: String,
}

/// A page as one browser saw it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Page {
    /// Which browser.
    pub client: Client,
    /// Its URL.
    pub url: String,
    /// `window.isSecureContext`.
    pub secure_context: bool,
    /// Each part once.
    pub parts: Vec<Part>,
}

impl Page {
    /// The URLs that the page asks for, or sends to, over plain HTTP, each once.
    pub fn insecure(&self) -> Vec<&str> {
        let mut out: Vec<&str> = Vec::new();
        for p in self.parts.iter().filter(|p| !matches!(p.fate, Fate::Refused(_))) {
            if !out.contains(&p.url.as_str()) {
                out.push(&p.url);
            }
        }
        out
    }
}

/// So many URLs are named in one finding; the others are counted.
const NAMED: usize = 3;
/// A longer URL is cut.
const LONGEST: usize = 120;

/// What follows for a person: one finding for each fate, with the browsers in which the same parts met it.
///
/// ```
/// use tamga_core::check::client::Client;
/// use tamga_core::check::page::{Fate, Page, Part, findings};
///
/// let part = |fate, url: &str| Part { fate, url: url.into() };
/// let page = Page {
///     client: Client::Chromium,
///     url: "https://charts.saltmarsh.test/".into(),
///     secure_context: true,
///     parts: vec![part(Fate::Blocked, "http://charts.saltmarsh.test/tide.js")],
/// };
/// assert_eq!(findings(&[page])[0].code.word(), "mixed-content");
/// ```
pub fn findings(pages: &[Page]) -> Vec<Finding> {
    let mut out: Vec<Finding> = Vec::new();
    for page in pages {
        let mut fates: Vec<&Fate> = page.parts.iter().map(|p| &p.fate).collect();
        fates.sort();
        fates.dedup();
        for fate in fates {
            let urls: Vec<&str> = page.parts.iter().filter(|p| p.fate == *fate).map(|p| p.url.as_str()).collect();
            let mut found = finding(fate, page, &urls);
            let same =
                out.iter_mut().find(|f| f.code == found.code && f.about == found.about && f.summary == found.summary);
            match same {
                Some(f) => f.clients.push(page.client),
                None => {
                    found.clients.push(page.client);
                    out.push(found);
                }
            }
        }
    }
    out
}

fn finding(fate: &Fate, page: &Page, urls: &[&str]) -> Finding {
    let which = listed(urls);
    let one = urls.len() == 1;
    let (code, severity, summary) = match fate {
        Fate::Blocked => (
            Code::MixedContent,
            Severity::Error,
            format!("{} blocked: the page asks for {} over plain HTTP: {which}", is(one), it(one)),
        ),
        Fate::Missing => (
            Code::MixedContent,
            Severity::Error,
            format!(
                "{} missing: browsers ask over HTTPS for what the page names with http://, and nothing answers there: {which}",
                is(one)
            ),
        ),
        Fate::Upgraded => (
            Code::MixedContent,
            Severity::Warning,
            format!("the page asks over plain HTTP for what browsers load over HTTPS instead: {which}"),
        ),
        Fate::Clear => (
            Code::MixedContent,
            Severity::Warning,
            format!("{} loaded without TLS, since the address is on this machine or network: {which}", is(one)),
        ),
        Fate::Form => (
            Code::InsecureForm,
            Severity::Error,
            format!("a form sends what is typed into it over plain HTTP: {which}"),
        ),
        Fate::Refused(code) => (
            Code::SubresourceRefused,
            Severity::Error,
            format!("{} missing, because the browser refuses the server ({code}): {which}", is(one)),
        ),
    };
    let mut f = Finding::new(code, cut(&page.url, LONGEST)).with_summary(summary);
    f.severity = severity;
    if let (Fate::Refused(_), Some(origin)) = (fate, urls.first().and_then(|u| origin(u))) {
        f.remedy = format!("tamga check {origin}");
    }
    f
}

fn is(one: bool) -> &'static str {
    if one { "a part of the page is" } else { "parts of the page are" }
}

fn it(one: bool) -> &'static str {
    if one { "it" } else { "them" }
}

fn listed(urls: &[&str]) -> String {
    let named: Vec<String> = urls.iter().take(NAMED).map(|u| cut(u, LONGEST)).collect();
    match urls.len().saturating_sub(NAMED) {
        0 => named.join(", "),
        more => format!("{} and {more} more", named.join(", ")),
    }
}

/// `https://HOST:PORT/…` → `https://HOST:PORT`.
fn origin(url: &str) -> Option<&str> {
    let (scheme, rest) = url.split_once("://")?;
    let authority = rest.split(['/', '?', '#']).next()?;
    (scheme == "https" && !authority.is_empty()).then(|| &url[..scheme.len() + 3 + authority.len()])
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "tests")]
mod tests {
    use super::*;

    fn page(client: Client, parts: &[(Fate, &str)]) -> Page {
        let parts = parts.iter().map(|(fate, url)| Part { fate: fate.clone(), url: (*url).to_owned() }).collect();
        Page { client, url: "https://charts.saltmarsh.test:8443/".into(), secure_context: true, parts }
    }

    #[test]
    fn each_fate_is_one_finding_and_says_how_many_more_there_are() {
        let many: Vec<String> = (1..=5).map(|n| format!("http://charts.saltmarsh.test/{n}.js")).collect();
        let mut parts: Vec<(Fate, &str)> = many.iter().map(|u| (Fate::Blocked, u.as_str())).collect();
        parts.push((Fate::Form, "http://charts.saltmarsh.test/log"));
        let found = findings(&[page(Client::Chromium, &parts)]);
        let codes: Vec<&str> = found.iter().map(|f| f.code.word()).collect();
        assert_eq!(codes, ["mixed-content", "insecure-form"]);
        assert!(found[0].summary.ends_with("3.js and 2 more"), "{}", found[0].summary);
        assert!(found.iter().all(|f| f.severity == Severity::Error));
    }

    #[test]
    fn browsers_that_met_the_same_share_a_finding() {
        let part = [(Fate::Blocked, "http://charts.saltmarsh.test/tide.js")];
        let both = findings(&[page(Client::Chromium, &part), page(Client::Firefox, &part)]);
        assert_eq!(both.len(), 1);
        assert_eq!(both[0].clients, [Client::Chromium, Client::Firefox]);
        let other = [(Fate::Blocked, "http://charts.saltmarsh.test/wind.js")];
        assert_eq!(findings(&[page(Client::Chromium, &part), page(Client::Firefox, &other)]).len(), 2);
    }

    #[test]
    fn a_refused_part_names_the_server_to_check() {
        let refused = Fate::Refused("net::ERR_CERT_AUTHORITY_INVALID".into());
        let found = findings(&[page(Client::Chromium, &[(refused, "https://tiles.saltmarsh.test:8444/a/b.png?c")])]);
        assert_eq!(found[0].remedy, "tamga check https://tiles.saltmarsh.test:8444");
        assert!(found[0].summary.contains("ERR_CERT_AUTHORITY_INVALID"));
    }

    #[test]
    fn only_what_goes_over_plain_http_is_insecure() {
        let parts = [
            (Fate::Clear, "http://127.0.0.1:3000/a.png"),
            (Fate::Form, "http://127.0.0.1:3000/a.png"),
            (Fate::Refused("net::ERR_CERT_DATE_INVALID".into()), "https://tiles.saltmarsh.test/"),
        ];
        assert_eq!(page(Client::Chromium, &parts).insecure(), ["http://127.0.0.1:3000/a.png"]);
    }
}
