//! Everything that is said: to a person, and to a program.

pub(crate) mod html;
pub(crate) mod human;
mod links;
pub(crate) mod progress;
mod table;
pub(crate) mod wrap;

use serde::Serialize;
use serde_json::Value;

/// The object around every answer (see the interface).
#[derive(Serialize)]
struct Whole<'a> {
    tamga: u8,
    command: &'a str,
    ok: bool,
    #[serde(flatten)]
    members: Value,
}

/// Prints the one object of a command.
pub(crate) fn print_json(command: &str, ok: bool, members: Value) {
    human::json_line(&to_json(&Whole { tamga: 1, command, ok, members }));
}

/// A report as JSON. Reports hold texts and numbers alone, whose JSON cannot fail.
pub(crate) fn to_json(report: &impl serde::Serialize) -> serde_json::Value {
    serde_json::to_value(report).unwrap_or_default()
}
