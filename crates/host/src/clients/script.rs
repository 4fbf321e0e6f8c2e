//! Runtimes that are asked by a few lines in their own language: Python, Node.js, Bun, gRPC through Python, with the person's variables.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::{process, scratch};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::plan::ports::{Commands, Environment, Files};
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::Shown;

/// Says nothing and ends with 0 if the handshake stands and the server takes it, else prints its own words and ends with 1. In: address,
/// port, host. A server of TLS 1.3 says only after the handshake that it wants a client certificate, so a request is made; what else the
/// server makes of the request says nothing about certificates.
const PYTHON: &str = "\
import socket, ssl, sys
address, port, host = sys.argv[1:4]
shaken = False
try:
    with socket.create_connection((address, int(port)), 15) as s:
        with ssl.create_default_context().wrap_socket(s, server_hostname=host) as t:
            shaken = True
            t.settimeout(2)
            t.sendall(b'GET / HTTP/1.1\\r\\nHost: ' + host.encode() + b'\\r\\nConnection: close\\r\\n\\r\\n')
            t.recv(1)
except ssl.SSLCertVerificationError as e:
    print('certificate verify failed: ' + e.verify_message)
    sys.exit(1)
except ssl.SSLError as e:
    if not shaken or 'ALERT' in (e.reason or ''):
        print(e.reason or e)
        sys.exit(1)
except OSError:
    if not shaken:
        raise
";

/// For Node.js, which takes it as an argument, and for Bun, which wants a file.
const NODE: &str = "\
const [address, port, host] = process.argv.slice(-3);
const ip = require('net').isIP(host);
let shaken = false;
const socket = require('tls').connect({ host: address, port: Number(port), servername: ip ? '' : host,
  checkServerIdentity: (_, certificate) => require('tls').checkServerIdentity(host, certificate) });
socket.setTimeout(15000, () => process.exit(2));
socket.on('secureConnect', () => {
  shaken = true;
  socket.setTimeout(2000, () => process.exit(0));
  socket.write('GET / HTTP/1.1\\r\\nHost: ' + host + '\\r\\nConnection: close\\r\\n\\r\\n');
});
for (const done of ['data', 'end', 'close']) socket.on(done, () => process.exit(shaken ? 0 : 2));
socket.on('error', (e) => {
  if (shaken && !String(e.code).includes('ALERT')) process.exit(0);
  console.log(e.code);
  process.exit(1);
});
";

/// A server that speaks no HTTP/2 ends the connection after its certificate was taken.
const GRPC: &str = "\
import grpc, sys
address, port, host = sys.argv[1:4]
where = f'[{address}]:{port}' if ':' in address else f'{address}:{port}'
options = [('grpc.ssl_target_name_override', host), ('grpc.enable_retries', 0), ('grpc.enable_http_proxy', 0)]
try:
    grpc.secure_channel(where, grpc.ssl_channel_credentials(), options).unary_unary('/tamga/check')(b'', timeout=15)
except grpc.RpcError as e:
    words = e.details() or ''
    if 'is not in peer certificate' in words or 'Hostname Verification Check failed' in words:
        print('Hostname Verification Check failed')
        sys.exit(1)
    if 'handshake failed' in words and 'ALPN' not in words:
        parts = words.rsplit('OPENSSL_internal:', 1)[-1].removesuffix(': OK').split(': ')
        print(parts[0] if parts[-1] == 'Invalid certificate verification context' else parts[-1])
        sys.exit(1)
    if 'Connection refused' in words:
        sys.exit(2)
";

/// A runtime.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Runtime {
    /// Python's ssl module.
    Python,
    /// Node.js.
    Node,
    /// Bun.
    Bun,
    /// gRPC's core, through Python.
    Grpc,
}

impl Runtime {
    /// Where it is.
    pub fn program(self, machine: &Machine) -> Option<PathBuf> {
        match self {
            Runtime::Python => machine.program("python3"),
            Runtime::Node => machine.program("node"),
            Runtime::Bun => machine.program("bun"),
            Runtime::Grpc => machine.program("python3").filter(|python| has_grpc(machine, python)),
        }
    }

    /// One visit.
    pub fn visit(self, program: &Path, machine: &Machine, visit: &Visit) -> Observed {
        let mut command = Command::new(program);
        let mut written = None;
        match self {
            Runtime::Python => command.args(["-I", "-c", PYTHON]),
            Runtime::Node => command.args(["-e", NODE]),
            Runtime::Grpc => command.args(["-I", "-c", GRPC]),
            Runtime::Bun => {
                let script = match scratch::directory("tamga-visit-") {
                    Ok(script) => script,
                    Err(e) => return failed(format!("no temporary directory: {e}")),
                };
                let file = script.path().join("visit.js");
                if let Err(e) = crate::fs::write_scratch(&file, NODE.as_bytes()) {
                    return failed(format!("the script could not be written: {e}"));
                }
                written = Some(script);
                command.arg("run").arg(file)
            }
        };
        command.args([visit.address.ip().to_string(), visit.address.port().to_string(), visit.host.to_string()]);
        let named = ["SSL_CERT_FILE", "SSL_CERT_DIR"].iter().any(|v| machine.env(v).is_some());
        if self == Runtime::Python && machine.root().is_some() && !named {
            // Under another root OpenSSL's own defaults are not this machine's.
            command.env("SSL_CERT_FILE", machine.real(&system::bundle(machine)));
            command.env("SSL_CERT_DIR", machine.real(Path::new(system::LINKS)));
        }
        let roots = "GRPC_DEFAULT_SSL_ROOTS_FILE_PATH";
        if self == Runtime::Grpc && machine.root().is_some() && machine.env(roots).is_none() {
            command.env(roots, machine.real(&system::bundle(machine)));
        }
        if self == Runtime::Bun && machine.root().is_some() && !named {
            command.env("SSL_CERT_FILE", machine.real(&system::bundle(machine)));
        }
        // A switch that looks away is reported by the prediction: here the stores are asked.
        command.env_remove("NODE_TLS_REJECT_UNAUTHORIZED").env_remove("NODE_OPTIONS").env("LC_ALL", "C");
        let ended = match process::run(command, b"", Duration::from_secs(25)) {
            Ok(ended) => ended,
            Err(e) => return failed(format!("{} did not start: {e}", program.shown())),
        };
        drop(written);
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

/// True if this Python brings gRPC's own build: asked of the directories in which it looks for packages, since starting it takes longer than
/// a check. Debian's package is built with OpenSSL, and judges as Python does.
fn has_grpc(machine: &Machine, python: &Path) -> bool {
    const DEBIAN: &str = "/usr/lib/python3/dist-packages";
    let mut libraries = vec![PathBuf::from("/usr/local/lib"), machine.home().join(".local/lib")];
    let prefix = python.parent().and_then(Path::parent);
    libraries.extend(prefix.map(|p| p.join("lib")));
    libraries.iter().any(|lib| {
        let versions = machine.list(lib).into_iter().filter(|n| n.starts_with("python3"));
        let folders = versions.flat_map(|v| ["site-packages", "dist-packages"].map(|p| lib.join(&v).join(p)));
        folders.filter(|f| f != Path::new(DEBIAN)).any(|f| machine.exists(&f.join("grpc/__init__.py")))
    })
}
