//! Does the steps of a plan, and takes them back if one fails: one loop, for every machine that can do a step.

use crate::plan::step::{Planned, Step};

/// What can do one step: this machine, one in memory, one that only writes down what it is asked.
pub trait Executor {
    /// Why a step could not be done.
    type Error;

    /// Does the step, whole or not at all.
    ///
    /// Errors: it could not be done; nothing of it is left.
    fn execute(&self, step: &Step) -> Result<(), Self::Error>;
}

/// A plan that was not done.
#[derive(Debug, PartialEq, Eq)]
pub struct Failed<'a, E> {
    /// The step that failed.
    pub step: &'a Step,
    /// Why it did.
    pub error: E,
    /// What could not be undone, in the order in which it was tried; empty if all is as before.
    pub left: Vec<Left<'a, E>>,
}

/// One thing that is left behind.
#[derive(Debug, PartialEq, Eq)]
pub struct Left<'a, E> {
    /// The undoing step that failed: it is still to be done, by hand.
    pub step: &'a Step,
    /// Why it failed.
    pub error: E,
}

/// Does the steps in order. If one fails, those before it are undone, last first; what cannot be undone stops nothing, so
/// that as little as possible is left.
///
/// Errors: the first step that failed, and what is left of those before it.
///
/// ```
/// use tamga_core::plan::perform::{Executor, perform};
/// use tamga_core::plan::step::{Planned, Step};
///
/// /// Nothing may be written here.
/// struct ReadOnly;
///
/// impl Executor for ReadOnly {
///     type Error = String;
///
///     fn execute(&self, step: &Step) -> Result<(), String> {
///         match step {
///             Step::Write { .. } => Err("the disk is read-only".into()),
///             _ => Ok(()),
///         }
///     }
/// }
///
/// let plan = [Planned::plain(Step::Write { path: "/etc/motd".into(), bytes: b"tide".to_vec(), mode: 0o644 })];
/// let failed = perform(&ReadOnly, &plan).expect_err("it cannot be written");
/// assert_eq!(failed.error, "the disk is read-only");
/// assert!(failed.left.is_empty(), "nothing was done before it");
/// ```
pub fn perform<'a, X: Executor>(executor: &X, plan: &'a [Planned]) -> Result<(), Failed<'a, X::Error>> {
    for (at, planned) in plan.iter().enumerate() {
        if let Err(error) = executor.execute(&planned.step) {
            let done = plan.iter().take(at).rev().flat_map(|p| &p.undo);
            // A command that has just failed would fail again, and its failure is reported already.
            let left = done
                .filter(|undo| **undo != planned.step)
                .filter_map(|undo| executor.execute(undo).err().map(|error| Left { step: undo, error }))
                .collect();
            return Err(Failed { step: &planned.step, error, left });
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::cell::RefCell;
    use std::path::PathBuf;

    /// Writes down what it did; fails at the paths named.
    struct Notebook {
        broken: Vec<&'static str>,
        done: RefCell<Vec<String>>,
    }

    impl Executor for Notebook {
        type Error = &'static str;

        fn execute(&self, step: &Step) -> Result<(), &'static str> {
            let words = step.words();
            if let Some(why) = self.broken.iter().find(|b| words.contains(**b)) {
                return Err(why);
            }
            self.done.borrow_mut().push(words);
            Ok(())
        }
    }

    fn write(path: &str) -> Step {
        Step::Write { path: PathBuf::from(path), bytes: Vec::new(), mode: 0o644 }
    }

    fn remove(path: &str) -> Step {
        Step::Remove { path: PathBuf::from(path) }
    }

    fn plan() -> Vec<Planned> {
        ["/one", "/two", "/three"].map(|p| Planned { step: write(p), undo: vec![remove(p)] }).into()
    }

    fn done(broken: &[&'static str]) -> (Vec<String>, Option<(String, Vec<String>)>) {
        let notebook = Notebook { broken: broken.to_vec(), done: RefCell::default() };
        let plan = plan();
        let failed = perform(&notebook, &plan).err();
        let failed = failed.map(|f| (f.step.words(), f.left.iter().map(|l| l.step.words()).collect()));
        (notebook.done.into_inner(), failed)
    }

    #[test]
    fn what_was_done_is_undone_last_first() {
        let (did, failed) = done(&["write /three"]);
        assert_eq!(did, ["write /one (0644)", "write /two (0644)", "remove /two", "remove /one"]);
        assert_eq!(failed, Some(("write /three (0644)".into(), vec![])));
        assert_eq!(done(&[]).1, None);
    }

    #[test]
    fn undoing_goes_on_after_a_failure_and_lists_everything_left() {
        let (did, failed) = done(&["write /three", "remove /two"]);
        assert_eq!(did.last().map(String::as_str), Some("remove /one"), "what can be undone is");
        assert_eq!(failed.map(|f| f.1), Some(vec!["remove /two".to_owned()]));
        let (_, failed) = done(&["write /three", "remove"]);
        assert_eq!(failed.map(|f| f.1), Some(vec!["remove /two".to_owned(), "remove /one".to_owned()]));
    }

    #[test]
    fn a_command_that_failed_is_not_run_again_to_undo() {
        let command = Step::Run(crate::plan::step::Invocation::new("refresh-store", [] as [&str; 0]));
        let plan =
            [Planned { step: write("/one"), undo: vec![remove("/one"), command.clone()] }, Planned::plain(command)];
        let notebook = Notebook { broken: vec!["refresh-store"], done: RefCell::default() };
        let failed = perform(&notebook, &plan).expect_err("the command fails");
        assert!(failed.left.is_empty());
        assert_eq!(notebook.done.into_inner(), ["write /one (0644)", "remove /one"]);
    }
}
