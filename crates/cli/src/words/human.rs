//! Words for a person at a terminal. Colours go away by themselves where nobody sees them.

use super::links::linked;
pub(crate) use super::table::{Fit, table, table_with};
use super::wrap::for_terminal;
use crate::args::Common;
use anstyle::{AnsiColor, Style};
use std::io::Write;
use tamga_core::error::Diagnostic;
use tamga_core::finding::{Finding, Severity};
use tamga_core::pki::token::TokenUri;
use tamga_core::vocabulary::text::{Shown, is_unsafe_to_show};

const GOOD: Style = AnsiColor::Green.on_default().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const CARE: Style = AnsiColor::Yellow.on_default().bold();
const DIM: Style = Style::new().dimmed();
const STRONG: Style = Style::new().bold();

/// Whether a key may leave its token.
pub(crate) fn leaving(extractable: Option<bool>) -> &'static str {
    match extractable {
        Some(false) => "cannot leave it",
        Some(true) => "may be copied from it",
        None => "may or may not be copied from it: the token does not say",
    }
}

/// That a key is on a token, in few words.
pub(crate) fn on_token(uri: &TokenUri) -> String {
    match &uri.token {
        Some(label) => format!("on the token {}", label.shown()),
        None => "on a token".to_owned(),
    }
}

/// Green.
pub(crate) fn good(text: &str) -> String {
    format!("{GOOD}{text}{GOOD:#}")
}

/// Red.
pub(crate) fn bad(text: &str) -> String {
    format!("{BAD}{text}{BAD:#}")
}

/// Yellow.
pub(crate) fn care(text: &str) -> String {
    format!("{CARE}{text}{CARE:#}")
}

/// Faint.
pub(crate) fn dim(text: &str) -> String {
    format!("{DIM}{text}{DIM:#}")
}

/// Bold.
pub(crate) fn strong(text: &str) -> String {
    format!("{STRONG}{text}{STRONG:#}")
}

/// Standard output, for a person.
pub(crate) fn out(text: &str) {
    as_it_is(&linked(&for_terminal(&net(text), &std::io::stdout())));
}

/// Standard output, for a program; a reader that went away is no failure.
pub(crate) fn as_it_is(text: &str) {
    let _ = anstream::stdout().write_all(text.as_bytes());
    let _ = anstream::stdout().flush();
}

/// One JSON value on a line of standard output.
pub(crate) fn json_line(value: &serde_json::Value) {
    as_it_is(&json_net(&format!("{value}\n")));
}

/// One JSON value on a line of standard output, written as it is made. A reader that went away is no failure.
pub(crate) fn json_stream(value: &impl serde::Serialize) {
    let net = JsonNet { out: std::io::stdout().lock(), rest: Vec::new() };
    let mut out = std::io::BufWriter::with_capacity(1 << 16, net);
    if serde_json::to_writer(&mut out, value).is_ok() {
        let _ = out.write_all(b"\n").and_then(|()| out.flush());
    }
}

/// A writer with [`json_net`]'s escapes, for text in pieces that may end within a character.
struct JsonNet<W> {
    out: W,
    /// The first bytes of a character whose others are still to come.
    rest: Vec<u8>,
}

impl<W: Write> Write for JsonNet<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        // Without an early end, so that many bytes are looked at in one step.
        let is_plain = bytes.iter().fold(true, |so_far, b| so_far & matches!(b, b' '..=b'~'));
        if self.rest.is_empty() && is_plain {
            self.out.write_all(bytes)?;
            return Ok(bytes.len());
        }
        self.rest.extend_from_slice(bytes);
        let whole = match std::str::from_utf8(&self.rest) {
            Ok(text) => text.len(),
            Err(e) => e.valid_up_to(),
        };
        let text = String::from_utf8_lossy(&self.rest[..whole]);
        self.out.write_all(json_net(&text).as_bytes())?;
        self.rest.drain(..whole);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.out.flush()
    }
}

/// One line on standard output, as it comes.
pub(crate) fn line(text: &str) {
    as_it_is(&net(text));
}

/// One line on standard error, unless `--quiet`.
pub(crate) fn aside(common: &Common, line: &str) {
    if !common.quiet {
        note(line);
    }
}

/// What is about to be done, on standard error, unless `--quiet`.
pub(crate) fn proposal(common: &Common, text: &str) {
    if !common.quiet {
        let _ = write!(anstream::stderr(), "{}", net(text));
    }
}

/// One line on standard error.
pub(crate) fn note(line: &str) {
    let _ = writeln!(anstream::stderr(), "{DIM}tamga:{DIM:#} {}", net(line));
}

/// A warning on standard error: it is about a secret, and said also with `--quiet`.
pub(crate) fn warn(line: &str) {
    let _ = writeln!(anstream::stderr(), "{CARE}tamga:{CARE:#} {}", net(line));
}

/// Escapes everything that would steer a terminal but line ends, tabs and our own colors: whatever text from outside was put into
/// a sentence unescaped stops here.
fn net(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(length) = color(rest) {
            out.push_str(&rest[..length]);
            rest = &rest[length..];
            continue;
        }
        if is_unsafe_to_show(c) && !matches!(c, '\n' | '\t') {
            out.extend(c.escape_unicode());
        } else {
            out.push(c);
        }
        rest = &rest[c.len_utf8()..];
    }
    out
}

/// The length of a color at the beginning of a text, as we write them: ESC [ digits and semicolons m.
fn color(text: &str) -> Option<usize> {
    let inside = text.strip_prefix("\x1b[")?;
    let end = inside.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    inside[end..].starts_with('m').then_some(end + 3)
}

/// JSON with every character that would steer a terminal as an escape of JSON's own.
pub(crate) fn json_net(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if is_unsafe_to_show(c) && c != '\n' {
            let mut units = [0; 2];
            for unit in c.encode_utf16(&mut units) {
                out.push_str(&format!("\\u{unit:04x}"));
            }
        } else {
            out.push(c);
        }
    }
    out
}

/// A question on standard error, without a line end.
pub(crate) fn ask(question: &str) {
    let mut err = anstream::stderr();
    let _ = write!(err, "{}", net(question));
    let _ = err.flush();
}

/// Upper bound on the characters of a line that says what failed or why.
const LONGEST: usize = 1_000;

/// The three lines of a failure.
pub(crate) fn failure(f: &dyn Diagnostic) {
    use tamga_core::vocabulary::text::{cut, harmless};
    // A value that was typed or read may have any length; a command to copy is never cut.
    let bounded = |text: String| cut(&harmless(&text), LONGEST);
    let text = format!(
        "{BAD}tamga:{BAD:#} {}\n  {DIM}why:{DIM:#} {}\n  {DIM}do:{DIM:#}  {}\n",
        bounded(f.what()),
        bounded(f.why()),
        harmless(&f.remedy())
    );
    let _ = anstream::stderr().write_all(for_terminal(&text, &std::io::stderr()).as_bytes());
}

/// Findings that differ only in the remedy for one client or another, together at the place of the first.
pub(crate) fn alike(all: &[Finding]) -> Vec<Vec<&Finding>> {
    let mut groups: Vec<Vec<&Finding>> = Vec::new();
    for f in all {
        match groups.iter_mut().find(|g| (g[0].code, &g[0].summary) == (f.code, &f.summary)) {
            Some(group) => group.push(f),
            None => groups.push(vec![f]),
        }
    }
    groups
}

/// Findings, each with its cause and its remedy. A cause whose remedy differs by client is printed once, with every remedy.
pub(crate) fn findings(all: &[Finding]) -> String {
    let mut text = String::new();
    for same in alike(all) {
        let Some(f) = same.first() else { continue };
        let mark = match same.iter().map(|f| f.severity).max().unwrap_or(f.severity) {
            Severity::Error => bad("error"),
            Severity::Warning => care("warning"),
            Severity::Note => dim("note"),
        };
        let who = |f: &Finding| f.clients.iter().map(|c| c.word()).collect::<Vec<_>>().join(", ");
        let everybody = same.iter().map(|f| who(f)).filter(|w| !w.is_empty()).collect::<Vec<_>>().join(", ");
        let everybody = if everybody.is_empty() { everybody } else { format!("  {}", dim(&format!("({everybody})"))) };
        text.push_str(&format!("{mark} {}{everybody}\n", strong(f.code.word())));
        text.push_str(&format!("      {}\n", f.summary));
        let is_one = same.iter().all(|one| one.remedy == f.remedy);
        for one in &same[..if is_one { 1 } else { same.len() }] {
            let whom = if !is_one { format!("{} ", dim(&format!("{}:", who(one)))) } else { String::new() };
            text.push_str(&format!("  {}  {whom}{}\n", dim("do:"), one.remedy));
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use tamga_core::check::client::Client;
    use tamga_core::finding::Code;

    #[test]
    fn json_in_pieces_is_escaped_like_json_at_once() {
        let json = "{\"a\":\"küste \u{202e}\u{e0041} tide\"}\n";
        for size in 1..json.len() {
            let mut net = JsonNet { out: Vec::new(), rest: Vec::new() };
            json.as_bytes().chunks(size).for_each(|piece| net.write_all(piece).unwrap());
            assert_eq!(String::from_utf8(net.out).unwrap(), json_net(json), "{size}");
        }
    }

    #[test]
    fn a_remedy_that_all_clients_share_is_printed_once() {
        let of = |client: Client, about: &str, remedy: &str| {
            let mut f = Finding::new(Code::IssuerUnknown, about.to_owned()).with_remedy(remedy);
            f.clients = vec![client];
            f
        };
        let shared = findings(&[of(Client::Curl, "CN=a", "do this"), of(Client::Go, "CN=b", "do this")]);
        assert_eq!(shared.matches("do this").count(), 1, "{shared}");
        let apart = findings(&[of(Client::Curl, "CN=a", "do this"), of(Client::Go, "CN=b", "do that")]);
        assert!(apart.contains("do this") && apart.contains("do that"), "{apart}");
    }

    #[test]
    fn only_our_own_colors_get_through_to_a_terminal() {
        let text = format!("{} a\x1b]0;title\x07\x1b[2J\u{202e}b\n\tc\u{ad}", good("good"));
        let shown = net(&text);
        assert_eq!(shown.matches("\x1b").count(), 3, "{shown:?}");
        assert!(shown.contains("a\\u{1b}]0;title\\u{7}\\u{1b}[2J\\u{202e}b\n\tc\\u{ad}"), "{shown:?}");
        let json = json_net("{\"a\":\"x\u{202e}\u{e0041}\"}\n");
        assert_eq!(json, "{\"a\":\"x\\u202e\\udb40\\udc41\"}\n");
        assert_eq!(serde_json::from_str::<serde_json::Value>(&json).unwrap()["a"], "x\u{202e}\u{e0041}");
    }
}
