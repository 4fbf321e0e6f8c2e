//! Prometheus, and the exporters that share its web configuration.

use super::act::{at_end, by_hand};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "prometheus",
    also: &["exporter", "alertmanager"],
    title: "Prometheus 2.24 and later; its exporters take the same web file",
    facts: Facts {
        port: 9090,
        owner: "prometheus",
        place: FileLocation::Own("/etc/prometheus/tls/{label}"),
        passphrase: "not possible: nobody could type it; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/prometheus/web-{label}.yml",
        place: Placement::Whole,
        quote: Quote::Word,
        text: r"# Relative paths would begin at this file.
tls_server_config:
  cert_file: {certificate}
  key_file: {key}
  min_version: TLS1{minor}
?clients   client_auth_type: RequireAndVerifyClientCert
?clients   client_ca_file: {clients}
",
    },
    steps: &[
        at_end(
            "/etc/default/prometheus",
            "in /etc/default/prometheus: a later line takes precedence, so bring the options of the earlier one along",
            "!otherport ARGS=\"--web.config.file=/etc/prometheus/web-{label}.yml\"\n?otherport ARGS=\"--web.config.file=/etc/prometheus/web-{label}.yml --web.listen-address={goaddress}:{port}\"",
        ),
        by_hand(
            "in prometheus.yml, for its own target and for those who read it",
            "scheme: https\ntls_config: { ca_file: {root} }",
        ),
    ],
    unit: "prometheus",
    check: "promtool check web-config /etc/prometheus/web-{label}.yml",
    start: "{sudo}systemctl restart prometheus",
    reload: "",
    notices: false,
    proof: ("journalctl -u prometheus", "TLS is enabled."),
    faults: &[
        KnownError {
            text: "failed to load X509KeyPair: tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it reads them at each connection",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "failed to load X509KeyPair: open … permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account prometheus may not read the key",
            remedy: "tamga check DIR --account prometheus names the obstacle",
        },
    ],
    tried: Tried::Run("Prometheus 2.42"),
};
