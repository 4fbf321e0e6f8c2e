//! What a step of a recipe is, for a machine and for a person.

/// Who carries a step out, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Act {
    /// Commands, one a line; a machine runs them too.
    Run,
    /// Commands that change nothing: a person reads what they print.
    Look,
    /// Lines at the end of this file.
    AtEnd(&'static str),
    /// For a person, who knows where: an application, a page, another machine, or only if it is wanted.
    ByHand,
}

impl Act {
    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Act::Run => "run",
            Act::Look => "look",
            Act::AtEnd(_) => "append",
            Act::ByHand => "by-hand",
        }
    }
}

/// One thing to be done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Work {
    /// What for.
    pub what: String,
    /// Who carries it out.
    pub act: Act,
    /// What to type or to write, line by line.
    pub lines: Vec<String>,
}

/// A step of a recipe, as a template.
#[derive(Clone, Copy, Debug)]
pub struct Step {
    /// What for.
    pub what: &'static str,
    /// Who carries it out.
    pub act: Act,
    /// The lines to type or to write.
    pub text: &'static str,
}

pub(super) const fn run(what: &'static str, text: &'static str) -> Step {
    Step { what, act: Act::Run, text }
}

pub(super) const fn look(what: &'static str, text: &'static str) -> Step {
    Step { what, act: Act::Look, text }
}

pub(super) const fn at_end(path: &'static str, what: &'static str, text: &'static str) -> Step {
    Step { what, act: Act::AtEnd(path), text }
}

pub(super) const fn by_hand(what: &'static str, text: &'static str) -> Step {
    Step { what, act: Act::ByHand, text }
}

/// Where the text of a configuration goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Placement {
    /// It is the whole file.
    Whole,
    /// At the end of the file, which has other text too.
    AtEnd,
    /// Somewhere inside the file, by a person: where.
    Within(&'static str),
    /// A file of the application or for another machine: where, or what belongs to it.
    Yours(&'static str),
}

impl Placement {
    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Placement::Whole => "write",
            Placement::AtEnd => "append",
            Placement::Within(_) => "merge",
            Placement::Yours(_) => "write-beside",
        }
    }

    /// Where exactly, in words.
    pub fn detail(self) -> Option<&'static str> {
        match self {
            Placement::Whole | Placement::AtEnd => None,
            Placement::Within(words) | Placement::Yours(words) => Some(words),
        }
    }
}
