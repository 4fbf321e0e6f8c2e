//! Libraries that panic on parameters which nobody sane writes: caught where they are called.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// True while this thread is in a call whose panic is caught: the reporter of panics has nothing to report.
pub fn is_guarded() -> bool {
    GUARDED.with(Cell::get)
}

/// Calls a library; None if it panicked.
pub(crate) fn guarded<T>(work: impl FnOnce() -> T) -> Option<T> {
    let before = GUARDED.replace(true);
    let out = catch_unwind(AssertUnwindSafe(work)).ok();
    GUARDED.set(before);
    out
}
