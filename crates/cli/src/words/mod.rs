//! Everything that is said: to a person, and to a program.

pub(crate) mod html;
pub(crate) mod human;
pub(crate) mod json;
pub(crate) mod progress;
pub(crate) mod value;
pub(crate) mod wrap;

pub(crate) use value::json;
