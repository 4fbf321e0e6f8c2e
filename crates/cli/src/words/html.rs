//! Pages: self-contained, no script, nothing loaded from anywhere; light and dark; printable.

use tamga_core::vocabulary::text::harmless;

/// Nothing but the style below counts, whatever a certificate or server may have smuggled in.
pub(crate) const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'";

const STYLE: &str = "\
:root{color-scheme:light dark;--line:#c9ced6;--soft:#f3f5f8;--good:#1a7f37;--bad:#b42318;--care:#8a5a00;--ink:#1c2128}
@media(prefers-color-scheme:dark){:root{--line:#3d444d;--soft:#1b2129;--good:#56d364;--bad:#ff7b72;--care:#e3b341;--ink:#e6edf3}}
*{box-sizing:border-box}body{font:15px/1.5 system-ui,sans-serif;max-width:68rem;margin:2rem auto;padding:0 1.5rem;color:var(--ink)}
h1{font-size:1.5rem;margin:0}h2{font-size:1.15rem;margin:0;overflow-wrap:anywhere}h3{font-size:.95rem;margin:1.4rem 0 .5rem}
header p,.kind{color:color-mix(in srgb,var(--ink) 65%,transparent);margin:.2rem 0}
section{border:1px solid var(--line);border-radius:10px;padding:1.2rem 1.4rem;margin:1.4rem 0}.finding,tr,.chain li{break-inside:avoid}h3{break-after:avoid}
.good{color:var(--good)}.bad{color:var(--bad)}.care{color:var(--care)}.verdict{font-weight:600;font-size:1.05rem;margin:.4rem 0}
.finding{border-left:4px solid var(--line);background:var(--soft);padding:.6rem .9rem;margin:.6rem 0;border-radius:0 6px 6px 0}
.finding.error{border-color:var(--bad)}.finding.warning{border-color:var(--care)}.finding p{margin:.25rem 0}
code{font:.86em/1.45 ui-monospace,monospace;overflow-wrap:anywhere}.step{display:inline-block;background:var(--soft);border:1px solid var(--line);
border-radius:5px;padding:.1rem .45rem}.finding .step{background:transparent}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.35rem .8rem .35rem 0;border-bottom:1px solid var(--line);vertical-align:top}
th{font-weight:600;font-size:.85rem}.chain{display:flex;flex-wrap:wrap;gap:.4rem;align-items:center;list-style:none;padding:0;margin:0}
.chain li{border:1px solid var(--line);border-radius:8px;padding:.5rem .8rem;background:var(--soft);max-width:22rem;overflow-wrap:anywhere}
.chain li.missing{border-style:dashed;color:var(--bad)}.chain li.to{border:0;background:none;padding:0 .1rem;font-size:1.2rem}
.chain b{display:block}.chain small{display:block;color:color-mix(in srgb,var(--ink) 65%,transparent)}
@media(max-width:44rem){body{padding:0 .8rem;margin:1rem auto}section{padding:.9rem}table,tbody,tr{display:block}tr{padding:.4rem 0;border-bottom:1px solid var(--line)}tr:has(th){display:none}
td{display:inline-block;border:0;padding:0 .7rem 0 0;overflow-wrap:anywhere}
.bar{width:3.5rem!important}h2{font-size:1.05rem}}details{margin:.3rem 0}summary{cursor:pointer}@media print{body{max-width:none;margin:0}section{border:0;padding:0}details>*{display:block}
details::details-content{content-visibility:visible;height:auto}}";

/// Text as HTML: characters that steer a terminal or a reading direction, and those that steer a browser, are shown, not obeyed.
pub(crate) fn text(raw: &str) -> String {
    let mut out = String::with_capacity(raw.len());
    for c in harmless(raw).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

/// Words with which a command to type begins, in a remedy.
const PROGRAMS: [&str; 10] =
    ["tamga ", "sudo ", "chmod ", "chown ", "update-ca-", "timedatectl ", "certutil ", "systemctl ", "curl ", "eval "];

/// What to do, as HTML: commands in the type of a terminal, the words around them as prose.
pub(crate) fn remedy(raw: &str) -> String {
    let mut out = String::new();
    let mut rest = raw;
    let begins = |s: &str| PROGRAMS.iter().filter_map(|p| s.find(p)).filter(|at| begins_word(s, *at)).min();
    while let Some(at) = begins(rest) {
        let (prose, command) = rest.split_at(at);
        let end = end_of(command);
        let (command, after) = command.split_at(end);
        out.push_str(&format!("{}<code class=\"step\">{}</code>", text(prose), text(command)));
        rest = after;
    }
    out + &text(rest)
}

/// Where a command ends and prose goes on; what stands between quotes belongs to it.
fn end_of(command: &str) -> usize {
    let mut quoted = false;
    for (at, c) in command.char_indices() {
        match c {
            '"' => quoted = !quoted,
            ',' | ';' | ')' if !quoted => return at,
            ' ' if !quoted && [" (", " puts "].iter().any(|w| command[at..].starts_with(w)) => return at,
            _ => {}
        }
    }
    command.len()
}

fn begins_word(s: &str, at: usize) -> bool {
    s[..at].chars().next_back().is_none_or(|c| c.is_whitespace() || c == '(')
}

/// A whole page. `head` stands below the title, `body` is what it is about: both HTML.
pub(crate) fn page(title: &str, head: &str, body: &str) -> String {
    let title = text(title);
    format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta http-equiv=\"Content-Security-Policy\" content=\"{POLICY}\">\
<meta name=\"viewport\" content=\"width=device-width\"><meta name=\"referrer\" content=\"no-referrer\"><title>{title}</title>\
<style>{STYLE}</style></head>\n<body><header><h1>{title}</h1>{head}</header>\n<main>{body}</main></body></html>\n"
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_commands_stand_in_code() {
        let code = |c: &str| format!("<code class=\"step\">{c}</code>");
        assert_eq!(remedy("tamga renew charts"), code("tamga renew charts"));
        assert_eq!(remedy("set the clock"), "set the clock");
        let both = remedy("to replace it: tamga renew x; to add a name: tamga renew x --add NAME");
        assert_eq!(
            both,
            format!("to replace it: {}; to add a name: {}", code("tamga renew x"), code("tamga renew x --add NAME"))
        );
        let one = remedy("tamga trust add l --scope machine (or for one call: curl --cacert root.pem)");
        let expected = format!(
            "{} (or for one call: {})",
            code("tamga trust add l --scope machine"),
            code("curl --cacert root.pem")
        );
        assert_eq!(one, expected);
        let eval = remedy("eval \"$(tamga trust environment)\", or for one call: tamga run -- node …");
        let first = code("eval &quot;$(tamga trust environment)&quot;");
        assert_eq!(eval, format!("{first}, or for one call: {}", code("tamga run -- node …")));
        assert_eq!(remedy("see mytamga <b>"), "see mytamga &lt;b&gt;");
    }
}
