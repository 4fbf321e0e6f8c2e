//! Postfix, for mail.

use super::act::{by_hand, run};
use super::template::Quote;
use super::{Config, Facts, KnownError, Placement, Recipe, Tried, WEB};
use crate::finding::Code;

pub(super) const RECIPE: Recipe = Recipe {
    id: "postfix",
    also: &["smtp", "mail"],
    title: "Postfix 3.6 and later: mail in and out",
    facts: Facts {
        port: 25,
        scheme: "smtp",
        chain: "the key, then leaf and intermediates (smtpd_tls_chain_files)",
        passphrase: "not possible: the key must not be encrypted; its file is 0600",
        ..WEB
    },
    config: Config {
        path: "/etc/postfix/main.cf",
        place: Placement::AtEnd,
        quote: Quote::Bare,
        text: r"smtpd_tls_chain_files = {key}, {certificate}
!clients smtpd_tls_security_level = may
?clients # Only clients with a certificate: mail from other servers needs another machine, or these lines in master.cf alone.
?clients smtpd_tls_security_level = encrypt
smtpd_tls_auth_only = yes
smtpd_tls_protocols = >=TLSv{minimum}
smtpd_tls_mandatory_protocols = >=TLSv{minimum}
smtpd_tls_loglevel = 1
?clients smtpd_tls_CAfile = {clients}
?clients smtpd_tls_req_ccert = yes
",
    },
    steps: &[
        run(
            "remove these older settings, which no longer have an effect",
            "{sudo}postconf -X smtpd_tls_cert_file smtpd_tls_key_file smtpd_use_tls",
        ),
        by_hand(
            "in master.cf, for mail programs on ports 587 and 465",
            "submission inet n - y - - smtpd -o smtpd_tls_security_level=encrypt\nsubmissions inet n - y - - smtpd -o smtpd_tls_wrappermode=yes",
        ),
    ],
    unit: "postfix",
    check: "{sudo}postfix check",
    start: "",
    reload: "{sudo}postfix reload",
    notices: false,
    proof: (
        "/var/log/mail.log",
        "postfix/master[…]: reload -- version\npostfix/smtpd[…]: Anonymous TLS connection established from",
    ),
    faults: &[
        KnownError {
            text: "warning: key at index 1 in … does not match next certificate",
            code: Some(Code::KeyMismatch),
            why: "key and certificate do not match, or the certificate comes before the key",
            remedy: "smtpd_tls_chain_files = KEY, CERTIFICATE",
        },
        KnownError {
            text: "cannot load Certification Authority data",
            code: None,
            why: "smtpd_tls_CAfile is not there or not PEM",
            remedy: "remove the line, or set it to the root's file",
        },
        KnownError {
            text: "TLS is required, but was not offered",
            code: Some(Code::TlsOnPlainPort),
            why: "the server has no certificate, so that it offers no STARTTLS",
            remedy: "postconf smtpd_tls_chain_files smtpd_tls_security_level",
        },
    ],
    tried: Tried::Run("Postfix 3.7"),
};
