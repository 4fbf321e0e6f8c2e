//! git over HTTPS, with the person's variables and without their settings.

use super::{Observed, Visit, by_words, failed};
use crate::places::Machine;
use crate::process;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::check::client::printed;
use tamga_core::plan::ports::Environment;
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::{Shown, harmless};

const LIMIT: Duration = Duration::from_secs(25);
/// What it says of a server whose certificate it took.
const TAKEN: [&str; 6] = [
    "is this a git repository",
    "not found",
    "The requested URL returned error",
    "Authentication failed",
    "could not read Username",
    "Empty reply from server",
];
/// What it says of one whose certificate it did not take, or to which it could not speak TLS.
const REFUSED: [&str; 5] = [
    "server cert",
    "SSL: certificate",
    "gnutls_handshake() failed",
    "GnuTLS recv error",
    "Problem with the SSL CA cert",
];

/// One visit. Only the verdict on the certificate counts: hardly any server has a repository there.
pub fn visit(program: &Path, machine: &Machine, visit: &Visit) -> Observed {
    let mut command = Command::new(program);
    let (host, address, port) = (visit.host.to_string(), visit.address.ip(), visit.address.port());
    if host != address.to_string() {
        let to = if address.is_ipv6() { format!("[{address}]") } else { address.to_string() };
        command.args(["-c", &format!("http.curloptResolve={host}:{port}:{to}")]);
    }
    command.args(["-c", "http.proxy=", "-c", "credential.helper=", "-c", "http.followRedirects=false"]);
    if machine.root().is_some() && machine.env("GIT_SSL_CAINFO").is_none() {
        // Under another root its own defaults are not this machine's.
        let bundle = machine.real(&system::bundle(machine));
        // A file that is not there would be another answer.
        let there = std::fs::metadata(&bundle).is_ok_and(|m| m.len() > 0);
        let bundle = if there { bundle } else { PathBuf::from("/dev/null") };
        let links = machine.real(Path::new(system::LINKS));
        command.args(["-c", &format!("http.sslCAInfo={}", bundle.shown())]);
        command.args(["-c", &format!("http.sslCAPath={}", links.shown())]);
    }
    command.args(["ls-remote", &visit.url()]);
    command.env("GIT_CONFIG_NOSYSTEM", "1").env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_TERMINAL_PROMPT", "0");
    // A switch that looks away is reported by the prediction: here the stores are asked.
    for name in ["GIT_SSL_NO_VERIFY", "GIT_DIR", "https_proxy", "HTTPS_PROXY", "all_proxy", "ALL_PROXY"] {
        command.env_remove(name);
    }
    command.env("LC_ALL", "C").current_dir("/");
    match process::run(command, b"", LIMIT) {
        Ok(ended) => {
            let words = harmless(&printed::git(ended.errors.as_received()));
            by_words(&ended, words, &TAKEN, &REFUSED, LIMIT)
        }
        Err(e) => failed(format!("git did not start: {e}")),
    }
}
