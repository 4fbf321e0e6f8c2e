//! Runtimes that are asked by a few lines in their own language: Python and Node.js, with the person's variables.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::process;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::plan::ports::Commands;
use tamga_core::plan::ports::Environment;
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::Shown;

/// Says nothing and ends with 0 if the handshake stands, else prints its own words and ends with 1. In: address, port, host.
const PYTHON: &str = "\
import socket, ssl, sys
address, port, host = sys.argv[1:4]
try:
    with socket.create_connection((address, int(port)), 15) as s:
        ssl.create_default_context().wrap_socket(s, server_hostname=host)
except ssl.SSLCertVerificationError as e:
    print('certificate verify failed: ' + e.verify_message)
    sys.exit(1)
except ssl.SSLError as e:
    print(e.reason or e)
    sys.exit(1)
";

const NODE: &str = "\
const [address, port, host] = process.argv.slice(1);
const ip = require('net').isIP(host);
const socket = require('tls').connect({ host: address, port: Number(port), servername: ip ? '' : host,
  checkServerIdentity: (_, certificate) => require('tls').checkServerIdentity(host, certificate) });
socket.setTimeout(15000, () => process.exit(2));
socket.on('secureConnect', () => process.exit(0));
socket.on('error', (e) => { console.log(e.code); process.exit(1); });
";

/// A runtime.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Runtime {
    /// Python's ssl module.
    Python,
    /// Node.js.
    Node,
}

impl Runtime {
    /// Where it is.
    pub fn program(self, machine: &Machine) -> Option<PathBuf> {
        machine.program(match self {
            Runtime::Python => "python3",
            Runtime::Node => "node",
        })
    }

    /// One visit.
    pub fn visit(self, program: &Path, machine: &Machine, visit: &Visit) -> Observed {
        let mut command = Command::new(program);
        match self {
            Runtime::Python => command.args(["-I", "-c", PYTHON]),
            Runtime::Node => command.args(["-e", NODE]),
        };
        command.args([visit.address.ip().to_string(), visit.address.port().to_string(), visit.host.to_string()]);
        let named = ["SSL_CERT_FILE", "SSL_CERT_DIR"].iter().any(|v| machine.env(v).is_some());
        if self == Runtime::Python && machine.root().is_some() && !named {
            // Under another root OpenSSL's own defaults are not this machine's.
            command.env("SSL_CERT_FILE", machine.real(&system::bundle(machine)));
            command.env("SSL_CERT_DIR", machine.real(Path::new(system::LINKS)));
        }
        // A switch that looks away is reported by the prediction: here the stores are asked.
        command.env_remove("NODE_TLS_REJECT_UNAUTHORIZED").env_remove("NODE_OPTIONS").env("LC_ALL", "C");
        let ended = match process::run(command, b"", Duration::from_secs(25)) {
            Ok(ended) => ended,
            Err(e) => return failed(format!("{} did not start: {e}", program.shown())),
        };
        let said = tamga_core::vocabulary::text::harmless(String::from_utf8_lossy(&ended.output).trim());
        match ended.code {
            Some(0) => Observed::accepts(said),
            Some(1) if !said.is_empty() => Observed::refuses(said.clone(), said),
            Some(n) => failed(format!(
                "it ended with {n}: {}",
                tamga_core::vocabulary::text::harmless(ended.errors.as_received().trim())
            )),
            None => failed("it did not end within 25 seconds"),
        }
    }
}
