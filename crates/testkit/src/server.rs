//! Real servers, started for a test and stopped when dropped: always on loopback, on ports that were free.

use crate::sandbox::{COMPLETE, Ran, Sandbox};
use serde_json::Value;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// So long a server may take to start, or to write a line.
const PATIENCE: Duration = Duration::from_secs(40);

/// A running server.
pub struct Server {
    child: Child,
    log: PathBuf,
}

impl Server {
    /// Starts it; what it writes goes into a file.
    pub fn start(mut command: Command, log: &Path) -> Server {
        let file = std::fs::OpenOptions::new().create(true).append(true).open(log).unwrap();
        command.stdout(file.try_clone().unwrap()).stderr(file).stdin(Stdio::null());
        Server { child: command.spawn().unwrap(), log: log.to_owned() }
    }

    /// Its process.
    pub fn pid(&self) -> i32 {
        i32::try_from(self.child.id()).unwrap()
    }

    /// Sends it a signal.
    pub fn signal(&self, signal: nix::sys::signal::Signal) {
        nix::sys::signal::kill(nix::unistd::Pid::from_raw(self.pid()), signal).unwrap();
    }

    /// What it wrote so far.
    pub fn said(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap_or_default()
    }

    /// Waits until it, or a file of its own, says something; `…` stands for anything between.
    #[track_caller]
    pub fn waits_for(&self, log: &Path, text: &str) {
        let reply = || {
            let all = std::fs::read_to_string(log).unwrap_or_default();
            all.lines().any(|line| {
                let mut rest = line;
                text.split('…').map(str::trim).all(|piece| match rest.find(piece) {
                    Some(at) => {
                        rest = &rest[at + piece.len()..];
                        true
                    }
                    None => false,
                })
            })
        };
        let since = Instant::now();
        while !reply() {
            assert!(
                since.elapsed() < PATIENCE,
                "{text:?} never stood in {}:\n{}",
                log.display(),
                std::fs::read_to_string(log).unwrap_or_default()
            );
            std::thread::sleep(Duration::from_millis(50));
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        // A server with children ends them itself when it is asked to; killed, it could not.
        let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(self.pid()), nix::sys::signal::Signal::SIGTERM);
        let since = Instant::now();
        while since.elapsed() < Duration::from_secs(10) {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A port of loopback that is free, for a server that cannot say which one the system chose for it. It lies below those that the
/// system gives away by itself: between here and the server's start nobody else gets it.
pub fn free_port() -> u16 {
    static NEXT: std::sync::atomic::AtomicU32 = std::sync::atomic::AtomicU32::new(0);
    let begin = std::process::id().wrapping_mul(97);
    loop {
        let n = begin.wrapping_add(NEXT.fetch_add(1, std::sync::atomic::Ordering::Relaxed));
        let port = 20_000 + u16::try_from(n % 12_000).unwrap();
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A port of loopback at which nobody listens, and which nobody else gets while this value is kept: its socket is bound and does
/// not listen, so a connection is refused. A port that was only asked for and given back is soon another test's server.
pub struct ClosedPort(socket2::Socket);

impl ClosedPort {
    /// One that the system chooses.
    pub fn new() -> ClosedPort {
        let socket = socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        socket.bind(&std::net::SocketAddr::from(([127, 0, 0, 1], 0)).into()).unwrap();
        ClosedPort(socket)
    }

    /// Its number.
    pub fn number(&self) -> u16 {
        self.0.local_addr().unwrap().as_socket().unwrap().port()
    }
}

impl Default for ClosedPort {
    fn default() -> ClosedPort {
        ClosedPort::new()
    }
}

/// True with root's rights; else the test is skipped, visibly, or fails where nothing may be skipped.
pub fn is_root() -> bool {
    if nix::unistd::geteuid().is_root() {
        return true;
    }
    assert!(std::env::var_os(COMPLETE).is_none(), "root's rights are needed here");
    eprintln!("SKIPPED: needs root's rights for another account");
    false
}

/// A command as another account of this machine.
pub fn as_account(account: &str, program: &Path) -> Command {
    let mut c = Command::new("setpriv");
    c.args(["--reuid", account, "--regid", account, "--init-groups", "--"]).arg(program);
    c
}

/// A recipe of the program under test, filled in.
pub struct Recipe(pub Value);

impl Recipe {
    /// Asks for it.
    #[track_caller]
    pub fn of(s: &Sandbox, words: &[&str]) -> Recipe {
        let words = [&["recipe"], words].concat();
        Recipe(s.json(&words).expect(0).json()["recipe"].clone())
    }

    /// Types what brings the files to where the server reads them.
    #[track_caller]
    pub fn bring(&self, s: &Sandbox) {
        for work in self.0["files"].as_array().unwrap() {
            let lines: Vec<&str> = work["lines"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
            // The first kind of work only says where the files stay.
            if lines.len() > 1 || lines[0].contains(' ') {
                type_in(s, &lines).expect(0);
            }
        }
    }

    /// Types what is to be done after a renewal, but for the reload itself.
    #[track_caller]
    pub fn bring_again(&self, s: &Sandbox) {
        let all: Vec<&str> = self.0["renewal"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
        let files: Vec<&str> =
            all.iter().copied().filter(|l| l.starts_with("install ") || l.starts_with("tamga export ")).collect();
        assert!(!all.is_empty());
        type_in(s, &files).expect(0);
    }

    /// The lines that are to are in its log.
    pub fn proof(&self) -> Vec<String> {
        let steps = self.0["steps"].as_array().unwrap();
        let reply =
            steps.iter().find(|w| w["what"].as_str().unwrap().starts_with("success looks like this in")).unwrap();
        reply["lines"].as_array().unwrap().iter().map(|l| l.as_str().unwrap().to_owned()).collect()
    }
}

/// Types lines into a shell in the sandbox.
pub fn type_in(s: &Sandbox, lines: &[&str]) -> Ran {
    let mut shell = s.around("sh");
    shell.arg("-ec").arg(lines.join("\n"));
    shell.output().unwrap().into()
}
