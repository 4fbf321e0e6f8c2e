//! The progress of work that takes a while: a spinner, a bar, or a table that fills; only at a terminal.

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::time::Duration;
use tamga_app::interact::{Progress, Task};

/// How often a spinner turns.
const TURN: Duration = Duration::from_millis(100);
const ONE: &str = "{spinner} {msg}";
const MANY: &str = "{spinner} {msg} {bar:30} {pos} of {len}, {eta} left";
const ANSWER: &str = "  {spinner} {prefix:10} {msg}";

/// The lines at the bottom of the terminal, which all work of a run shares.
#[derive(Clone)]
pub(crate) struct Screen(MultiProgress);

impl Screen {
    /// Draws if it may, and standard error is a terminal.
    pub(crate) fn new(draws: bool) -> Screen {
        // The target hides itself where standard error is no terminal.
        let target = if draws { ProgressDrawTarget::stderr() } else { ProgressDrawTarget::hidden() };
        Screen(MultiProgress::with_draw_target(target))
    }

    /// Clears the lines while something else is said or asked.
    pub(crate) fn aside<T>(&self, say: impl FnOnce() -> T) -> T {
        self.0.suspend(say)
    }
}

/// What is drawn, or nothing where nobody looks; it goes away when it is dropped.
pub(crate) struct Drawn {
    screen: Screen,
    head: ProgressBar,
    rows: Vec<(&'static str, ProgressBar)>,
}

impl Drawn {
    pub(crate) fn new(screen: &Screen, task: Task<'_>) -> Drawn {
        let add = |bar: ProgressBar, template: &str| {
            let bar = screen.0.add(bar);
            if let Ok(style) = ProgressStyle::with_template(template) {
                bar.set_style(style.tick_chars("|/-\\ "));
            }
            bar
        };
        let (what, names): (&str, &[&'static str]) = match task {
            Task::One(what) | Task::Many(what, _) => (what, &[]),
            Task::Together(what, names) => (what, names),
        };
        let head = match task {
            Task::Many(_, all) => add(ProgressBar::new(all as u64), MANY),
            _ => add(ProgressBar::new_spinner(), ONE),
        };
        head.set_message(what.to_owned());
        let rows =
            names.iter().map(|name| (*name, add(ProgressBar::new_spinner(), ANSWER).with_prefix(*name))).collect();
        let drawn = Drawn { screen: screen.clone(), head, rows };
        if !drawn.head.is_hidden() {
            drawn.head.enable_steady_tick(TURN);
            drawn.rows.iter().for_each(|(_, row)| row.enable_steady_tick(TURN));
        }
        drawn
    }
}

impl Progress for Drawn {
    fn step(&self) {
        self.head.inc(1);
    }

    fn answered(&self, which: &str, answer: &str) {
        if let Some((_, row)) = self.rows.iter().find(|(name, _)| *name == which) {
            row.finish_with_message(answer.to_owned());
        }
    }
}

impl Drop for Drawn {
    fn drop(&mut self) {
        let all = self.rows.iter().map(|(_, row)| row).chain([&self.head]);
        for bar in all {
            bar.finish_and_clear();
            self.screen.0.remove(bar);
        }
    }
}
