//! Values of the file, each with its place in errors.

use super::raw;
use crate::error::{Error, Result};
use std::path::{Path, PathBuf};
use toml::Spanned;

/// The file that is read.
pub(super) struct Reader<'a> {
    pub(super) text: &'a str,
    pub(super) what: &'a str,
    pub(super) base: &'a Path,
}

impl Reader<'_> {
    /// An error with the line and column, each from 1, of an octet.
    pub(super) fn at(&self, offset: usize, inner: Error) -> Error {
        let before = self.text.get(..offset).unwrap_or(self.text);
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
        Error::InFile { file: self.what.to_owned(), line, column, inner: Box::new(inner) }
    }

    /// An error about a certificate.
    pub(super) fn of(&self, c: &raw::Certificate, inner: Error) -> Error {
        let span = c.label.as_ref().or(c.names.first()).map_or(0..0, Spanned::span);
        self.at(span.start, inner)
    }

    pub(super) fn value<T>(&self, t: &raw::Text, parse: impl FnOnce(&str) -> Result<T>) -> Result<T> {
        parse(t.get_ref()).map_err(|e| self.at(t.span().start, e))
    }

    pub(super) fn optional<T>(
        &self,
        t: &Option<raw::Text>,
        parse: impl FnOnce(&str) -> Result<T>,
    ) -> Result<Option<T>> {
        t.as_ref().map(|t| self.value(t, parse)).transpose()
    }

    pub(super) fn list<T>(&self, all: &[raw::Text], parse: impl Fn(&str) -> Result<T>) -> Result<Vec<T>> {
        all.iter().map(|t| self.value(t, &parse)).collect()
    }

    pub(super) fn word<T>(&self, t: &raw::Text, what: &'static str, accepted: &str, found: Option<T>) -> Result<T> {
        let typed = t.get_ref().clone();
        found.ok_or_else(|| self.at(t.span().start, Error::Word { what, typed, accepted: accepted.to_owned() }))
    }

    pub(super) fn path(&self, path: &Path) -> PathBuf {
        self.base.join(path)
    }
}
