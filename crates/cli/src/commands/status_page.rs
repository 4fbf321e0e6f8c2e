//! `tamga status --report FILE.html`: the whole lab on one page.

use crate::words::html::{self, text};
use std::fmt::Write;
use tamga_app::status::Report;
use tamga_core::ca::status::{part_left, part_of};
use tamga_core::stores::trust::State;
use tamga_core::vocabulary::text::Shown;

pub(super) fn page(report: &Report) -> String {
    let (class, verdict) = match report.open.len() {
        0 => ("good", "nothing is due, and every file is as issued".to_owned()),
        1 => ("bad", "one problem to fix".to_owned()),
        n => ("bad", format!("{n} problems to fix")),
    };
    let head = format!(
        "<p>Status of {} by Tamga {}, data directory {}</p><p class=\"verdict {class}\">{verdict}</p>",
        text(&report.now.to_string()),
        env!("CARGO_PKG_VERSION"),
        text(&report.data_folder.shown())
    );
    let mut body = String::from(STYLE);
    for o in &report.open {
        let _ = write!(
            body,
            "<div class=\"finding warning\"><p>{}</p><p>{}</p></div>",
            text(&o.what),
            html::remedy(&o.remedy)
        );
    }
    let mut rows = String::new();
    for used in &report.certificates {
        let i = &used.issued;
        let c = &i.certificate;
        let days = match i.revoked {
            Some(_) => "revoked".to_owned(),
            None => format!("{} days", c.not_after.days_after(report.now)),
        };
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{days}</td><td>{}</td></tr>",
            text(&i.label),
            bar(part_left(c, report.now)),
            text(&c.not_after.date()),
            text(&c.name_words().join(", "))
        );
    }
    section(&mut body, "Certificates", &["label", "life", "expires", "", "names"], &rows);
    let mut rows = String::new();
    for e in &report.enrolled {
        let c = &e.listed.summary;
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td class=\"n\">{}</td><td class=\"n\">{} days</td><td>{}</td><td class=\"n\">{}</td></tr>",
            text(&c.label),
            bar(part_of(c.not_before, c.not_after, report.now)),
            text(&c.not_after.date()),
            c.not_after.days_after(report.now),
            text(&c.names.join(", ")),
            e.account
        );
    }
    section(&mut body, "Enrolled", &["label", "life", "expires", "", "names", "account"], &rows);
    let mut rows = String::new();
    for (a, _, next) in &report.authorities {
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td>{}</td><td>{}</td><td>{}</td></tr>",
            text(&a.label),
            bar(part_left(&a.certificate, report.now)),
            text(&a.certificate.not_after.date()),
            text(a.key.word()),
            text(&next.map_or_else(|| "none".to_owned(), |n| n.date()))
        );
    }
    section(&mut body, "Authorities", &["label", "life", "expires", "key", "next revocation list"], &rows);
    let mut rows = String::new();
    for r in &report.stores {
        let class = match r.state {
            State::Present => "good",
            State::Absent => "",
            _ => "care",
        };
        let _ = write!(
            rows,
            "<tr><td><b>{}</b></td><td>{}</td><td class=\"{class}\">{}</td><td>{}</td></tr>",
            text(r.store.word()),
            text(&r.label),
            text(r.state.word()),
            text(&r.place.shown())
        );
    }
    section(&mut body, "Stores", &["store", "root", "state", "place"], &rows);
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

/// What is left of a validity, in percent.
fn bar(left: u8) -> String {
    let class = match left {
        0 => " out",
        1..=33 => " low",
        _ => "",
    };
    format!("<span class=\"bar{class}\" title=\"{left} %\"><i style=\"width:{}%\"></i></span>", left.max(2))
}
