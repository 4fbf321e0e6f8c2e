//! Exit codes, and the failures that lead to them.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;
use tamga_app::report::Outcome;
use tamga_core::error::{Diagnostic, Kind};

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

pub(crate) use tamga_app::failure::{Failure, Result};

/// The exit code of an outcome.
pub(crate) fn of(outcome: Outcome) -> u8 {
    match outcome {
        Outcome::Good => GOOD,
        Outcome::Bad => BAD,
        Outcome::Refused => 3,
        Outcome::Blocked => SURROUNDINGS,
        Outcome::Partial => PARTLY,
        Outcome::Stuck => 6,
        Outcome::Fault => 70,
    }
}

/// What a command has to say.
pub(crate) struct Done {
    /// For a person: whole lines.
    pub(crate) text: String,
    /// For a program: the members of the object besides `tamga`, `command` and `ok`; null if it is printed already.
    pub(crate) json: Value,
    /// The exit code.
    pub(crate) code: u8,
    /// What `--quiet` prints where the answer is not good.
    pub(crate) brief: Option<String>,
}

impl Done {
    /// A report and its text.
    pub(crate) fn report(text: String, report: &impl Serialize) -> Done {
        Done { text, json: crate::words::to_json(report), code: GOOD, brief: None }
    }

    /// Everything is printed already.
    pub(crate) fn printed() -> Done {
        Done { text: String::new(), json: Value::Null, code: GOOD, brief: None }
    }

    /// The same with one line for `--quiet`, if the answer is not good.
    pub(crate) fn with_brief(self, brief: String) -> Done {
        Done { brief: Some(brief), ..self }
    }

    /// The same with another exit code.
    pub(crate) fn with_code(self, code: u8) -> Done {
        Done { code, ..self }
    }
}

/// The members of a failure's JSON.
#[derive(Serialize, JsonSchema)]
pub(crate) struct Failed {
    error: Error,
}

#[derive(Serialize, JsonSchema)]
struct Error {
    code: &'static str,
    what: String,
    why: String,
    remedy: String,
}

impl From<&dyn Diagnostic> for Failed {
    fn from(f: &dyn Diagnostic) -> Failed {
        Failed { error: Error { code: f.code(), what: f.what(), why: f.why(), remedy: f.remedy() } }
    }
}
