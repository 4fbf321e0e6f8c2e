//! curl, with the person's variables and without its settings file.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::process;
use std::path::Path;
use std::process::Command;
use std::time::Duration;
use tamga_core::plan::ports::Environment;
use tamga_core::stores::trust::system;

/// One visit. Only the verdict on the certificate counts: what the server says afterwards does not.
pub fn visit(program: &Path, machine: &Machine, visit: &Visit) -> Observed {
    let mut command = Command::new(program);
    // -q must come first. The settings file is looked at by the prediction, which reports what it switches off.
    command.args(["-q", "--silent", "--show-error", "--noproxy", "*", "--max-time", "15"]);
    command.args(["--output", "/dev/null", "--write-out", "%{time_appconnect}"]);
    let (host, port) = (visit.host.to_string(), visit.address.port());
    if visit.host.to_string() != visit.address.ip().to_string() {
        let address = match visit.address.ip() {
            std::net::IpAddr::V6(a) => format!("[{a}]"),
            a => a.to_string(),
        };
        command.args(["--resolve", &format!("{host}:{port}:{address}")]);
    }
    let named = ["CURL_CA_BUNDLE", "SSL_CERT_FILE", "SSL_CERT_DIR"].iter().any(|v| machine.env(v).is_some());
    if machine.root().is_some() && !named {
        // Under another root curl's own defaults are not this machine's: they are given as options. With a variable
        // set they are not, since an option for one half makes curl forget the variable for the other.
        let file = machine.real(Path::new(system::BUNDLE));
        command.arg("--capath").arg(machine.real(Path::new(system::LINKS)));
        if std::fs::metadata(&file).is_ok_and(|m| m.len() > 0) {
            command.arg("--cacert").arg(file);
        }
    }
    command.arg(visit.url()).env("LC_ALL", "C");
    let ended = match process::run(command, b"", Duration::from_secs(20)) {
        Ok(ended) => ended,
        Err(e) => return failed(format!("curl did not start: {e}")),
    };
    let raw = tamga_core::vocabulary::text::harmless(ended.errors.as_received().trim());
    let shaken = String::from_utf8_lossy(&ended.output).trim().parse::<f64>().is_ok_and(|t| t > 0.0);
    match ended.code {
        Some(0) => Observed::accepts(raw),
        // 35, 51, 58, 60, 77: TLS and certificates. Everything later than the handshake is not about the certificate.
        Some(n) if shaken && !matches!(n, 35 | 51 | 60) => Observed::accepts(raw),
        Some(_) => {
            let line = ended
                .errors
                .as_received()
                .lines()
                .find_map(|l| l.strip_prefix("curl: "))
                .unwrap_or("it failed without a word");
            let code = tamga_core::check::client::curl::said(&tamga_core::vocabulary::text::harmless(line));
            Observed::refuses(code, raw)
        }
        None => failed("curl did not end within 20 seconds"),
    }
}
