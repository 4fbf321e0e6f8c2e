//! `tamga status --report FILE.html`: the whole lab on one page.

use crate::words::html::{self, text};
use serde_json::Value;
use std::fmt::Write;
use tamga_core::moment::Moment;

/// In: the members of `tamga status --format json`.
pub(super) fn page(status: &Value, now: Moment) -> String {
    let list = |k: &str| status[k].as_array().cloned().unwrap_or_default();
    let word = |v: &Value, k: &str| text(v[k].as_str().unwrap_or_default());
    let open = list("open");
    let (class, verdict) = match open.len() {
        0 => ("good", "nothing is due, every file is what was issued".to_owned()),
        1 => ("bad", "one thing is open".to_owned()),
        n => ("bad", format!("{n} things are open")),
    };
    let head = format!(
        "<p>looked at on {} with Tamga {}, in {}</p><p class=\"verdict {class}\">{verdict}</p>",
        text(&now.to_string()),
        env!("CARGO_PKG_VERSION"),
        word(status, "data_folder")
    );
    let mut body = String::from(STYLE);
    for o in &open {
        let _ = write!(
            body,
            "<div class=\"finding warning\"><p>{}</p><p><code class=\"step\">{}</code></p></div>",
            word(o, "what"),
            word(o, "remedy")
        );
    }
    let mut rows = String::new();
    for c in &list("certificates") {
        let names: Vec<&str> = c["names"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{}</td><td>{}</td></tr>",
            word(c, "label"),
            bar(c, now),
            text(c["not_after"].as_str().unwrap_or_default().get(..10).unwrap_or_default()),
            c["days_left"].as_i64().map(|d| format!("{d} days")).unwrap_or_default(),
            text(&names.join(", "))
        );
    }
    section(&mut body, "Certificates", &["label", "left", "ends", "", "names"], &rows);
    let mut rows = String::new();
    for a in &list("authorities") {
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td>{}</td><td>{}</td></tr>",
            word(a, "label"),
            bar(a, now),
            text(a["not_after"].as_str().unwrap_or_default().get(..10).unwrap_or_default()),
            text(a["key"].as_str().unwrap_or_default())
        );
    }
    section(&mut body, "Authorities", &["label", "left", "ends", "key"], &rows);
    let mut rows = String::new();
    for s in &list("stores") {
        let state = s["state"].as_str().unwrap_or_default();
        let class = match state {
            "present" => "good",
            "absent" => "",
            _ => "care",
        };
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td class=\"{class}\">{}</td><td>{}</td></tr>",
            word(s, "store"),
            word(s, "root"),
            text(state),
            word(s, "place")
        );
    }
    section(&mut body, "Where each root is seen", &["store", "root", "state", "place"], &rows);
    html::page("The lab", &head, &body)
}

const STYLE: &str = "<style>.n{white-space:nowrap}.bar{display:inline-block;width:9rem;height:.6rem;border-radius:4px;background:var(--soft);border:1px solid var(--line)}\
.bar i{display:block;height:100%;border-radius:3px;background:var(--good)}.bar.low i{background:var(--care)}.bar.out i{background:var(--bad)}</style>";

fn section(body: &mut String, title: &str, head: &[&str], rows: &str) {
    if rows.is_empty() {
        return;
    }
    let head: String = head.iter().map(|h| format!("<th>{h}</th>")).collect();
    let _ = write!(body, "<section><h2>{title}</h2><table><tr>{head}</tr>{rows}</table></section>");
}

/// What is left of a life.
fn bar(v: &Value, now: Moment) -> String {
    let at = |k: &str| v[k].as_str().and_then(|t| Moment::parse(t).ok()).map(Moment::unix);
    let (Some(from), Some(until)) = (at("not_before"), at("not_after")) else { return String::new() };
    let left = ((until - now.unix()) * 100 / (until - from).max(1)).clamp(0, 100);
    let class = match left {
        0 => " out",
        1..=33 => " low",
        _ => "",
    };
    format!("<span class=\"bar{class}\" title=\"{left} %\"><i style=\"width:{}%\"></i></span>", left.max(2))
}
