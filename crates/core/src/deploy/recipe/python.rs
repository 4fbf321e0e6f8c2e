//! Python.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "python",
    also: &["python3", "flask"],
    title: "Python 3.8 and later, with its ssl module",
    facts: Facts { port: 8443, owner: "", passphrase: "from the environment (KEY_PASSPHRASE)", ..WEB },
    config: Config {
        path: "server.py",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"import functools
import http.server
import os
?redirect import re
import signal
import socket
import ssl
import threading

CERTIFICATE = "{certificate}"
KEY = "{key}"

context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.minimum_version = ssl.TLSVersion.TLSv1_{minor}
?clients context.load_verify_locations("{clients}")
?clients context.verify_mode = ssl.CERT_REQUIRED


def read_identity():
    context.load_cert_chain(CERTIFICATE, KEY, os.environ.get("KEY_PASSPHRASE"))
    print("certificate read", flush=True)


read_identity()
# Before any thread is there: only the last lines below take this signal, wherever it arrives.
signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGHUP])

# Both families of addresses where it listens everywhere.
HOSTS = os.environ.get("HOST", "{all}").split()


def listen(host, port, handler):
    class Server(http.server.ThreadingHTTPServer):
        address_family = socket.AF_INET6 if ":" in host else socket.AF_INET

    return Server((host, port), handler)
?redirect 
?redirect 
?redirect class ToHttps(http.server.BaseHTTPRequestHandler):
?redirect     def do_GET(self):
?redirect         name = re.sub(r":\d+$", "", self.headers.get("Host", "{first}"))
?redirect         self.send_response(307)
?redirect         self.send_header("Location", f"https://{name}{at}{self.path}")
?redirect         self.end_headers()
?redirect 
?redirect     do_HEAD = do_POST = do_PUT = do_DELETE = do_GET
?redirect 
?redirect 
?redirect for host in HOSTS:
?redirect     threading.Thread(target=listen(host, {plain}, ToHttps).serve_forever, daemon=True).start()
# What is served: never the directory in which the key lies.
PUBLIC = os.environ.get("PUBLIC", "public")
os.makedirs(PUBLIC, exist_ok=True)
files = functools.partial(http.server.SimpleHTTPRequestHandler, directory=PUBLIC)
for host in HOSTS:
    server = listen(host, {port}, files)
    server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    threading.Thread(target=server.serve_forever, daemon=True).start()
print("https on port {port}", flush=True)
# After a renewal: kill -HUP; open connections stay.
with open("server.pid", "w") as pid:
    pid.write(str(os.getpid()))
while True:
    signal.sigwait([signal.SIGHUP])
    read_identity()
"#,
    },
    steps: &[by_hand(
        "frameworks use the same two files",
        "uvicorn application:app --ssl-certfile {certificate} --ssl-keyfile {key}\nflask run --cert {certificate} --key {key}\ngunicorn --certfile {certificate} --keyfile {key} application:app",
    )],
    unit: "",
    check: "python3 -m py_compile server.py",
    start: "python3 server.py",
    reload: "kill -HUP \"$(cat server.pid)\"",
    notices: false,
    proof: ("what it prints", "certificate read\nhttps on port {port}"),
    faults: &[
        KnownError {
            text: "[SSL: KEY_VALUES_MISMATCH]",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "ssl.SSLError: [SSL] PEM lib",
            code: None,
            why: "one of the files is not PEM, is empty, or its passphrase is wrong",
            remedy: "tamga show FILE says what it is",
        },
        KnownError {
            text: "CERTIFICATE_VERIFY_FAILED … unable to get local issuer certificate",
            code: Some(Code::IssuerUnknown),
            why: "a Python client does not trust the root",
            remedy: "SSL_CERT_FILE or, for requests, REQUESTS_CA_BUNDLE must name a file with the root",
        },
        KnownError {
            text: "CERTIFICATE_VERIFY_FAILED … Hostname mismatch",
            code: Some(Code::NameNotCovered),
            why: "the name that the client asked for is not in the certificate",
            remedy: "tamga renew LABEL --add NAME",
        },
        KnownError {
            text: "Could not find a suitable TLS CA certificate bundle, invalid path",
            code: Some(Code::TrustOverridden),
            why: "REQUESTS_CA_BUNDLE or CURL_CA_BUNDLE names a file that is not there",
            remedy: "unset it, or set it to a file that contains the root",
        },
    ],
    tried: Tried::Run("Python 3.11"),
};
