//! Runtimes that are asked by a few lines in their own language, with the person's variables: Python, Node.js, Bun, Deno, Ruby, PHP, and
//! gRPC through Python.

use super::{Observed, Visit, failed};
use crate::places::Machine;
use crate::{process, scratch};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;
use tamga_core::check::client::printed;
use tamga_core::plan::ports::{Environment, Files};
use tamga_core::stores::trust::system;
use tamga_core::vocabulary::text::{Shown, harmless};

/// All of these take address, port and host, again and again, and print a line for each: "+", or "-" and the client's own words, or "!" and
/// why nothing was found out. A server of TLS 1.3 says only after the handshake that it wants a client certificate, so a request is made;
/// what else the server makes of the request says nothing about certificates.
const PYTHON: &str = "\
import socket, ssl, sys
def one(address, port, host):
    shaken = False
    try:
        with socket.create_connection((address, int(port)), 15) as s:
            with ssl.create_default_context().wrap_socket(s, server_hostname=host) as t:
                shaken = True
                t.settimeout(2)
                t.sendall(b'GET / HTTP/1.1\\r\\nHost: ' + host.encode() + b'\\r\\nConnection: close\\r\\n\\r\\n')
                t.recv(1)
    except ssl.SSLCertVerificationError as e:
        return '-certificate verify failed: ' + e.verify_message
    except ssl.SSLError as e:
        if not shaken or 'ALERT' in (e.reason or ''):
            return '-' + str(e.reason or e)
    except (OSError, ValueError) as e:
        if not shaken:
            return '!' + str(e)
    return '+'
a = sys.argv[1:]
for i in range(0, len(a) - 2, 3):
    print(' '.join(one(*a[i:i + 3]).split()), flush=True)
";

/// For Node.js, which takes it as an argument, and for Bun, which wants a file.
const NODE: &str = "\
const all = process.argv.slice(process.argv.indexOf('visits') + 1);
const one = (address, port, host) => new Promise((done) => {
  const ip = require('net').isIP(host);
  let shaken = false;
  const socket = require('tls').connect({ host: address, port: Number(port), servername: ip ? '' : host,
    checkServerIdentity: (_, certificate) => require('tls').checkServerIdentity(host, certificate) });
  const answer = (said) => { socket.destroy(); done(said); };
  socket.setTimeout(15000, () => answer('!no answer within 15 seconds'));
  socket.on('secureConnect', () => {
    shaken = true;
    socket.setTimeout(2000, () => answer('+'));
    socket.write('GET / HTTP/1.1\\r\\nHost: ' + host + '\\r\\nConnection: close\\r\\n\\r\\n');
  });
  for (const over of ['data', 'end', 'close']) socket.on(over, () => answer(shaken ? '+' : '!the connection was closed'));
  socket.on('error', (e) => answer(shaken && !String(e.code).includes('ALERT') ? '+' : '-' + e.code));
});
(async () => {
  for (let i = 0; i + 2 < all.length; i += 3) console.log(await one(...all.slice(i, i + 3)));
  process.exit(0);
})();
";

/// A server that speaks no HTTP/2 ends the connection after its certificate was taken.
const GRPC: &str = "\
import grpc, sys
def one(address, port, host):
    where = f'[{address}]:{port}' if ':' in address else f'{address}:{port}'
    options = [('grpc.ssl_target_name_override', host), ('grpc.enable_retries', 0), ('grpc.enable_http_proxy', 0),
               ('grpc.use_local_subchannel_pool', 1)]
    try:
        with grpc.secure_channel(where, grpc.ssl_channel_credentials(), options) as channel:
            channel.unary_unary('/tamga/check')(b'', timeout=15)
    except grpc.RpcError as e:
        words = e.details() or ''
        if 'is not in peer certificate' in words or 'Hostname Verification Check failed' in words:
            return '-Hostname Verification Check failed'
        if 'security handshaker' in words:
            return '-Failed to create security handshaker'
        if 'Unwrap failed' in words:
            return '-Unwrap failed'
        if 'handshake failed' in words and 'ALPN' not in words:
            parts = words.rsplit('OPENSSL_internal:', 1)[-1].removesuffix(': OK').split(': ')
            return '-' + (parts[0] if parts[-1] == 'Invalid certificate verification context' else parts[-1])
        if 'Connection refused' in words:
            return '!' + words
    return '+'
a = sys.argv[1:]
for i in range(0, len(a) - 2, 3):
    print(' '.join(one(*a[i:i + 3]).split()), flush=True)
";

/// Net::HTTP leads a name to an address by itself.
const RUBY: &str = "\
require 'net/http'
require 'openssl'
ARGV.each_slice(3) do |address, port, host|
  http = Net::HTTP.new(host, port.to_i, nil)
  http.use_ssl = true
  http.ipaddr = address
  http.open_timeout = 15
  http.read_timeout = 2
  shaken = false
  said = begin
    http.start { shaken = true; http.request(Net::HTTP::Get.new('/')) }
    '+'
  rescue OpenSSL::SSL::SSLError => e
    shaken && !e.message.include?('alert') ? '+' : '-' + e.message
  rescue NoMethodError, OpenSSL::ASN1::ASN1Error => e
    '-' + e.class.name
  rescue StandardError => e
    shaken ? '+' : '!' + e.message
  end
  puts said.split.join(' ')
  $stdout.flush
end
";

/// Streams; what is wrong comes as warnings.
const PHP: &str = "\
for ($i = 1; $i + 2 < $argc; $i += 3) {
  [$address, $port, $host] = array_slice($argv, $i, 3);
  $said = [];
  set_error_handler(function ($number, $words) use (&$said) { $said[] = $words; return true; });
  $context = stream_context_create(['ssl' => ['peer_name' => $host, 'SNI_enabled' => true]]);
  $at = strpos($address, ':') === false ? $address : '[' . $address . ']';
  $plain = stream_socket_client(\"tcp://$at:$port\", $n, $why, 15, STREAM_CLIENT_CONNECT, $context);
  if (!$plain) { echo '!', $why, PHP_EOL; continue; }
  $said = [];
  stream_set_timeout($plain, 15);
  $good = stream_socket_enable_crypto($plain, true, STREAM_CRYPTO_METHOD_TLS_CLIENT);
  if ($good) {
    $said = [];
    stream_set_timeout($plain, 2);
    fwrite($plain, \"GET / HTTP/1.1\\r\\nHost: $host\\r\\nConnection: close\\r\\n\\r\\n\");
    fread($plain, 1);
  }
  $words = implode(chr(31), array_map(fn($w) => strtr($w, chr(10), chr(31)), $said));
  $late = $good && strpos($words, 'alert') === false;
  echo $late ? '+' : '-' . $words, PHP_EOL;
}
";

/// Nothing is read or written but the connection.
const DENO: &str = "\
const all = Deno.args;
for (let i = 0; i + 2 < all.length; i += 3) {
  const [address, port, host] = all.slice(i, i + 3);
  let said = '+', shaken = false;
  try {
    const plain = await Deno.connect({ hostname: address, port: Number(port) });
    const tls = await Deno.startTls(plain, { hostname: host });
    const late = setTimeout(() => { try { tls.close(); } catch (_) { /* closed */ } }, 15000);
    try {
      await tls.handshake();
      shaken = true;
      await tls.write(new TextEncoder().encode('GET / HTTP/1.1\\r\\nHost: ' + host + '\\r\\nConnection: close\\r\\n\\r\\n'));
      await tls.read(new Uint8Array(1));
    } finally {
      clearTimeout(late);
    }
    try { tls.close(); } catch (_) { /* closed */ }
  } catch (e) {
    const words = String(e.message);
    if (!shaken || words.includes('alert')) said = (e instanceof Deno.errors.ConnectionRefused ? '!' : '-') + words;
  }
  console.log(said.replace(/\\s+/g, ' '));
}
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
    /// Ruby's Net::HTTP.
    Ruby,
    /// PHP's streams.
    Php,
    /// Deno.
    Deno,
}

impl Runtime {
    /// All visits with one process, in order.
    pub fn visits(self, program: &Path, machine: &Machine, visits: &[Visit]) -> Vec<Observed> {
        let all_failed = |why: String| visits.iter().map(|_| failed(why.clone())).collect();
        let mut command = Command::new(program);
        let mut written = None;
        match self {
            Runtime::Python => command.args(["-I", "-c", PYTHON]),
            Runtime::Node => command.args(["-e", NODE, "visits"]),
            Runtime::Grpc => command.args(["-I", "-c", GRPC]),
            Runtime::Ruby => command.args(["-e", RUBY, "--"]),
            Runtime::Php => command.args(["-d", "auto_prepend_file=", "-d", "display_errors=0", "-r", PHP, "--"]),
            Runtime::Bun | Runtime::Deno => match scratch::directory("tamga-visit-") {
                Ok(script) => {
                    let file = script.path().join("visit.js");
                    let text = if self == Runtime::Deno { DENO } else { NODE };
                    if let Err(e) = crate::fs::write_scratch(&file, text.as_bytes()) {
                        return all_failed(format!("the script could not be written: {e}"));
                    }
                    let home = script.path().to_owned();
                    written = Some(script);
                    match self {
                        Runtime::Bun => command.arg("run").arg(file).arg("visits"),
                        // Its cache goes where its script is.
                        _ => command
                            .args([
                                "run",
                                "--no-check",
                                "--no-lock",
                                "--no-config",
                                "--quiet",
                                "--no-prompt",
                                "--allow-net",
                            ])
                            .arg(file)
                            .env("DENO_DIR", home)
                            .env("DENO_NO_UPDATE_CHECK", "1"),
                    }
                }
                Err(e) => return all_failed(format!("no temporary directory: {e}")),
            },
        };
        for v in visits {
            command.args([v.address.ip().to_string(), v.address.port().to_string(), v.host.to_string()]);
        }
        self.under_another_root(&mut command, machine);
        // A switch that looks away is reported by the prediction: here the stores are asked.
        command.env_remove("NODE_TLS_REJECT_UNAUTHORIZED").env_remove("NODE_OPTIONS").env("LC_ALL", "C");
        let said = lines(self, program, command, visits.len());
        drop(written);
        match said {
            Ok(all) => all,
            Err(why) => all_failed(why),
        }
    }

    /// Under another root the libraries' own defaults are not this machine's.
    fn under_another_root(self, command: &mut Command, machine: &Machine) {
        if machine.root().is_none() {
            return;
        }
        let bundle = machine.real(&system::bundle(machine));
        let named = ["SSL_CERT_FILE", "SSL_CERT_DIR"].iter().any(|v| machine.env(v).is_some());
        let roots = "GRPC_DEFAULT_SSL_ROOTS_FILE_PATH";
        match self {
            Runtime::Python | Runtime::Ruby | Runtime::Php if !named => {
                command.env("SSL_CERT_FILE", bundle).env("SSL_CERT_DIR", machine.real(Path::new(system::LINKS)))
            }
            Runtime::Bun if !named => command.env("SSL_CERT_FILE", bundle),
            Runtime::Grpc if machine.env(roots).is_none() => command.env(roots, bundle),
            _ => command,
        };
    }
}

/// What a program says of so many visits, a line each.
///
/// Errors: it did not start. Visits of which it says nothing have failed.
fn lines(runtime: Runtime, program: &Path, command: Command, count: usize) -> Result<Vec<Observed>, String> {
    let limit = Duration::from_secs(25 + 4 * count as u64);
    let ended = process::run(command, b"", limit).map_err(|e| format!("{} did not start: {e}", program.shown()))?;
    let said = String::from_utf8_lossy(&ended.output).into_owned();
    let why = match ended.code {
        Some(n) => format!("it ended with {n}: {}", harmless(ended.errors.as_received().trim())),
        None => format!("it did not end within {} seconds", limit.as_secs()),
    };
    let mut said = said.lines();
    Ok((0..count).map(|_| said.next().map_or_else(|| failed(why.clone()), |line| heard(runtime, line))).collect())
}

fn heard(runtime: Runtime, line: &str) -> Observed {
    let text = line.get(1..).unwrap_or_default().trim();
    let words = harmless(text);
    let code = match runtime {
        Runtime::Ruby => harmless(&printed::ruby(text)),
        // Its lines come with another character between them.
        Runtime::Php => harmless(&printed::php(&text.replace('\u{1f}', "\n"))),
        Runtime::Deno => harmless(&printed::deno(text)),
        _ => words.clone(),
    };
    match line.chars().next() {
        Some('+') => Observed::accepts(words),
        Some('-') if !words.is_empty() => Observed::refuses(code, words),
        _ => failed(words),
    }
}

/// True if this Python brings gRPC's own build: asked of the directories in which it looks for packages, since starting it takes longer than
/// a check. Debian's package is built with OpenSSL, and judges as Python does.
pub(super) fn has_grpc(machine: &Machine, python: &Path) -> bool {
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
