//! Everything that is said: to a person, and to a program.

pub(crate) mod html;
pub(crate) mod human;
pub(crate) mod progress;
pub(crate) mod wrap;

/// A report as JSON. Reports hold texts and numbers alone, whose JSON cannot fail.
pub(crate) fn to_json(report: &impl serde::Serialize) -> serde_json::Value {
    serde_json::to_value(report).unwrap_or_default()
}
