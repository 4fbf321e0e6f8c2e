//! Mosquitto, a broker of MQTT.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "mosquitto",
    also: &["mqtt"],
    title: "Mosquitto 2, a broker of MQTT",
    facts: Facts {
        port: 8883,
        scheme: "mqtts",
        owner: "mosquitto",
        place: FileLocation::Own("/etc/mosquitto/tls/{label}"),
        passphrase: "not possible: a service cannot be asked; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/mosquitto/conf.d/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Bare,
        text: r"!bound listener {port}
?bound listener {port} {address}
certfile {certificate}
keyfile {key}
?only13 tls_version tlsv1.3
?clients cafile {clients}
?clients require_certificate true
?clients # Who a client is, its certificate says: no password besides.
?clients use_identity_as_username true
",
    },
    steps: &[
        look(
            "find other listeners: one without TLS stays open, and a file later in the alphabet adds to this listener",
            "{sudo}grep -rnE 'listener|port|allow_anonymous' /etc/mosquitto",
        ),
        by_hand(
            "!clients since version 2 every client needs a password: create the accounts",
            "!clients {sudo}mosquitto_passwd -c /etc/mosquitto/passwords operator\n!clients echo 'password_file /etc/mosquitto/passwords' | {sudo}tee /etc/mosquitto/conf.d/passwords.conf",
        ),
        by_hand(
            "clients need the root and ask by a name of the certificate",
            "mosquitto_pub --cafile {root} -h {host} -p {port} -t tide -m 1.6",
        ),
    ],
    unit: "mosquitto",
    check: "",
    start: "{sudo}systemctl restart mosquitto",
    reload: "{sudo}systemctl reload mosquitto",
    notices: false,
    proof: (
        "/var/log/mosquitto/mosquitto.log",
        "Opening ipv4 listen socket on port {port}.\nmosquitto version … running",
    ),
    faults: &[
        KnownError {
            text: "Unable to connect (A TLS error occurred",
            code: None,
            why: "the client does not trust the root, connects by another name than the certificate has, or shows no certificate where one is wanted",
            remedy: "mosquitto_sub --cafile root.pem -h NAME, with a name of the certificate; --cert and --key where clients must show one",
        },
        KnownError {
            text: "Error: Unable to load server key file",
            code: None,
            why: "the account mosquitto may not read the key, or it belongs to another certificate: the next line says which",
            remedy: "tamga match DIR; tamga check DIR --account mosquitto",
        },
        KnownError {
            text: "OpenSSL Error[0]: … peer did not return a certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "a client came without a certificate",
            remedy: "give it one: tamga issue NAME --purpose client --issuer AUTHORITY",
        },
        KnownError {
            text: "OpenSSL Error[0]: … tlsv1 alert unknown ca",
            code: Some(Code::IssuerUnknown),
            why: "the client does not trust the root",
            remedy: "give the client the root: --cafile root.pem",
        },
    ],
    tried: Tried::Run("Mosquitto 2.0"),
};
