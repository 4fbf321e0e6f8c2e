//! Names of staged files: hidden, beside their target, on the same file system.

use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

/// What a staged file is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tag<'a> {
    /// The new contents of a file.
    New,
    /// The earlier contents, kept until a server has taken the new ones.
    Old,
    /// One publication; the journal knows its tag.
    Attempt(&'a str),
}

/// The name of a staged file: `.NAME.tamga-TAG`. The bytes of NAME stay as they are.
pub(super) fn staged_name(name: &OsStr, tag: Tag<'_>) -> OsString {
    let mut out = OsString::from(".");
    out.push(name);
    out.push(".tamga-");
    out.push(match tag {
        Tag::New => "new",
        Tag::Old => "old",
        Tag::Attempt(text) => text,
    });
    out
}

/// A staged file's path beside its target.
pub fn sibling(path: &Path, tag: Tag<'_>) -> PathBuf {
    parent(path).join(staged_name(path.file_name().unwrap_or_default(), tag))
}

/// The directory in which a path lies; the present one for a bare name.
pub fn parent(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}
