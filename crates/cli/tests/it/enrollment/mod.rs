//! The enrollment service and its client, with the programs that people use: web servers, a messaging server, Go's library, browsers, and a
//! service that somebody else wrote.

mod apache;
mod bind;
mod caddy;
mod ejabberd;
mod go;
mod kills;
mod lab;
mod manage;
mod other;
mod own;
mod publish;
mod raw;

use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tamga_testkit::sandbox::Sandbox;
use tamga_testkit::server::free_port;

/// A running service; it is killed when dropped.
pub(super) struct Service {
    child: Child,
    /// What clients are given.
    pub(super) directory: String,
    /// The port of its listener.
    pub(super) port: u16,
    /// Where it publishes.
    pub(super) published: Option<String>,
    /// The port for http-01.
    pub(super) http: u16,
    /// The port for tls-alpn-01.
    pub(super) tls: u16,
    lines: Arc<Mutex<Vec<Value>>>,
}

impl Service {
    /// Starts it on loopback, with names of the lab that lead there.
    pub(super) fn start(s: &Sandbox, more: &[&str]) -> Service {
        Service::start_at(s, "127.0.0.1:0", free_port(), free_port(), more)
    }

    /// The same on a port that is given: a second start after a kill.
    pub(super) fn start_at(s: &Sandbox, listen: &str, http: u16, tls: u16, more: &[&str]) -> Service {
        Service::start_with(s, listen, http, tls, more, &[])
    }

    /// The same with variables of its environment.
    pub(super) fn start_with(
        s: &Sandbox,
        listen: &str,
        http: u16,
        tls: u16,
        more: &[&str],
        variables: &[(&str, String)],
    ) -> Service {
        let (h, t) = (http.to_string(), tls.to_string());
        let mut words = vec!["enrollment", "serve", "saltmarsh", "--listen", listen, "--name", "localhost"];
        words.extend(["--http-01-port", &h, "--tls-alpn-01-port", &t, "--format", "lines"]);
        for name in ["charts", "archive", "gauge-7"] {
            words.push("--resolve");
            words.push(match name {
                "charts" => "charts.saltmarsh.test=127.0.0.1",
                "archive" => "archive.saltmarsh.test=127.0.0.1",
                _ => "gauge-7.saltmarsh.test=127.0.0.1",
            });
        }
        words.extend(more);
        let mut command = s.command(&words);
        command.envs(variables.iter().map(|(name, value)| (name, value)));
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let mut out = BufReader::new(child.stdout.take().unwrap());
        let mut first = String::new();
        out.read_line(&mut first).unwrap();
        let said: Value = serde_json::from_str(&first).unwrap_or_else(|_| {
            let mut why = String::new();
            std::io::Read::read_to_string(&mut child.stderr.take().unwrap(), &mut why).unwrap();
            panic!("the service did not start: {first}{why}")
        });
        assert!(said["directory"].is_string(), "{said}");
        let lines: Arc<Mutex<Vec<Value>>> = Arc::default();
        let kept = lines.clone();
        std::thread::spawn(move || {
            for line in out.lines().map_while(Result::ok) {
                kept.lock().unwrap().push(serde_json::from_str(&line).unwrap());
            }
        });
        let listen = said["listen"].as_str().unwrap();
        Service {
            directory: said["directory"].as_str().unwrap().to_owned(),
            port: listen.rsplit(':').next().unwrap().parse().unwrap(),
            published: said["publish"].as_str().map(|p| format!("http://{p}")),
            http,
            tls,
            child,
            lines,
        }
    }

    /// What it decided, of one kind.
    pub(super) fn said(&self, event: &str) -> Vec<Value> {
        self.lines.lock().unwrap().iter().filter(|l| l["event"] == event).cloned().collect()
    }

    /// Waits until it has decided so often.
    pub(super) fn waits_for(&self, event: &str, times: usize) {
        until(
            &format!("{times} of {event}"),
            || self.said(event).len() >= times,
            || format!("{:?}", self.lines.lock().unwrap()),
        );
    }

    /// True if it is not there any more.
    pub(super) fn is_over(&self) -> bool {
        // Its end may be a moment behind what a client saw of it.
        std::thread::sleep(Duration::from_millis(100));
        let pid = nix::unistd::Pid::from_raw(i32::try_from(self.child.id()).unwrap());
        let flags = nix::sys::wait::WaitPidFlag::WNOHANG
            | nix::sys::wait::WaitPidFlag::WNOWAIT
            | nix::sys::wait::WaitPidFlag::WEXITED;
        !matches!(
            nix::sys::wait::waitid(nix::sys::wait::Id::Pid(pid), flags),
            Ok(nix::sys::wait::WaitStatus::StillAlive)
        )
    }

    /// Ends it at once, whatever it is doing.
    pub(super) fn kill(mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }

    /// Ends it as a service manager does; its exit code.
    pub(super) fn stop(mut self) -> i32 {
        let pid = nix::unistd::Pid::from_raw(i32::try_from(self.child.id()).unwrap());
        nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM).unwrap();
        self.child.wait().unwrap().code().unwrap_or(-1)
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Waits for something, a minute at most.
pub(super) fn until(what: &str, is_so: impl Fn() -> bool, otherwise: impl Fn() -> String) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what} did not come: {}", otherwise());
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// The root that clients are given.
pub(super) fn root(s: &Sandbox) -> PathBuf {
    s.path("data/authorities/saltmarsh/certificate.pem")
}

/// A foreign program; it is ended with all that it started when dropped.
pub(super) struct Running(Child);

impl Running {
    pub(super) fn start(command: &mut Command) -> Running {
        use std::os::unix::process::CommandExt;
        // A group of its own: some start others and leave.
        Running(command.process_group(0).stdin(Stdio::null()).spawn().unwrap())
    }

    pub(super) fn signal(&self, signal: nix::sys::signal::Signal) {
        let pid = nix::unistd::Pid::from_raw(i32::try_from(self.0.id()).unwrap());
        nix::sys::signal::kill(pid, signal).unwrap();
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        let group = nix::unistd::Pid::from_raw(-i32::try_from(self.0.id()).unwrap());
        let _ = nix::sys::signal::kill(group, nix::sys::signal::Signal::SIGKILL);
        let _ = self.0.wait();
    }
}

/// What curl gets of a host of the lab over HTTPS, with the lab's root and no other; empty if it refuses.
pub(super) fn curl(s: &Sandbox, host: &str, port: u16) -> String {
    let resolve = format!("{host}:{port}:127.0.0.1");
    let url = format!("https://{host}:{port}/");
    let got = s
        .around("curl")
        .args(["-sS", "--max-time", "10", "--resolve", &resolve, "-w", "%{http_code}", &url, "--cacert"])
        .arg(root(s))
        .output()
        .unwrap();
    if got.status.success() { String::from_utf8_lossy(&got.stdout).into_owned() } else { String::new() }
}

/// The system's Python with its cryptography library; else the test says that it is skipped, or fails where nothing may be skipped.
pub(super) fn python(s: &Sandbox) -> Option<Command> {
    let python = "/usr/bin/python3";
    if Command::new(python).args(["-c", "import cryptography"]).output().is_ok_and(|o| o.status.success()) {
        return Some(s.around(python));
    }
    assert!(
        std::env::var_os(tamga_testkit::sandbox::COMPLETE).is_none(),
        "python3-cryptography must be installed here"
    );
    eprintln!("SKIPPED: python3-cryptography is not installed");
    None
}
