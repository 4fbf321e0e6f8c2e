//! Java and Go, asked by a program of a page in their own language, with the person's variables: many visits in one run.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::process;
use std::path::Path;
use std::process::Command;
use std::time::Duration;
use tamga_core::check::client::{go, java};
use tamga_core::plan::ports::Environment;
use tamga_core::stores::trust::java as jvms;
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::Shown;

/// `Visit.java`, compiled for every JVM since version 8: a machine that runs Java programs often has no compiler.
const CLASS: &[u8] = include_bytes!("Visit.class");
/// What Go builds in a second, if its standard library lies compiled at hand, else in half a minute.
const GO: &str = include_str!("visit.go");

/// One of the two.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Compiled {
    /// The JVM that `java` starts.
    Java,
    /// What this machine's Go builds.
    Go,
}

impl Compiled {
    /// All visits, in order.
    pub fn visits(self, program: &Path, machine: &Machine, visits: &[Visit]) -> Vec<Observed> {
        let all_failed = |why: String| visits.iter().map(|_| failed(why.clone())).collect();
        let folder = match crate::scratch::directory("tamga-visit-") {
            Ok(folder) => folder,
            Err(e) => return all_failed(format!("no temporary directory: {e}")),
        };
        let ready = match self {
            Compiled::Java => with_java(program, machine, folder.path()),
            Compiled::Go => built(program, machine, folder.path()),
        };
        let mut command = match ready {
            Ok(command) => command,
            Err(why) => return all_failed(why),
        };
        for v in visits {
            command.args([v.address.ip().to_string(), v.address.port().to_string(), v.host.to_string()]);
        }
        let limit = Duration::from_secs(30 + 4 * visits.len() as u64);
        let ended = match process::run(command, b"", limit) {
            Ok(ended) => ended,
            Err(e) => return all_failed(format!("{} did not start: {e}", program.shown())),
        };
        let said = String::from_utf8_lossy(&ended.output).into_owned();
        let mut lines = said.lines();
        let why =
            || format!("it ended early: {}", tamga_core::vocabulary::text::harmless(ended.errors.as_received().trim()));
        visits.iter().map(|_| lines.next().map_or_else(|| failed(why()), |line| self.heard(line))).collect()
    }

    fn heard(self, line: &str) -> Observed {
        let raw = tamga_core::vocabulary::text::harmless(line.get(1..).unwrap_or_default());
        match line.chars().next() {
            Some('+') => Observed::accepts(raw),
            Some('-') => {
                let code = match self {
                    Compiled::Java => java::said(&raw),
                    Compiled::Go => go::said(&raw),
                };
                Observed::refuses(code, raw)
            }
            _ => failed(raw),
        }
    }
}

/// The JVM with our class; under another root with the store that is there.
fn with_java(program: &Path, machine: &Machine, folder: &Path) -> Result<Command, String> {
    crate::fs::write_scratch(&folder.join("Visit.class"), CLASS)
        .map_err(|e| format!("the class could not be written: {e}"))?;
    let mut command = Command::new(program);
    // The store that the prediction reads; a variable of the person's stands behind it and wins.
    if machine.root().is_some()
        && jvms::named_store(machine).is_none()
        && let Some(store) = jvms::usual_store(machine)
    {
        command.arg(format!("-Djavax.net.ssl.trustStore={}", machine.real(&store).shown()));
    }
    command.args(["-Xshare:auto", "-XX:TieredStopAtLevel=1", "-cp"]).arg(folder).arg("Visit").env("LC_ALL", "C");
    Ok(command)
}

/// What Go made of the few lines. It fetches nothing: neither modules nor another version of itself.
fn built(program: &Path, machine: &Machine, folder: &Path) -> Result<Command, String> {
    let source = folder.join("visit.go");
    crate::fs::write_scratch(&source, GO.as_bytes()).map_err(|e| format!("the program could not be written: {e}"))?;
    let to = folder.join(if cfg!(windows) { "visit.exe" } else { "visit" });
    let mut build = Command::new(program);
    build.args(["build", "-o"]).arg(&to).arg(&source).current_dir(folder);
    build.env("GO111MODULE", "off").env("GOTOOLCHAIN", "local").env("GOPROXY", "off").env("CGO_ENABLED", "0");
    // Its scratch files go where ours are: stopped, it would leave them.
    build.env_remove("GOFLAGS").env("GOTMPDIR", folder);
    // Anyone who builds with Go has a cache already, which saves half a minute; else none is left behind.
    let home = machine.home();
    let caches = [".cache/go-build", "Library/Caches/go-build", "AppData/Local/go-build"].map(|c| home.join(c));
    if machine.root().is_some() || (machine.env("GOCACHE").is_none() && !caches.iter().any(|c| c.exists())) {
        build.env("GOCACHE", folder.join("cache"));
    }
    let ended = process::run(build, b"", Duration::from_secs(120)).map_err(|e| format!("go did not start: {e}"))?;
    if ended.code != Some(0) {
        return Err(format!("go build: {}", tamga_core::vocabulary::text::harmless(ended.errors.as_received().trim())));
    }
    let mut command = Command::new(to);
    let named = |name: &str| machine.env(name).is_some();
    if machine.root().is_some() {
        // Under another root Go's own defaults are not this machine's.
        if !named("SSL_CERT_FILE") {
            command.env("SSL_CERT_FILE", machine.real(&system::bundle(machine)));
        }
        if !named("SSL_CERT_DIR") {
            command.env("SSL_CERT_DIR", machine.real(Path::new(system::LINKS)));
        }
    }
    Ok(command)
}
