//! NATS, a message broker.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "nats",
    also: &["nats-server"],
    title: "NATS 2, a message broker",
    facts: Facts {
        port: 4222,
        scheme: "nats",
        owner: "nats",
        place: FileLocation::Own("/etc/nats-tls/{label}"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/nats-server.conf",
        place: Placement::AtEnd,
        quote: Quote::Inside,
        text: r#"host: "{address}"
port: {port}
tls {
  cert_file: "{certificate}"
  key_file: "{key}"
?clients   ca_file: "{clients}"
?clients   verify: true
}
"#,
    },
    steps: &[
        look(
            "of two lines with one setting the last one counts",
            "{sudo}grep -nE 'host|port|tls' /etc/nats-server.conf",
        ),
        by_hand(
            "programs connect with the root, and by a name of the certificate",
            "nats --server tls://{host}:{port} --tlsca {root} rtt",
        ),
    ],
    unit: "nats-server",
    check: "{sudo}nats-server -c /etc/nats-server.conf -t",
    start: "{sudo}systemctl restart nats-server",
    reload: "{sudo}systemctl reload nats-server",
    notices: false,
    proof: ("journalctl -u nats-server", "[INF] TLS required for client connections"),
    faults: &[
        KnownError {
            text: "error parsing X509 certificate/key pair: tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; a running server goes on with the old pair",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "TLS handshake error: remote error: tls: bad certificate",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root",
            remedy: "give the client the root: --tlsca root.pem",
        },
        KnownError {
            text: "TLS handshake error: tls: client didn't provide a certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "a client came without a certificate",
            remedy: "give it one: tamga issue NAME --purpose client --issuer AUTHORITY",
        },
    ],
    tried: Tried::Run("NATS 2.9"),
};
