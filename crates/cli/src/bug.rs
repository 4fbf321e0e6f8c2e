//! A bug in Tamga: three lines and exit code 70, never a dump.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};
use tamga_core::error::Kind;
use tamga_core::pki::format::guard;
use tamga_core::vocabulary::text::{cut, harmless};

/// Set once any thread panicked: whatever else was done, the exit code says it.
static HAPPENED: AtomicBool = AtomicBool::new(false);

/// From now on a panic is three lines on standard error, whichever thread it is in.
pub(crate) fn report_panics() {
    std::panic::set_hook(Box::new(|info| {
        // A library that gave up on senseless parameters: an answer, not a bug of ours.
        if guard::is_guarded() || HAPPENED.swap(true, Ordering::Relaxed) {
            return;
        }
        let place = info.location().map_or_else(|| "an unknown place".into(), |l| format!("{}:{}", l.file(), l.line()));
        let said = info.payload_as_str().map_or_else(String::new, |text| format!(": {}", cut(&harmless(text), 200)));
        eprintln!("tamga: this is a bug in Tamga, and the command was not finished");
        eprintln!("  why: version {} gave up at {place}{said}", env!("CARGO_PKG_VERSION"));
        eprintln!("  do:  run tamga repair, which says what was left; then report the two lines above and the command");
    }));
}

/// Runs the program; a panic in any thread of it becomes exit code 70.
pub(crate) fn guarded(work: impl FnOnce() -> ExitCode) -> ExitCode {
    let bug = ExitCode::from(crate::exit::code(Kind::Fault));
    // Builds for tests can be made to have a bug.
    let work = || match std::env::var("TAMGA_TESTS_PANIC").as_deref() {
        Ok("main") if cfg!(debug_assertions) => unreachable!("asked for by a test"),
        Ok("thread") if cfg!(debug_assertions) => {
            let _ = std::thread::spawn(|| unreachable!("asked for by a test")).join();
            work()
        }
        _ => work(),
    };
    match catch_unwind(AssertUnwindSafe(work)) {
        Ok(code) if !HAPPENED.load(Ordering::Relaxed) => code,
        _ => bug,
    }
}
