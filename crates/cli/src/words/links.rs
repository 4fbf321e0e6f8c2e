//! Addresses as hyperlinks, in terminals that have them.

use supports_hyperlinks::Stream;

/// The text with every web address as a link (OSC 8), where standard output is a terminal that shows links.
pub(crate) fn linked(text: &str) -> String {
    if supports_hyperlinks::on(Stream::Stdout) { with_links(text) } else { text.to_owned() }
}

/// What an address ends before: a blank, a quote, or a character that steers a terminal.
fn ends(c: char) -> bool {
    c.is_whitespace() || c.is_control() || matches!(c, '"' | '\'' | '<' | '>' | '(' | ')')
}

fn with_links(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("https://").into_iter().chain(rest.find("http://")).min() {
        let (before, address) = rest.split_at(at);
        let length = address.find(ends).unwrap_or(address.len());
        let url = address[..length].trim_end_matches(['.', ',', ';', ':']);
        out.push_str(before);
        // A placeholder such as https://HOST:PORT leads nowhere.
        let is_real =
            url.split_once("://").is_some_and(|(_, host)| host.starts_with(|c: char| !c.is_ascii_uppercase()))
                && !url.ends_with("PORT");
        match is_real {
            true => out.push_str(&format!("\u{1b}]8;;{url}\u{1b}\\{url}\u{1b}]8;;\u{1b}\\")),
            false => out.push_str(url),
        }
        rest = &address[url.len()..];
    }
    out.push_str(rest);
    out
}

#[cfg(test)]
mod tests {
    use super::with_links;

    #[test]
    fn an_address_becomes_a_link_and_a_placeholder_does_not() {
        let link = |url: &str| format!("\u{1b}]8;;{url}\u{1b}\\{url}\u{1b}]8;;\u{1b}\\");
        let url = "https://charts.saltmarsh.test:8443/";
        assert_eq!(with_links(&format!("  {url}\nnext")), format!("  {}\nnext", link(url)));
        assert_eq!(with_links("Chromium opens https://a.test."), format!("Chromium opens {}.", link("https://a.test")));
        for plain in ["https://HOST[:PORT]", "https://charts.saltmarsh.test:PORT checks it", "no address"] {
            assert_eq!(with_links(plain), plain);
        }
    }
}
