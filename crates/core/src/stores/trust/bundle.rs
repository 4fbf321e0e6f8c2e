//! Any PEM bundle that a person names: our root is in it as a marked block.

use super::{Blocker, Entry, Goal, Root, Scope, Store, StoreLocation};
use crate::pki::cert::Certificate;
use crate::pki::format::pem;
use crate::plan::ports::Look;
use crate::plan::step::{Planned, Step};
use crate::stores::StoreId;
use crate::vocabulary::text::Shown;
use std::path::PathBuf;

/// The store `bundle`.
pub struct Bundle;

impl Store for Bundle {
    fn id(&self) -> StoreId {
        StoreId::Bundle
    }

    fn scope(&self) -> Scope {
        Scope::User
    }

    fn survey(&self, look: &dyn Look, bundles: &[PathBuf]) -> Vec<StoreLocation> {
        bundles
            .iter()
            .map(|file| {
                let bytes = look.read(file);
                let folder = file.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(std::path::Path::new("."));
                // A file that is still to be made is an empty bundle; its directory must exist.
                let hindrance = if bytes.is_none() && look.exists(file) {
                    Some(Blocker {
                        why: "it cannot be read, or is not a regular file".into(),
                        remedy: "name another bundle: --bundle FILE".into(),
                        absent: false,
                    })
                } else if !look.exists(folder) {
                    Some(Blocker {
                        why: format!("the directory {} does not exist", folder.shown()),
                        remedy: format!("mkdir -p {}, then run the same command again", folder.shown()),
                        absent: false,
                    })
                } else if !look.may_write(folder) {
                    Some(Blocker {
                        why: "its directory may not be written".into(),
                        remedy: format!("sudo tamga trust add --stores bundle --bundle {}", file.shown()),
                        absent: false,
                    })
                } else {
                    None
                };
                let text = bytes.unwrap_or_default();
                StoreLocation {
                    store: self.id(),
                    place: file.clone(),
                    hindrance,
                    entries: entries(&text),
                    guarded: false,
                }
            })
            .collect()
    }

    fn change(&self, goal: Goal, root: &Root, place: &StoreLocation, look: &dyn Look) -> Vec<Planned> {
        let is_new = !look.exists(&place.place);
        let before = match look.read(&place.place) {
            Some(bytes) => bytes,
            None if is_new => Vec::new(),
            None => return Vec::new(),
        };
        let there = place.entries.iter().any(|e| e.certificate == root.certificate);
        let after = match goal {
            Goal::Add if there => return Vec::new(),
            Goal::Add => [before.clone(), block(root, &before)].concat(),
            Goal::Remove => match without(&before, root) {
                Some(after) => after,
                None => return Vec::new(),
            },
        };
        let write = |bytes| Step::Write { path: place.place.clone(), bytes, mode: 0o644 };
        let undo = if is_new { Step::Remove { path: place.place.clone() } } else { write(before) };
        vec![Planned { step: write(after), undo: vec![undo] }]
    }
}

fn entries(text: &[u8]) -> Vec<Entry> {
    let marks: Vec<String> = String::from_utf8_lossy(text)
        .lines()
        .filter_map(|l| l.strip_prefix("# begin tamga-").map(|m| format!("tamga-{}", m.trim())))
        .collect();
    pem::certificates(text)
        .iter()
        .filter_map(|der| Certificate::read_any(der))
        .map(|certificate| Entry {
            mark: marks.iter().find(|m| super::is_mark_of(m, &certificate)).cloned(),
            certificate,
            trusted: true,
            distrusted: false,
            flaw: None,
        })
        .collect()
}

/// A block of its own; where the file lacks a last line end, the block begins with one (and takes it away again).
fn block(root: &Root, before: &[u8]) -> Vec<u8> {
    let mark = root.mark();
    let joint = if before.is_empty() || before.ends_with(b"\n") { "" } else { "\n" };
    format!("{joint}# begin {mark}\n{}# end {mark}\n", root.pem()).into_bytes()
}

/// The bytes without the root: its marked block, whatever the label in the mark, or else the lines of the certificate alone, which
/// somebody else put there. None if it is not there.
fn without(before: &[u8], root: &Root) -> Option<Vec<u8>> {
    let (start, end) = marked(before, root).or_else(|| unmarked(before, root.certificate.der()))?;
    Some([&before[..start], &before[end..]].concat())
}

/// Where our block is.
fn marked(before: &[u8], root: &Root) -> Option<(usize, usize)> {
    let text = std::str::from_utf8(before).ok()?;
    let mark = text
        .lines()
        .filter_map(|l| l.strip_prefix("# begin "))
        .find(|m| super::is_mark_of(m.trim(), &root.certificate))?;
    let start = text.find(&format!("# begin {mark}\n"))?;
    let end_line = format!("# end {mark}\n");
    Some((start, start + text[start..].find(&end_line)? + end_line.len()))
}

/// Where the PEM lines of a certificate are, with the line end after them.
fn unmarked(before: &[u8], der: &[u8]) -> Option<(usize, usize)> {
    const BEGIN: &[u8] = b"-----BEGIN CERTIFICATE-----";
    const END: &[u8] = b"-----END CERTIFICATE-----";
    let find =
        |from: usize, what: &[u8]| before[from..].windows(what.len()).position(|w| w == what).map(|at| from + at);
    let mut from = 0;
    while let Some(start) = find(from, BEGIN) {
        let end = find(start, END)? + END.len();
        if pem::certificates(&before[start..end]).first().is_some_and(|found| found == der) {
            let line_end = match &before[end..] {
                [b'\r', b'\n', ..] => 2,
                [b'\n', ..] => 1,
                _ => 0,
            };
            return Some((start, end + line_end));
        }
        from = start + BEGIN.len();
    }
    None
}
