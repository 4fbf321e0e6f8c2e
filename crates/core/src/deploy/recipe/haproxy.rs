//! HAProxy.

use super::act::look;
use super::template::Quote;
use super::{Config, Facts, FileLocation, KnownError, LEAF_FIRST, Placement, Recipe, Tried, WEB};
use crate::deploy::export::Form;
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "haproxy",
    also: &[],
    title: "HAProxy 2.2 and later, in front of port 8080",
    facts: Facts {
        form: Form::CombinedPem,
        chain: LEAF_FIRST,
        place: FileLocation::Own("/etc/haproxy/tls"),
        passphrase: "not possible: the key must not be encrypted; only root reads its file",
        ..WEB
    },
    config: Config {
        path: "/etc/haproxy/haproxy.cfg",
        place: Placement::AtEnd,
        quote: Quote::Word,
        text: r"frontend {label}
    mode http
    timeout client 60s
!clients     bind {listen}{port}{comma}{six} ssl crt {store} alpn h2,http/1.1 ssl-min-ver TLSv{minimum}
?clients     bind {listen}{port}{comma}{six} ssl crt {store} alpn h2,http/1.1 ssl-min-ver TLSv{minimum} ca-file {clients} verify required
    http-request set-header X-Forwarded-Proto https
    default_backend {label}-application

backend {label}-application
    mode http
    timeout connect 5s
    timeout server 60s
    server application 127.0.0.1:8080

?redirect frontend {label}-plain
?redirect     mode http
?redirect     timeout client 60s
?redirect     bind {listen}{plain}{comma_plain}{six_plain}
?redirect     http-request set-var(txn.name) str({first})
?redirect     http-request set-var(txn.name) 'req.hdr(host),regsub(:[0-9]+$,)' if { req.hdr(host) -m found }
?redirect     http-request redirect code 307 location https://%[var(txn.name)]{at}%[capture.req.uri]
",
    },
    steps: &[look(
        "find what else binds this port: a bind line with a directory after crt serves its first file to unknown names",
        "{sudo}grep -nE 'bind|crt' /etc/haproxy/haproxy.cfg",
    )],
    unit: "haproxy",
    check: "{sudo}haproxy -c -f /etc/haproxy/haproxy.cfg",
    start: "",
    reload: "{sudo}systemctl reload haproxy",
    notices: true,
    proof: (
        "journalctl -u haproxy (or /var/log/haproxy.log)",
        "[NOTICE] … New worker (…) forked\n[NOTICE] … Loading success",
    ),
    faults: &[
        KnownError {
            text: "inconsistencies between private key and certificate loaded",
            code: Some(Code::KeyMismatch),
            why: "key and certificate in the file do not match",
            remedy: "export the file again: tamga export LABEL --as combined-pem",
        },
        KnownError {
            text: "No Private Key found in",
            code: None,
            why: "the file holds certificates alone; HAProxy wants the key in the same file, or in FILE.key",
            remedy: "tamga export LABEL --as combined-pem",
        },
        KnownError {
            text: "unable to load SSL private key from",
            code: Some(Code::KeyAsksPassphrase),
            why: "the key is encrypted or damaged",
            remedy: "export it without a passphrase, into a file that only root reads",
        },
        KnownError {
            text: "unable to stat SSL certificate from file",
            code: None,
            why: "the path is wrong",
            remedy: "write the recipe again and look at the line that copies the file",
        },
        KnownError {
            text: "Missing LF on last line, file might have been truncated",
            code: None,
            why: "the configuration does not end with a line end",
            remedy: "add one at the end of haproxy.cfg",
        },
        KnownError {
            text: "cannot bind socket (Address already in use)",
            code: None,
            why: "another program holds the port",
            remedy: "ss -ltnp shows which",
        },
        KnownError {
            text: "SSL handshake failure",
            code: None,
            why: "a client closed the connection, most often because it does not trust the root",
            remedy: "tamga check https://HOST says which client and why",
        },
    ],
    tried: Tried::Run("HAProxy 2.6"),
};
