//! A bar of progress for work that takes seconds; only at a terminal.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use tamga_app::interact::Progress;

/// A bar, or nothing where nobody looks; it goes away when it is dropped.
pub(crate) struct Bar(ProgressBar);

impl Bar {
    /// So many steps.
    pub(crate) fn new(draws: bool, steps: usize) -> Bar {
        let bar = ProgressBar::new(steps as u64);
        // The target hides itself where standard error is no terminal.
        if !draws {
            bar.set_draw_target(ProgressDrawTarget::hidden());
        }
        if let Ok(style) = ProgressStyle::with_template("{bar:40} {pos}/{len} {per_sec:>10} {eta}") {
            bar.set_style(style);
        }
        Bar(bar)
    }
}

impl Progress for Bar {
    fn step(&self) {
        self.0.inc(1);
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}
