//! Chromium on Windows: it is asked through two inherited pipes, which it does not take there. Its answer is predicted, not observed.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use std::path::Path;

/// Nothing is observed.
pub fn visits(_: &Path, _: &Machine, visits: &[Visit]) -> Vec<Observed> {
    visits.iter().map(|_| failed("Chromium is not run on Windows")).collect()
}
