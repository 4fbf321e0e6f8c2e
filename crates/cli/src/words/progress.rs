//! A bar of progress for work that takes seconds; only at a terminal.

use crate::args::{Common, Format};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// A bar, or nothing where nobody looks.
pub(crate) struct Progress(ProgressBar);

impl Progress {
    /// So many steps.
    pub(crate) fn new(common: &Common, steps: usize) -> Progress {
        let bar = ProgressBar::new(steps as u64);
        // The target hides itself where standard error is no terminal.
        if common.quiet || common.format != Format::Text {
            bar.set_draw_target(ProgressDrawTarget::hidden());
        }
        if let Ok(style) = ProgressStyle::with_template("{bar:40} {pos}/{len} {per_sec:>10} {eta}") {
            bar.set_style(style);
        }
        Progress(bar)
    }

    /// One step done.
    pub(crate) fn step(&self) {
        self.0.inc(1);
    }

    /// Takes the bar away.
    pub(crate) fn finish(&self) {
        self.0.finish_and_clear();
    }
}
