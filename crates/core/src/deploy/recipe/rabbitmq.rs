//! RabbitMQ, a message broker.

use super::act::look;
use super::template::Quote;
use super::{COMMON, Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "rabbitmq",
    also: &["broker", "amqp"],
    title: "RabbitMQ 3.8 and later, a message broker",
    facts: Facts {
        port: 5671,
        scheme: "",
        keys: COMMON,
        owner: "rabbitmq",
        place: FileLocation::Own("/etc/rabbitmq/tls/{label}"),
        passphrase: "plain text in its configuration (ssl_options.password): better an unencrypted key in a 0600 file",
        ..WEB
    },
    config: Config {
        path: "/etc/rabbitmq/conf.d/50-{label}.conf",
        place: Placement::Whole,
        quote: Quote::Bare,
        text: r"# none closes the port without TLS.
listeners.tcp = none
listeners.ssl.default = {rabbit}{port}
ssl_options.certfile = {certificate}
ssl_options.keyfile = {key}
!clients ssl_options.cacertfile = {root}
!clients ssl_options.verify = verify_none
!clients ssl_options.fail_if_no_peer_cert = false
?clients ssl_options.cacertfile = {clients}
?clients ssl_options.verify = verify_peer
?clients ssl_options.fail_if_no_peer_cert = true
ssl_options.versions.1 = tlsv1.3
!only13 ssl_options.versions.2 = tlsv1.2
",
    },
    steps: &[look(
        "look for other settings: a later file in conf.d takes precedence, and advanced.config over all",
        "{sudo}grep -rn ssl /etc/rabbitmq",
    )],
    unit: "",
    check: "{sudo}rabbitmq-diagnostics check_certificate_expiration",
    start: "{sudo}systemctl restart rabbitmq-server",
    reload: "{sudo}rabbitmqctl eval 'ssl:clear_pem_cache().'",
    notices: false,
    proof: ("/var/log/rabbitmq/rabbit@HOST.log", "started TLS (SSL) listener on … {port}"),
    faults: &[
        KnownError {
            text: "eacces … keyfile",
            code: Some(Code::KeyUnreadableByService),
            why: "the account rabbitmq cannot read the key",
            remedy: "tamga check DIR --account rabbitmq names the obstacle",
        },
        KnownError {
            text: "TLS server: In state … received CLIENT ALERT: Fatal - Unknown CA",
            code: Some(Code::IssuerUnknown),
            why: "a client does not trust the root",
            remedy: "give it root.pem",
        },
        KnownError {
            text: "no_suitable_cipher",
            code: Some(Code::NoCommonCipher),
            why: "the client supports no cipher for this kind of key",
            remedy: "tamga issue NAME --key-algorithm rsa2048 for old clients",
        },
        KnownError {
            text: "TLS server … Handshake Failure - peer_did_not_return_a_certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "the broker requires a client certificate, and the client sent none",
            remedy: "tamga issue NAME --purpose client",
        },
    ],
    tried: Tried::Form("every line was checked to be a setting of its kind"),
};
