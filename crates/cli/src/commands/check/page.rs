//! `--report FILE.html`: one self-contained page. No script, nothing loaded from anywhere; light and dark; printable.

use crate::words::html::{self, text};
use crate::words::human::alike;
use std::fmt::Write;
use tamga_app::check::on_hosts::Unreached;
use tamga_app::check::{Checked, Weight};
use tamga_core::check::client::Outcome;
use tamga_core::finding::{Finding, Severity, entry};
use tamga_core::pki::cert::Certificate;
use tamga_core::vocabulary::timestamp::Timestamp;

/// The whole page around the sections of the targets.
pub(super) fn page(sections: &[String], good: usize, at: Timestamp) -> String {
    let all = sections.len();
    let (class, verdict) = match all - good {
        0 if all == 1 => ("good", "no client would warn".to_owned()),
        0 => ("good", format!("no client would warn at any of {all} targets")),
        1 if all == 1 => ("bad", "not good: see below".to_owned()),
        n => ("bad", format!("{n} of {all} targets are not good")),
    };
    let head = format!(
        "<p>checked on {} with Tamga {}</p><p class=\"verdict {class}\">{verdict}</p>",
        text(&at.to_string()),
        env!("CARGO_PKG_VERSION")
    );
    html::page("Would any client warn?", &head, &sections.concat())
}

/// One target: verdict, findings by weight, the chain, the clients.
pub(super) fn section(c: &Checked) -> String {
    let mut out = format!("<section><h2>{}</h2><p class=\"kind\">{}</p>", text(&c.named()), text(&c.headline()));
    let (weight, verdict) = c.verdict();
    let class = match weight {
        Weight::Good => "good",
        Weight::Care => "care",
        Weight::Bad => "bad",
    };
    let _ = write!(out, "<p class=\"verdict {class}\">{}</p>", text(&verdict));
    // What differs only in the step for one client or another is one finding to read.
    for same in alike(&c.findings) {
        out.push_str(&finding(&same));
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
            "<h3>Clients</h3><table><tr><th>client</th><th>verdict</th><th>basis</th><th>its message</th></tr>",
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
        let alpn = m.alpn.as_ref().map_or_else(|| "none".to_owned(), ToString::to_string);
        let line = format!("{} · {} · {} · application protocol {alpn}", m.address, m.protocol, m.cipher);
        let _ = write!(out, "<p class=\"kind\">{}</p>", text(&line));
    }
    out.push_str("</section>\n");
    out
}

/// A machine that was not reached: nothing on it was found good.
pub(super) fn unreached(one: &Unreached) -> String {
    format!(
        "<section><h2>{}</h2><p class=\"verdict bad\">not reached</p><p>{}</p><p class=\"kind\">do: {}</p></section>\n",
        text(&one.host),
        text(&one.failure.why),
        text(&one.failure.remedy)
    )
}

/// One finding, with a step for each group of clients that needs its own.
fn finding(same: &[&Finding]) -> String {
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
        let _ = write!(out, "<p>do: {}{of}</p>", html::remedy(&f.remedy));
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
