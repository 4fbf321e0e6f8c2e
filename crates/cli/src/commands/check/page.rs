//! `--report FILE.html`: one self-contained page. No script, nothing loaded from anywhere; light and dark; printable.

use super::Checked;
use crate::exit;
use std::fmt::Write;
use tamga_core::cert::Certificate;
use tamga_core::client::Outcome;
use tamga_core::finding::{Finding, Severity, entry};
use tamga_core::moment::Moment;
use tamga_core::text::harmless;

/// Nothing but the style below counts, whatever a certificate or server may have smuggled in.
const POLICY: &str = "default-src 'none'; style-src 'unsafe-inline'; base-uri 'none'; form-action 'none'";

const STYLE: &str = "\
:root{color-scheme:light dark;--line:#c9ced6;--soft:#f3f5f8;--good:#1a7f37;--bad:#b42318;--care:#8a5a00;--ink:#1c2128}
@media(prefers-color-scheme:dark){:root{--line:#3d444d;--soft:#1b2129;--good:#56d364;--bad:#ff7b72;--care:#e3b341;--ink:#e6edf3}}
*{box-sizing:border-box}body{font:15px/1.5 system-ui,sans-serif;max-width:68rem;margin:2rem auto;padding:0 1.5rem;color:var(--ink)}
h1{font-size:1.5rem;margin:0}h2{font-size:1.15rem;margin:0;overflow-wrap:anywhere}h3{font-size:.95rem;margin:1.4rem 0 .5rem}
header p,.kind{color:color-mix(in srgb,var(--ink) 65%,transparent);margin:.2rem 0}
section{border:1px solid var(--line);border-radius:10px;padding:1.2rem 1.4rem;margin:1.4rem 0;break-inside:avoid-page}
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
details{margin:.3rem 0}summary{cursor:pointer}@media print{body{max-width:none;margin:0}details>*{display:block}}";

/// Text as HTML: characters that steer a terminal or a reading direction, and those that steer a browser, are shown, not obeyed.
fn text(raw: &str) -> String {
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

/// The whole page around the sections of the targets.
pub(super) fn page(sections: &[String], good: usize, at: Moment) -> String {
    let all = sections.len();
    let (class, verdict) = match all - good {
        0 if all == 1 => ("good", "no client would warn".to_owned()),
        0 => ("good", format!("no client would warn at any of {all} targets")),
        1 if all == 1 => ("bad", "not good: see below".to_owned()),
        n => ("bad", format!("{n} of {all} targets are not good")),
    };
    format!(
        "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta http-equiv=\"Content-Security-Policy\" content=\"{POLICY}\">\
<meta name=\"viewport\" content=\"width=device-width\"><meta name=\"referrer\" content=\"no-referrer\"><title>Would any client warn?</title>\
<style>{STYLE}</style></head>\n<body><header><h1>Would any client warn?</h1><p>checked on {} with Tamga {}</p>\
<p class=\"verdict {class}\">{verdict}</p></header>\n<main>{}</main></body></html>\n",
        text(&at.to_string()),
        env!("CARGO_PKG_VERSION"),
        sections.concat()
    )
}

/// One target: verdict, findings by weight, the chain, the clients.
pub(super) fn section(c: &Checked) -> String {
    let mut out = format!("<section><h2>{}</h2><p class=\"kind\">{}</p>", text(&c.target), text(&c.first_line));
    let warned: Vec<&str> = {
        let bad = c.rows.iter().filter(|r| matches!(r.outcome, Outcome::Warns | Outcome::Refuses));
        let mut names: Vec<&str> = bad.map(|r| r.client.word()).collect();
        names.dedup();
        names
    };
    let (class, verdict) = match () {
        () if c.rows.is_empty() => ("bad", "nobody gets as far as a certificate".to_owned()),
        () if !warned.is_empty() => ("bad", format!("{} would warn or refuse", warned.join(", "))),
        () if c.code != exit::GOOD => ("bad", "not good".to_owned()),
        () if c.rows.iter().all(|r| r.outcome != Outcome::Accepts) => ("care", "cannot be told".to_owned()),
        () => ("good", "no client would warn".to_owned()),
    };
    let _ = write!(out, "<p class=\"verdict {class}\">{}</p>", text(&verdict));
    // What differs only in the step for one client or another is one finding to read.
    for same in c.findings.chunk_by(|a, b| (a.code, &a.summary) == (b.code, &b.summary)) {
        out.push_str(&finding(same));
    }
    for hop in &c.hops {
        let to = hop.to.as_ref().map(|t| format!(" to {t}")).unwrap_or_default();
        let _ = write!(out, "<p class=\"kind\">{}</p>", text(&format!("{} answers {}{to}", hop.from, hop.status)));
    }
    for remark in &c.remarks {
        let _ = write!(out, "<p class=\"kind\">{}</p>", text(remark));
    }
    if !c.chain.is_empty() {
        out.push_str(&chain(c));
    }
    if !c.rows.is_empty() {
        out.push_str(
            "<h3>Clients</h3><table><tr><th>client</th><th>verdict</th><th>basis</th><th>its own words</th></tr>",
        );
        for r in &c.rows {
            let class = match r.outcome {
                Outcome::Accepts => "good",
                Outcome::Warns | Outcome::Refuses => "bad",
                Outcome::Unknown => "care",
            };
            let _ = write!(
                out,
                "<tr><td>{}</td><td class=\"{class}\">{}</td><td>{}</td><td><code>{}</code></td></tr>",
                r.client.word(),
                r.outcome.word(),
                r.basis,
                text(r.code.as_deref().unwrap_or_default())
            );
        }
        out.push_str("</table>");
    }
    for m in &c.met {
        let alpn = m.alpn.as_deref().unwrap_or("none");
        let line = format!("{} · {} · {} · application protocol {alpn}", m.address, m.protocol, m.cipher);
        let _ = write!(out, "<p class=\"kind\">{}</p>", text(&line));
    }
    out.push_str("</section>\n");
    out
}

/// One finding, with a step for each group of clients that needs its own.
fn finding(same: &[Finding]) -> String {
    let Some(f) = same.first() else { return String::new() };
    let (severity, class) = match f.severity {
        Severity::Error => ("error", "bad"),
        Severity::Warning => ("warning", "care"),
        Severity::Note => ("note", ""),
    };
    let mut out = format!(
        "<div class=\"finding {severity}\"><p><b class=\"{class}\">{}</b> <small>{severity}</small></p><p>{}</p>",
        f.code.word(),
        text(&f.summary)
    );
    for f in same {
        let clients: Vec<&str> = f.clients.iter().map(|c| c.word()).collect();
        let of = if clients.is_empty() { String::new() } else { format!(" <small>{}</small>", clients.join(", ")) };
        let _ = write!(out, "<p>do: <code class=\"step\">{}</code>{of}</p>", text(&f.remedy));
    }
    let entry = entry(f.code);
    let _ = write!(
        out,
        "<details><summary>what that means</summary><p>{} {}</p></details></div>",
        text(entry.meaning),
        text(entry.cause)
    );
    out
}

/// The way from the leaf up, as far as it goes; what was served but lies on no way comes after it.
fn chain(c: &Checked) -> String {
    let path: &[Certificate] = if c.path.is_empty() { &c.chain } else { &c.path };
    let boxes: Vec<String> = path
        .iter()
        .enumerate()
        .map(|(at, cert)| {
            let served = c.chain.contains(cert);
            let kind = match (at, cert.is_self_issued()) {
                (0, _) => "certificate",
                (_, true) => "root",
                _ => "intermediate",
            };
            let from = if served { "sent" } else { "known here" };
            format!(
                "<li><b>{}</b><small>{kind}, {from} · {} to {}</small><small><code>{}…</code></small></li>",
                text(&cert.subject_words()),
                cert.not_before.date(),
                cert.not_after.date(),
                &cert.sha256()[..16]
            )
        })
        .collect();
    let mut out = format!("<h3>Chain</h3><ol class=\"chain\">{}", boxes.join("<li class=\"to\">→</li>"));
    if let Some(top) = path.last().filter(|t| !t.is_self_issued()) {
        let missing = text(&top.issuer_words());
        let _ = write!(
            out,
            "<li class=\"to\">→</li><li class=\"missing\"><b>{missing}</b><small>in no store that is read</small></li>"
        );
    }
    out.push_str("</ol>");
    let aside: Vec<String> = c.chain.iter().filter(|s| !path.contains(s)).map(|s| text(&s.subject_words())).collect();
    if !aside.is_empty() {
        let _ = write!(out, "<p class=\"kind\">also sent, of no use here: {}</p>", aside.join("; "));
    }
    out
}
