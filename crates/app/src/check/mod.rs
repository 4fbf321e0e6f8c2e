//! Would any client warn, why, and what to do: servers, files and labels.

mod around;
mod checked;
mod files;
mod hops;
mod kept;
mod live;
mod observed;
pub mod on_hosts;
mod plain;
mod target;
mod wire;

pub use around::Terms;
pub use checked::{Checked, Row, Weight};

use crate::env::Env;
use crate::failure::Result;
use crate::report::Outcome;
use around::Around;
use live::live;
use std::path::Path;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use tamga_core::error::Error;
use tamga_core::vocabulary::text::Shown;
use target::Target;

/// What to check, and how.
#[derive(Clone, Debug)]
pub struct Request {
    /// The targets: a server, a file or directory, a label, or a host.
    pub targets: Vec<String>,
    /// How many are checked side by side.
    pub jobs: usize,
    /// Run the installed clients too, and compare.
    pub observe: bool,
    /// Everything else.
    pub terms: Terms,
}

/// Checks all targets, and gives each result as it comes to `seen`; what that returns is returned in the order of the targets.
///
/// Errors: a target that is none; files that cannot be read. What is wrong with a target is in its result.
pub fn check<T: Send>(env: &Env, request: &Request, seen: impl Fn(Checked) -> T + Sync) -> Result<Vec<T>> {
    if request.observe && !request.terms.anchors.is_empty() {
        return Err(Error::Contradiction {
            what: "--observe and --anchor were both given".into(),
            why: "the installed clients look into their stores, not at a file".into(),
            instead: "leave one of the two away".into(),
        }
        .into());
    }
    let around = Around::new(env, &request.terms)?;
    std::thread::scope(|scope| {
        // Reading what each client trusts takes as long as a hundred handshakes: neither waits for the other.
        scope.spawn(|| around.views());
        all(env, &around, request, &seen)
    })
}

fn all<T: Send>(
    env: &Env,
    around: &Around<'_>,
    request: &Request,
    seen: &(impl Fn(Checked) -> T + Sync),
) -> Result<Vec<T>> {
    // What is typed wrong is reported before the first connection.
    let mut targets: Vec<(&str, Target)> = Vec::with_capacity(request.targets.len());
    for typed in &request.targets {
        targets.push((typed, target::parse(env, typed, around)?));
    }
    if !request.observe {
        return side_by_side(&targets, request.jobs, |t| one(env, around, t).map(|c| seen(finished(c, around))));
    }
    // The installed clients take many targets in one run; a few hundred keep a person waiting, so some come first.
    let mut out = Vec::with_capacity(targets.len());
    for some in targets.chunks(AT_ONCE) {
        let mut judged = side_by_side(some, request.jobs, |t| one(env, around, t))?;
        observed::compare(env, &around.clients, &mut judged);
        out.extend(judged.into_iter().map(|c| seen(finished(c, around))));
    }
    Ok(out)
}

/// So many targets are shown to the installed clients before anything is reported.
const AT_ONCE: usize = 60;

/// Does the same with each, `jobs` at a time; the answers are in the order of the targets.
fn side_by_side<T: Send>(
    targets: &[(&str, Target)],
    jobs: usize,
    each: impl Fn(&(&str, Target)) -> Result<T> + Sync,
) -> Result<Vec<T>> {
    let next = AtomicUsize::new(0);
    let all: Mutex<Vec<(usize, Result<T>)>> = Mutex::new(Vec::with_capacity(targets.len()));
    let work = || {
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let Some(target) = targets.get(at) else { return };
            let done = each(target);
            all.lock().unwrap_or_else(|e| e.into_inner()).push((at, done));
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..jobs.min(targets.len()) {
            scope.spawn(work);
        }
        work();
    });
    let mut all = all.into_inner().unwrap_or_else(|e| e.into_inner());
    all.sort_by_key(|(at, _)| *at);
    all.into_iter().map(|(_, t)| t).collect()
}

fn one(env: &Env, around: &Around<'_>, (typed, target): &(&str, Target)) -> Result<Checked> {
    match target {
        Target::Live(meeting) => live(env, around, typed, meeting),
        Target::Plain(address) => plain::from(env, around, typed, address),
        Target::File(path) => files::file(env, around, typed, path),
        Target::Label(issued) => files::label(env, around, typed, issued),
    }
}

fn finished(mut checked: Checked, around: &Around<'_>) -> Checked {
    checked.show_wire = around.wire;
    checked.host.clone_from(&around.on);
    // What was added later stands where it weighs; the order among equals stays.
    checked.findings.sort_by_key(|f| std::cmp::Reverse(f.severity));
    checked
}

/// The targets of a file: one a line, `#` begins a remark.
///
/// Errors: it cannot be read; there is none in it.
pub fn listed(env: &Env, path: &Path) -> Result<Vec<String>> {
    let text = env.disk().read_named_text(path)?;
    let lines = text.trim_start_matches('\u{feff}').lines();
    let found: Vec<String> = lines
        .map(|l| l.split(" #").next().unwrap_or_default().trim())
        .filter(|l| !l.is_empty() && !l.starts_with('#'))
        .map(str::to_owned)
        .collect();
    if found.is_empty() {
        let what = path.shown();
        return Err(Error::Malformed { what, why: "no line of it names a target".into() }.into());
    }
    Ok(found)
}

/// The outcome over all targets: the worst; partial if only some could not be reached.
pub fn outcome(all: impl Iterator<Item = Outcome> + Clone) -> Outcome {
    let count = all.clone().count();
    let unreached = all.clone().filter(|o| *o == Outcome::Blocked).count();
    let worst = all.filter(|o| *o != Outcome::Blocked).fold(Outcome::Good, Outcome::worst);
    match unreached {
        0 => worst,
        n if n == count => worst.worst(Outcome::Blocked),
        _ => worst.worst(Outcome::Partial),
    }
}
