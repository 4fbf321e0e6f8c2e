//! uvicorn, for Python's asynchronous applications.

use super::act::by_hand;
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "uvicorn",
    also: &["asgi", "fastapi"],
    title: "uvicorn, for Python's asynchronous applications",
    facts: Facts { port: 8443, owner: "", passphrase: "ssl_keyfile_password, from the environment", ..WEB },
    config: Config {
        path: "serve.py",
        place: Placement::Yours("beside the application"),
        quote: Quote::Inside,
        text: r#"import os, signal, socket, ssl, uvicorn

CERTIFICATE, KEY = "{certificate}", "{key}"
config = uvicorn.Config(
    "application:app", ssl_certfile=CERTIFICATE, ssl_keyfile=KEY,
?clients     ssl_ca_certs="{clients}", ssl_cert_reqs=ssl.CERT_REQUIRED,
)
config.load()
config.ssl.minimum_version = ssl.TLSVersion.TLSv1_{minor}


def again(*_):
    # By itself uvicorn ends at this signal. Connections that are open go on with the old certificate.
    config.ssl.load_cert_chain(CERTIFICATE, KEY)
    print("certificate read again", flush=True)


signal.signal(signal.SIGHUP, again)
with open("serve.pid", "w") as file:
    file.write(str(os.getpid()))
# Both families of addresses where it listens everywhere.
families = {True: socket.AF_INET6, False: socket.AF_INET}
sockets = [socket.create_server((a, {port}), family=families[":" in a], dualstack_ipv6=a == "::") for a in "{all}".split()]
uvicorn.Server(config).run(sockets=sockets)
"#,
    },
    steps: &[by_hand("put a web server in front of it where others than you visit it", "tamga recipe nginx {label}")],
    unit: "",
    check: "python3 -m py_compile serve.py",
    start: "python3 serve.py",
    reload: "kill -HUP \"$(cat serve.pid)\"",
    notices: false,
    proof: ("what it prints", "Application startup complete.\ncertificate read again"),
    faults: &[
        KnownError {
            text: "ssl.SSLError: [X509: KEY_VALUES_MISMATCH] key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "Error loading ASGI app",
            code: None,
            why: "application:app names no module here: the certificate is not the reason",
            remedy: "start it where the application lies, or name yours in serve.py",
        },
    ],
    tried: Tried::Run("uvicorn 0.17"),
};
