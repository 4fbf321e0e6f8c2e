//! gRPC servers.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "grpc",
    also: &["grpcio"],
    title: "A gRPC server, shown with grpcio for Python",
    facts: Facts { port: 50051, scheme: "", owner: "", passphrase: "not possible: its file is 0600", ..WEB },
    config: Config {
        path: "server.py",
        place: Placement::Yours("in the application's directory"),
        quote: Quote::Inside,
        text: r#"import grpc
from concurrent import futures

CERTIFICATE, KEY = "{certificate}", "{key}"
CLIENTS = None
?clients CLIENTS = "{clients}"


def read(path):
    with open(path, "rb") as file:
        return file.read()


def pair():
    # Asked for each connection: a renewed pair is served without a restart.
    return grpc.ssl_server_certificate_configuration([(read(KEY), read(CERTIFICATE))], CLIENTS and read(CLIENTS))


server = grpc.server(futures.ThreadPoolExecutor(max_workers=16))
credentials = grpc.dynamic_ssl_server_credentials(pair(), pair, require_client_authentication=bool(CLIENTS))
server.add_secure_port("{address}:{port}", credentials)
# Your own: add_..._to_server(…, server)
server.start()
print("grpc on port {port}", flush=True)
server.wait_for_termination()
"#,
    },
    steps: &[
        look(
            "clients of gRPC refuse a certificate with addresses under a root that limits addresses",
            "tamga check {host}:{port} --clients grpc",
        ),
        by_hand(
            "programs connect with the root, and by a name of the certificate",
            "grpc.ssl_channel_credentials(open(\"{root}\", \"rb\").read())",
        ),
    ],
    unit: "",
    check: "python3 -m py_compile server.py",
    start: "python3 server.py",
    reload: "",
    notices: false,
    proof: ("what it prints", "grpc on port {port}"),
    faults: &[
        KnownError {
            text: "Handshake failed with error SSL_ERROR_SSL … PEER_DID_NOT_RETURN_A_CERTIFICATE",
            code: Some(Code::ClientCertificateWanted),
            why: "a client came without a certificate",
            remedy: "give it one: tamga issue NAME --purpose client --issuer AUTHORITY",
        },
        KnownError {
            text: "Invalid cert chain file … Failed to create channel credentials",
            code: None,
            why: "the chain is not PEM, or its file is empty",
            remedy: "tamga show LABEL says where the files are; write the recipe again",
        },
    ],
    tried: Tried::Run("grpcio 1.85"),
};
