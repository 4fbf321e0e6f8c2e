//! A registry of container images, and the daemon that pulls from it.

use super::act::{by_hand, look, run};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const REGISTRY: Recipe = Recipe {
    id: "docker-registry",
    also: &["registry"],
    title: "A registry of container images (distribution)",
    facts: Facts {
        port: 5000,
        owner: "docker-registry",
        place: FileLocation::Own("/etc/docker/registry/tls"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/docker/registry/config.yml",
        place: Placement::Within("section http"),
        quote: Quote::Inside,
        text: r#"version: 0.1
storage:
  filesystem:
    rootdirectory: "/var/lib/docker-registry"
http:
  addr: "{goaddress}:{port}"
  tls:
    certificate: "{certificate}"
    key: "{key}"
    minimumtls: "tls{minimum}"
?clients     clientcas:
?clients       - "{clients}"
"#,
    },
    steps: &[
        by_hand(
            "on every machine that pulls from it: docker looks here, per host and port, without a restart",
            "{sudo}install -D -m 0644 {root} /etc/docker/certs.d/{host}:{port}/ca.crt",
        ),
        look(
            "make sure that insecure-registries no longer names it",
            "{sudo}grep -n insecure-registries /etc/docker/daemon.json",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart docker-registry",
    notices: false,
    proof: ("its log", "listening on … {port}, tls"),
    faults: &[
        KnownError {
            text: "http: server gave HTTP response to HTTPS client",
            code: Some(Code::PlainHttpOnTlsPort),
            why: "the registry speaks plain HTTP: its section http has no tls",
            remedy: "add http.tls, then restart it",
        },
        KnownError {
            text: "tls: failed to verify certificate: x509: certificate signed by unknown authority",
            code: Some(Code::IssuerUnknown),
            why: "docker on this machine does not trust the root for that host and port",
            remedy: "/etc/docker/certs.d/HOST:PORT/ca.crt must be the root",
        },
        KnownError {
            text: "missing client certificate … for CA",
            code: None,
            why: "in certs.d every .cert needs its .key",
            remedy: "name the root ca.crt, not ca.cert",
        },
    ],
    tried: Tried::Form("the file was read by a YAML parser"),
};

pub(super) const DAEMON: Recipe = Recipe {
    id: "docker-daemon",
    also: &["docker", "dockerd"],
    title: "The Docker daemon, reached over TLS by clients with certificates",
    facts: Facts {
        port: 2376,
        scheme: "",
        place: FileLocation::Own("/etc/docker/tls"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/docker/daemon.json",
        place: Placement::Whole,
        quote: Quote::Inside,
        text: r#"{
  "hosts": ["unix:///var/run/docker.sock", "tcp://{listen6}{port}"],
  "tls": true,
  "tlscert": "{certificate}",
  "tlskey": "{key}",
?clients   "tlscacert": "{clients}",
?clients   "tlsverify": true
!clients   "tlsverify": false
}
"#,
    },
    steps: &[
        by_hand(
            "anyone who reaches this port is root on the machine: let in only clients with a certificate",
            "!clients tamga recipe docker-daemon {label} --client-authority LABEL\n?clients tamga issue operator.{first} --purpose client",
        ),
        look("from version 23 on it checks the file", "{sudo}dockerd --validate --config-file /etc/docker/daemon.json"),
        run(
            "remove the hosts from the package's unit: the daemon does not start with both",
            "printf '[Service]\\nExecStart=\\nExecStart=%s\\n' \"$(command -v dockerd)\" | {sudo}install -D -m 0644 /dev/stdin /etc/systemd/system/docker.service.d/10-hosts.conf\n{sudo}systemctl daemon-reload",
        ),
    ],
    unit: "",
    check: "",
    start: "",
    reload: "{sudo}systemctl restart docker",
    notices: false,
    proof: ("journalctl -u docker", "API listen on … {port}"),
    faults: &[
        KnownError {
            text: "the following directives are specified both as a flag and in the configuration file: hosts",
            code: None,
            why: "the unit starts dockerd with -H, and daemon.json has hosts",
            remedy: "systemctl edit docker, and an ExecStart without -H",
        },
        KnownError {
            text: "remote error: tls: bad certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "the client sent no certificate of the authority that the daemon trusts",
            remedy: "DOCKER_CERT_PATH must hold ca.pem, cert.pem and key.pem",
        },
        KnownError {
            text: "could not load X509 key pair",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match, or not readable",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
    ],
    tried: Tried::Form("the file was read by a JSON parser"),
};
