//! Dovecot, for mailboxes.

use super::act::{by_hand, look};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "dovecot",
    also: &["imap"],
    title: "Dovecot 2.3, IMAP and POP3",
    facts: Facts {
        port: 993,
        scheme: "",
        passphrase: "in a file that root alone reads (ssl_key_password = </path)",
        ..WEB
    },
    config: Config {
        path: "/etc/dovecot/conf.d/99-{label}.conf",
        place: Placement::Whole,
        quote: Quote::Bare,
        text: r"# Dovecot 2.4 calls the files ssl_server_cert_file and ssl_server_key_file.
ssl = required
ssl_cert = <{certificate}
ssl_key = <{key}
?locked ssl_key_password = <{secret}
ssl_min_protocol = TLSv{minimum}
?clients ssl_ca = <{clients}
?clients ssl_verify_client_cert = yes
?clients auth_ssl_require_client_cert = yes
?clients # Without a revocation list in the file above it would refuse every client.
?clients ssl_require_crl = no
?otherport service imap-login {
?otherport   inet_listener imaps {
?otherport     port = {port}
?bound     address = {addresses_comma}
?otherport   }
?otherport }
",
    },
    steps: &[
        look(
            "keep the sign <: it makes dovecot read the file. 10-ssl.conf has the same settings; the later file takes precedence",
            "{sudo}doveconf -n | grep ssl",
        ),
        by_hand(
            "?locked put the passphrase of the key into a file",
            "?locked {sudo}install -m 0600 /dev/null {secret}\n?locked {sudo}\"${EDITOR:-vi}\" {secret}",
        ),
    ],
    unit: "dovecot",
    check: "{sudo}doveconf -n >/dev/null",
    start: "",
    reload: "{sudo}doveadm reload",
    notices: false,
    proof: ("/var/log/mail.log", "master: Warning: SIGHUP received - reloading configuration"),
    faults: &[
        KnownError {
            text: "Can't load SSL certificate (ssl_cert setting)",
            code: None,
            why: "the sign < before the path is missing, or the file is not PEM",
            remedy: "ssl_cert = </path/certificate.pem",
        },
        KnownError {
            text: "Can't load private key file … key values mismatch",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match",
            remedy: "tamga match DIR shows which key matches which certificate",
        },
        KnownError {
            text: "disconnected before auth was ready … SSL alert number 48",
            code: Some(Code::IssuerUnknown),
            why: "the mail program does not trust the root (alert 48: unknown CA)",
            remedy: "trust the root on that device: tamga export ROOT --as mobileconfig for phones",
        },
    ],
    tried: Tried::Run("Dovecot 2.3"),
};
