//! nginx.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "nginx",
    also: &[],
    title: "nginx, as a web server or in front of an application",
    facts: Facts {
        passphrase: "in a separate file (ssl_password_file); without it a restart waits for a person",
        ..WEB
    },
    config: Config {
        path: "/etc/nginx/conf.d/{label}.conf",
        place: Placement::Whole,
        quote: Quote::Word,
        text: r#"# From nginx 1.25.1 on write "http2 on;" as a line of its own instead of the word http2.
server {
    listen {listen}{port} ssl http2;
?both     listen [::1]:{port} ssl http2;
!bound     listen [::]:{port} ssl http2;
    server_name {names};
    ssl_certificate {certificate};
    ssl_certificate_key {key};
?locked     ssl_password_file {secret};
!only13     ssl_protocols TLSv1.2 TLSv1.3;
?only13     ssl_protocols TLSv1.3;
?clients     ssl_client_certificate {clients};
?clients     ssl_verify_client on;
?clients     ssl_verify_depth 3;
    root {site};
}
?redirect server {
?redirect     listen {listen}{plain};
?redirect ?both     listen [::1]:{plain};
?redirect !bound     listen [::]:{plain};
?redirect     server_name {names};
?redirect     return 307 https://$host{at}$request_uri;
?redirect }
"#,
    },
    steps: &[
        by_hand(
            "?locked put the passphrase of the key into a file",
            "?locked {sudo}install -m 0600 /dev/null {secret}\n?locked {sudo}\"${EDITOR:-vi}\" {secret}",
        ),
        look(
            "find what else answers to these names or this port: of two servers with one name, the first wins",
            "{sudo}grep -rnE 'server_name|listen .*(443|ssl)|ssl_certificate' /etc/nginx/conf.d /etc/nginx/sites-enabled",
        ),
        by_hand("remove the package's default site if nobody needs it", "{sudo}rm -f /etc/nginx/sites-enabled/default"),
        by_hand(
            "in /etc/nginx/nginx.conf, so that the log shows success too",
            "error_log /var/log/nginx/error.log notice;",
        ),
    ],
    unit: "nginx",
    check: "{sudo}nginx -t",
    start: "",
    reload: "{sudo}nginx -s reload",
    notices: true,
    proof: (
        "/var/log/nginx/error.log, with no [emerg] after it",
        "[notice] … reconfiguring\n[notice] … start worker process",
    ),
    faults: &[
        KnownError {
            text: "key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "the key does not match the first certificate in the file: it is another key, or the issuer comes first",
            remedy: "tamga match DIR shows which key matches which certificate; the leaf must come first",
        },
        KnownError {
            text: "cannot load certificate … No such file",
            code: None,
            why: "the path is wrong, or the directory was moved",
            remedy: "tamga show LABEL says where the files are; write the recipe again",
        },
        KnownError {
            text: "cannot load certificate key … Permission denied",
            code: Some(Code::KeyUnreadableByService),
            why: "nginx was not started as root, or a security module denies it access to that directory",
            remedy: "tamga check DIR --account www-data names the obstacle",
        },
        KnownError {
            text: "Enter PEM pass phrase",
            code: Some(Code::KeyAsksPassphrase),
            why: "the key is encrypted, and nobody can type the passphrase at a restart",
            remedy: "name a file with the passphrase: ssl_password_file",
        },
        KnownError {
            text: "unexpected \"}\" in …",
            code: None,
            why: "the line before lacks its semicolon, or a brace is one too many",
            remedy: "write the file again: tamga recipe nginx LABEL --output FILE",
        },
        KnownError {
            text: "directive \"…\" is not terminated by \";\"",
            code: None,
            why: "a line lacks its semicolon",
            remedy: "write the file again: tamga recipe nginx LABEL --output FILE",
        },
        KnownError {
            text: "unknown directive \"http2\"",
            code: None,
            why: "before nginx 1.25.1 http2 is a word of the listen line and no directive",
            remedy: "write it as in the recipe: listen 443 ssl http2;",
        },
        KnownError {
            text: "conflicting server name",
            code: None,
            why: "a second file has the same name and port; the first one read wins, with its own certificate",
            remedy: "remove the other block, then nginx -t again",
        },
        KnownError {
            text: "no \"ssl_certificate\" is defined",
            code: None,
            why: "a block listens with ssl and has no certificate",
            remedy: "give it one, or remove ssl from its listen line",
        },
        KnownError {
            text: "bind() to … failed (98: Address already in use)",
            code: None,
            why: "another program holds the port",
            remedy: "ss -ltnp shows which",
        },
        KnownError {
            text: "bind() to … failed (13: Permission denied)",
            code: None,
            why: "ports below 1024 need rights",
            remedy: "start it as root, or take a port above 1023",
        },
        KnownError {
            text: "The plain HTTP request was sent to HTTPS port",
            code: Some(Code::PlainHttpOnTlsPort),
            why: "somebody typed http:// with the port of HTTPS",
            remedy: "type https://, or send people there: tamga recipe nginx LABEL --redirect",
        },
    ],
    tried: Tried::Run("nginx 1.22"),
};
