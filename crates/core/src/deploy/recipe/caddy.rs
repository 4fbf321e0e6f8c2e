//! Caddy, with a certificate that it is given.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "caddy",
    also: &[],
    title: "Caddy 2, as a web server or proxy, with this certificate",
    facts: Facts {
        owner: "caddy",
        place: FileLocation::Own("/etc/caddy/tls/{label}"),
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/caddy/Caddyfile",
        place: Placement::AtEnd,
        quote: Quote::Word,
        text: r"# Named by its port alone, the site asks nobody else for a certificate.
:{port} {
?bound     bind {addresses}
    tls {certificate} {key} {
        protocols tls1.{minor} tls1.3
?clients         client_auth {
?clients             mode require_and_verify
?clients             trusted_ca_cert_file {clients}
?clients         }
    }
    root * /var/www/html
    file_server
}
?redirect http://:{plain} {
?redirect ?bound     bind {addresses}
?redirect     @named header_regexp host Host ^(\[[^]]+\]|[^:]+)
?redirect     redir @named https://{http.regexp.host.1}{at}{http.request.uri} 307
?redirect     redir https://{first}{at}{http.request.uri} 307
?redirect }
",
    },
    steps: &[
        look("find what else answers on this port", "grep -nE '^[^ #].*[{]' /etc/caddy/Caddyfile"),
        by_hand(
            "?redirect remove the package's own site on port 80",
            "?redirect {sudo}\"${EDITOR:-vi}\" /etc/caddy/Caddyfile",
        ),
    ],
    unit: "caddy",
    check: "{sudo}caddy validate --config /etc/caddy/Caddyfile",
    start: "",
    reload: "{sudo}systemctl reload caddy",
    notices: true,
    proof: ("journalctl -u caddy", "serving initial configuration"),
    faults: &[
        KnownError {
            text: "loading certificates: tls: private key does not match public key",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match; it goes on with the old pair",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "loading certificates: open … permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "the account caddy may not read the key",
            remedy: "tamga check DIR --account caddy names the obstacle",
        },
        KnownError {
            text: "listen tcp :… bind: permission denied",
            code: None,
            why: "ports below 1024 need rights, which its unit gives it",
            remedy: "start it by its unit, or take a port above 1023",
        },
    ],
    tried: Tried::Run("Caddy 2.6"),
};
