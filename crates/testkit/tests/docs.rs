//! Every link of the documents leads somewhere, and every page is in the book.

#![allow(clippy::unwrap_used, clippy::panic, clippy::disallowed_methods, reason = "tests")]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// Every Markdown file of the repository's own directories.
fn pages() -> Vec<PathBuf> {
    let (mut out, mut left) = (Vec::new(), vec![root(), root().join("docs")]);
    while let Some(directory) = left.pop() {
        for path in std::fs::read_dir(&directory).unwrap().flatten().map(|e| e.path()) {
            if path.is_dir() && directory.starts_with(root().join("docs")) {
                left.push(path);
            } else if path.extension().is_some_and(|e| e == "md") {
                out.push(path);
            }
        }
    }
    out
}

/// The text without its blocks of code and its code between backquotes.
fn prose(text: &str) -> String {
    let mut fenced = false;
    let mut out = String::new();
    for line in text.lines() {
        if line.trim_start().starts_with("```") {
            fenced = !fenced;
        } else if !fenced && !line.starts_with("    ") {
            out += &line.split('`').step_by(2).collect::<Vec<_>>().join("`");
            out.push('\n');
        }
    }
    out
}

/// The anchors of a page: its headings, as sites write them.
fn anchors(text: &str) -> BTreeSet<String> {
    let heading = |l: &str| l.starts_with('#').then(|| l.trim_start_matches('#').trim().to_lowercase());
    let slug = |h: String| {
        let kept = h.chars().filter(|c| c.is_alphanumeric() || " -_".contains(*c));
        kept.map(|c| if c == ' ' { '-' } else { c }).collect::<String>()
    };
    text.lines().filter_map(heading).map(slug).collect()
}

#[test]
fn every_link_leads_somewhere() {
    let (mut wrong, mut seen) = (Vec::new(), 0);
    for page in pages() {
        let text = std::fs::read_to_string(&page).unwrap();
        for link in prose(&text).split("](").skip(1).filter_map(|rest| rest.split(')').next().map(str::to_owned)) {
            if link.contains("://") || link.starts_with("mailto:") {
                continue;
            }
            seen += 1;
            let (file, anchor) = link.split_once('#').unwrap_or((&link, ""));
            let target = if file.is_empty() { page.clone() } else { page.parent().unwrap().join(file) };
            let missing = !target.exists()
                || !anchor.is_empty() && !anchors(&std::fs::read_to_string(&target).unwrap()).contains(anchor);
            if missing {
                wrong.push(format!("{}: {link}", page.strip_prefix(root()).unwrap().display()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(seen > 100, "{seen}");
}

#[test]
fn every_page_is_in_the_book_once() {
    let docs = root().join("docs");
    let summary = std::fs::read_to_string(docs.join("SUMMARY.md")).unwrap();
    let listed: Vec<PathBuf> =
        summary.split("](").skip(1).filter_map(|rest| Some(docs.join(rest.split(')').next()?))).collect();
    let once: BTreeSet<PathBuf> = listed.iter().cloned().collect();
    assert_eq!(once.len(), listed.len(), "a page is listed twice");
    let own =
        |p: &PathBuf| p.starts_with(&docs) && !p.ends_with("SUMMARY.md") && !p.starts_with(docs.join("decisions"));
    let all: BTreeSet<PathBuf> = pages().into_iter().filter(own).collect();
    assert_eq!(all, once);
}
