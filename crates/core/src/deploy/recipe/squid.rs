//! Squid, as a proxy that is itself reached by TLS.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "squid",
    also: &[],
    title: "Squid 5, a proxy that browsers reach by TLS",
    facts: Facts {
        port: 3129,
        owner: "proxy",
        place: FileLocation::Own("/etc/squid/tls/{label}"),
        passphrase: "from a program (sslpassword_program)",
        ..WEB
    },
    config: Config {
        path: "/etc/squid/conf.d/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Bare,
        text: r"!bound !clients https_port {port} tls-cert={certificate} tls-key={key} tls-min-version={minimum}
?bound !clients https_port {goaddress}:{port} tls-cert={certificate} tls-key={key} tls-min-version={minimum}
!bound ?clients https_port {port} tls-cert={certificate} tls-key={key} tls-min-version={minimum} clientca={clients}
?bound ?clients https_port {goaddress}:{port} tls-cert={certificate} tls-key={key} tls-min-version={minimum} clientca={clients}
?both !clients https_port [::1]:{port} tls-cert={certificate} tls-key={key} tls-min-version={minimum}
?both ?clients https_port [::1]:{port} tls-cert={certificate} tls-key={key} tls-min-version={minimum} clientca={clients}
",
    },
    steps: &[
        look("make sure that it is the package with OpenSSL (squid-openssl)", "{sudo}squid -v"),
        by_hand(
            "browsers take it from a proxy configuration, by a name of the certificate",
            "function FindProxyForURL(url, host) { return \"HTTPS {host}:{port}\"; }",
        ),
    ],
    unit: "squid",
    check: "{sudo}squid -k parse",
    start: "",
    reload: "{sudo}squid -k reconfigure",
    notices: true,
    proof: ("/var/log/squid/cache.log", "Accepting HTTPS Socket connections at"),
    faults: &[
        KnownError {
            text: "Ignoring non-issuer CA",
            code: None,
            why: "the file begins with the server's own certificate, which is no authority: harmless, the chain after it is sent",
            remedy: "nothing: Accepting HTTPS Socket connections is the line that counts",
        },
        KnownError {
            text: "X509_check_private_key() failed",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "FATAL: No valid signing certificate configured for HTTPS_port",
            code: Some(Code::KeyMismatch),
            why: "certificate and key cannot be used together, or one of them cannot be read",
            remedy: "tamga match DIR, then tamga check DIR --account proxy",
        },
        KnownError {
            text: "FATAL: Unknown http(s)_port option",
            code: None,
            why: "this Squid was built without OpenSSL",
            remedy: "apt-get install squid-openssl",
        },
    ],
    tried: Tried::Run("Squid 5.7 with OpenSSL"),
};
