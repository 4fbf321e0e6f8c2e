//! Redis.

use super::act::{at_end, by_hand};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "redis",
    also: &["valkey"],
    title: "Redis 6 and later",
    facts: Facts {
        port: 6379,
        scheme: "",
        owner: "redis",
        place: FileLocation::Own("/etc/redis/tls/{label}"),
        passphrase: "plain text in its configuration (tls-key-file-pass): better an unencrypted key in a 0600 file",
        ..WEB
    },
    config: Config {
        path: "/etc/redis/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Word,
        text: r#"# port 0 closes the port without TLS.
port 0
tls-port {port}
?bound bind {addresses}
tls-cert-file {certificate}
tls-key-file {key}
tls-ca-cert-file {root}
!only13 tls-protocols "TLSv1.2 TLSv1.3"
?only13 tls-protocols "TLSv1.3"
!clients tls-auth-clients no
?clients tls-auth-clients yes
?clients tls-ca-cert-file {clients}
"#,
    },
    steps: &[
        at_end(
            "/etc/redis/redis.conf",
            "at the end of /etc/redis/redis.conf: a later line takes precedence",
            "include /etc/redis/{label}.conf",
        ),
        by_hand(
            "programs connect with rediss:// and the root",
            "redis-cli --tls --cacert {root} -h {host} -p {port} ping",
        ),
    ],
    unit: "redis-server",
    check: "",
    start: "{sudo}systemctl restart redis-server",
    reload: "?clients {sudo}systemctl restart redis-server\n!clients redis-cli --tls --cacert {root} -h {host} -p {port} CONFIG SET tls-cert-file {certificate} tls-key-file {key} | tee /dev/stderr | grep -qx OK",
    notices: true,
    proof: ("/var/log/redis/redis-server.log", "Ready to accept connections"),
    faults: &[
        KnownError {
            text: "Failed to load certificate",
            code: Some(Code::KeyUnreadableByService),
            why: "the account redis cannot read the certificate, or it is not PEM",
            remedy: "tamga check DIR --account redis names the obstacle",
        },
        KnownError {
            text: "Failed to load private key",
            code: Some(Code::KeyMismatch),
            why: "the key does not match the certificate, is encrypted, or cannot be read",
            remedy: "tamga match DIR, then tamga check DIR --account redis",
        },
        KnownError {
            text: "Failed to configure CA certificate(s) file/directory",
            code: None,
            why: "tls-ca-cert-file is not there or cannot be read",
            remedy: "install root.pem beside the certificate, as in the recipe",
        },
        KnownError {
            text: "Error accepting a client connection: error:0A000416 … certificate unknown",
            code: Some(Code::IssuerUnknown),
            why: "a client rejected the certificate: it does not trust the root",
            remedy: "give it root.pem (redis-cli --cacert)",
        },
        KnownError {
            text: "Error accepting a client connection … wrong version number",
            code: Some(Code::TlsOnPlainPort),
            why: "a client connected to the TLS port without TLS",
            remedy: "connect with rediss:// or --tls",
        },
        KnownError {
            text: "Error accepting a client connection … peer did not return a certificate",
            code: Some(Code::ClientCertificateWanted),
            why: "tls-auth-clients is on by default, and the client sent none",
            remedy: "tls-auth-clients no, or issue one: tamga issue NAME --purpose client",
        },
    ],
    tried: Tried::Run("Redis 7.0"),
};
