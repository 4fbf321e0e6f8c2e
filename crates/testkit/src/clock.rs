//! Programs whose clock begins at a chosen moment, so that what they print does not depend on the day of the run.

use crate::sandbox::Sandbox;
use std::process::Command;

const SOURCE: &str = include_str!("clock.c");

/// A clock that began at a chosen moment when it was made.
pub struct Clock {
    library: String,
    shift: i64,
}

impl Clock {
    /// In: where its library is compiled; Unix time in seconds that it begins at.
    pub fn beginning_at(s: &Sandbox, unix: i64) -> Clock {
        let (source, library) = (s.path("clock.c"), s.path("clock.so").display().to_string());
        std::fs::write(&source, SOURCE).unwrap();
        let made = Command::new("cc").args(["-shared", "-fPIC", "-O1", "-o", &library]).arg(&source).status().unwrap();
        assert!(made.success(), "the C compiler");
        Clock { library, shift: unix - tamga_host::entropy::now().unix() }
    }

    /// The same command under this clock, and every program that it starts with its environment.
    pub fn over(&self, mut command: Command) -> Command {
        command.env("LD_PRELOAD", &self.library).env("TESTKIT_CLOCK_SHIFT", self.shift.to_string());
        command
    }
}
