//! Exit codes, and the failures that lead to them.

use crate::words::json;
use serde_json::Value;
use tamga_core::error::{Kind, Told};

/// Done, or the answer is good.
pub(crate) const GOOD: u8 = 0;
/// The answer is bad.
pub(crate) const BAD: u8 = 1;
/// The surroundings do not allow it.
pub(crate) const SURROUNDINGS: u8 = 4;
/// Done in part.
pub(crate) const PARTLY: u8 = 5;

/// The code of a kind of failure.
pub(crate) fn code(kind: Kind) -> u8 {
    match kind {
        Kind::Usage => 2,
        Kind::Refused => 3,
        Kind::Surroundings => SURROUNDINGS,
        Kind::Partial => PARTLY,
        Kind::Stuck => 6,
        Kind::Fault => 70,
    }
}

/// Of several codes the worst: 70, 6, 1, 5, 4, 3.
pub(crate) fn worst(a: u8, b: u8) -> u8 {
    const ORDER: [u8; 8] = [70, 6, 1, 5, 4, 3, 2, 0];
    ORDER.into_iter().find(|c| *c == a || *c == b).unwrap_or(70)
}

/// A failure on its way to the person.
pub(crate) struct Failure(pub(crate) Box<dyn Told + Send>);

impl<T: Told + Send + 'static> From<T> for Failure {
    fn from(told: T) -> Failure {
        Failure(Box::new(told))
    }
}

/// A command's result.
pub(crate) type Result<T> = std::result::Result<T, Failure>;

/// What a command has to say.
pub(crate) struct Done {
    /// For a person: whole lines.
    pub(crate) text: String,
    /// For a program: the members of the object besides `tamga`, `command` and `ok`.
    pub(crate) json: Value,
    /// The exit code.
    pub(crate) code: u8,
}

impl Done {
    /// All went well.
    pub(crate) fn good(text: String, json: Value) -> Done {
        Done { text, json, code: GOOD }
    }
}

/// The JSON of a failure.
pub(crate) fn failure_json(f: &dyn Told) -> Value {
    json!({"error": {"code": f.code(), "what": f.what(), "why": f.why(), "remedy": f.remedy()}})
}
